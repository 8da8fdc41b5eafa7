"""Clocks, governors, processors that come and go, and caps that the firmware and the kernel's heat control set."""

import json
import os

from guest import POLICIES, PROCESSORS, USER, Guest, now

CPU = "/sys/devices/system/cpu"
ONLINE = f"{CPU}/cpu1/online"
STEPS = (800, 1200, 1600, 2000, 2400)


def prepare(guest: Guest) -> None:
    guest.modules("acpi-cpufreq", "ac", "battery", "thermal", "msr", "cpufreq_powersave", "cpufreq_ondemand")
    guest.load_program()
    guest.start_bus()
    guest.run("status", user=USER)  # the bus starts the service


def tidy(guest: Guest) -> None:
    """Leave the machine as it was before a check, whatever became of it."""
    guest.write(ONLINE, "1")
    guest.hardware(clock_cap=0, tenths_of_kelvin=3182)
    for user in ("root", USER):
        guest.run("put-back", user=user)
    for policy in POLICIES:
        for name, text in (("governor", "schedutil"), ("max_freq", "2400000"), ("min_freq", "800000")):
            guest.write(f"{policy}/scaling_{name}", text)


def held(guest: Guest, end: str = "max") -> list[int]:
    """Return the bound of each processor in MHz."""
    return [int(guest.read(f"{policy}/scaling_{end}_freq")) // 1000 for policy in POLICIES]


def come_to(guest: Guest, mhz: int, end: str = "max") -> None:
    guest.until(lambda: held(guest, end) == [mhz] * PROCESSORS, 3.0)


def control(guest: Guest, name: str, user: str = "root") -> dict:
    controls = guest.run("machine", "--json", user=user).json()["controls"]
    return next(c for c in controls if c["name"] == name)


def describes(guest: Guest) -> None:
    """The machine is described as the kernel has it, and what is not there is named"""
    done = guest.run("machine", "--json")
    told = done.json()
    guest.note(guest.run("machine").out)
    assert told["machine"]["driver"] == "acpi-cpufreq"
    assert not told["machine"]["virtual"]
    by_name = {c["name"]: c for c in told["controls"]}
    governors = guest.read(f"{POLICIES[0]}/scaling_available_governors").split()
    assert by_name["governor"]["choices"] == governors
    top = by_name["clock-max"]
    assert (top["min"], top["max"], top["current"]) == (800.0, 2400.0, 2400.0)
    assert tuple(top["steps"]) == STEPS
    sensors = {s["name"] for s in told["sensors"]}
    assert {"charger", "battery.charge", "battery.drain", "clock.cpu0", "clock.cpu1"} <= sensors
    assert "temperature.acpitz" in sensors
    for name in ("sustained", "burst", "turbo", "epp", "platform-mode", "core-offset"):
        assert by_name[name]["state"] == "absent", by_name[name]
        assert by_name[name]["reason"]
    assert not any("virtual" in (c["reason_code"] or "") for c in told["controls"])


def other_vendor(guest: Guest) -> None:
    """On another vendor's processor no register is believed, set or offered"""
    told = guest.run("machine", "--json").json()
    for c in told["controls"]:
        if c["name"] in ("hot-signal", "clamp", "turbo-table", "current", "core-offset"):
            assert c["state"] == "absent", c
    sensors = {s["name"] for s in told["sensors"]}
    assert not {s for s in sensors if s.startswith("limit.") or s == "voltage.core"}, sensors


def every_order(guest: Guest) -> None:
    """Lowest and highest clock, set in every order and across each other, by root and by a user"""
    orders = ((800, 1200), (1600, 2400), (800, 800), (2400, 2400), (1200, 1600), (2000, 2000), (800, 2400))
    for user, these in (("root", orders), (USER, orders[:2])):
        for low, high in these:
            done = guest.run("set", f"clock-min={low}MHz", f"clock-max={high}MHz", user=user)
            assert done.code == 0, (low, high, done)
            assert (held(guest, "min"), held(guest)) == ([low] * PROCESSORS, [high] * PROCESSORS)
        for high, low in these[::-1]:
            done = guest.run("set", f"clock-max={max(high, low)}MHz", f"clock-min={min(high, low)}MHz", user=user)
            assert done.code == 0, (low, high, done)
        done = guest.run("put-back", user=user)
        assert done.code == 0, done
        assert (held(guest, "min"), held(guest)) == ([800] * PROCESSORS, [2400] * PROCESSORS)
    crossed = guest.run("set", "clock-min=2GHz", "clock-max=1.2GHz")
    guest.note(crossed.err)
    assert crossed.code == 2


def between_steps(guest: Guest) -> None:
    """A clock between two steps, and one beyond the range: what was got, and why"""
    for user in ("root", USER):
        done = guest.run("set", "clock-max=1.5GHz", user=user)
        guest.note(done.out + done.err)
        assert done.code == 0
        assert held(guest) == [1200] * PROCESSORS
        assert done.said("1.20 GHz", "1.50 GHz", "step")
        assert not done.said("firmware")
        done = guest.run("set", "clock-min=900MHz", user=user)
        guest.note(done.out + done.err)
        assert done.code == 0
        assert held(guest, "min") == [1200] * PROCESSORS
        assert guest.run("put-back", user=user).code == 0
        done = guest.run("set", "clock-max=2401MHz", user=user)
        guest.note(done.out + done.err)
        assert done.code == 2
        assert not done.said("2.40 GHz is outside")
        assert guest.run("set", "clock-max=9GHz", user=user).code == 2
        assert held(guest) == [2400] * PROCESSORS


def governor(guest: Guest) -> None:
    """A governor by its name, and a wrong name"""
    for user in ("root", USER):
        assert guest.run("set", "governor=powersave", user=user).code == 0
        assert guest.read(f"{POLICIES[1]}/scaling_governor") == "powersave"
        done = guest.run("set", "governor=nonsense", user=user)
        guest.note(done.err)
        assert done.code == 2
        assert done.said("nonsense", "schedutil")
        assert guest.run("put-back", user=user).code == 0
        assert guest.read(f"{POLICIES[1]}/scaling_governor") == "schedutil"


def offline_in_a_trial(guest: Guest) -> None:
    """A processor taken offline and back during a trial: all goes on, and everything is put back"""
    for user in ("root", USER):
        assert guest.run("set", "clock-max=1.6GHz", "governor=powersave", user=user).code == 0
        guest.write(ONLINE, "0")
        status = guest.run("status", user=user)
        guest.note(status.out)
        assert status.code == 0
        assert not status.said("another program")
        assert control(guest, "clock-max", user)["state"] == "settable"
        assert control(guest, "governor", user)["current"] == "powersave"
        assert guest.run("set", "clock-max=1.2GHz", user=user).code == 0
        guest.write(ONLINE, "1")
        status = guest.run("status", user=user)
        guest.note(status.out)
        done = guest.run("put-back", user=user)
        assert done.code == 0, done
        come_to(guest, 2400)
        assert guest.read(f"{POLICIES[1]}/scaling_governor") == "schedutil"


def put_back_offline(guest: Guest) -> None:
    """Put back while a processor is offline: once it is back it has what the owner had"""
    for user in ("root", USER):
        assert guest.run("set", "clock-max=1.6GHz", "governor=powersave", user=user).code == 0
        guest.write(ONLINE, "0")
        done = guest.run("put-back", user=user)
        guest.note(done.out + done.err)
        assert done.code == 0
        guest.write(ONLINE, "1")
        guest.note(f"{held(guest)} {guest.read(f'{POLICIES[1]}/scaling_governor')}")
        if user == USER:
            guest.until(lambda: held(guest) == [2400] * PROCESSORS, 5.0)
            guest.until(lambda: guest.read(f"{POLICIES[1]}/scaling_governor") == "schedutil", 5.0)
        else:  # nobody is there to see it come back; the next command does
            status = guest.run("status", user=user)
            guest.note(status.out)
            come_to(guest, 2400)


def capped_in_a_trial(guest: Guest) -> None:
    """The firmware lowers the highest clock during a trial: named, and put back rightly afterwards"""
    for user in ("root", USER):
        assert guest.run("set", "clock-max=2GHz", user=user).code == 0
        guest.hardware(clock_cap=3)
        come_to(guest, 1200)
        status = guest.run("status", user=user)
        guest.note(status.out)
        assert status.said("firmware", "1.20 GHz")
        assert not status.said("another program")
        done = guest.run("put-back", user=user)
        guest.note(done.out + done.err)
        assert done.code == 0
        guest.hardware(clock_cap=0)
        come_to(guest, 2400)


def trial_under_a_cap(guest: Guest) -> None:
    """A trial begun under a cap of the firmware does not freeze it in"""
    for user in ("root", USER):
        guest.hardware(clock_cap=2)
        come_to(guest, 1600)
        top = control(guest, "clock-max", user)
        guest.note(json.dumps(top))
        assert top["max"] == 2400.0
        done = guest.run("set", "clock-max=2GHz", user=user)
        guest.note(done.out + done.err)
        assert done.code == 0
        assert done.said("firmware", "1.60 GHz")
        done = guest.run("put-back", user=user)
        assert done.code == 0, done
        guest.hardware(clock_cap=0)
        come_to(guest, 2400)


def capped_by_heat(guest: Guest) -> None:
    """The kernel's own heat control lowers the highest clock: named, and not frozen in"""
    if not int(guest.read("/sys/class/thermal/cooling_device0/max_state")):
        for cpu in range(PROCESSORS):  # this kernel counts the clocks it may take away when it meets a processor
            for word in ("unbind", "bind"):
                guest.write(f"/sys/bus/cpu/drivers/processor/{word}", f"cpu{cpu}")
    guest.hardware(tenths_of_kelvin=3700)
    guest.until(lambda: held(guest)[0] < 2400, 20.0)
    guest.note(f"{held(guest)}")
    done = guest.run("set", "clock-max=2GHz")
    guest.note(done.out + done.err)
    assert done.code == 0
    assert done.said("heat")
    assert guest.run("put-back").code == 0
    guest.hardware(tenths_of_kelvin=3182)
    guest.until(lambda: held(guest) == [2400] * PROCESSORS, 30.0)


def under_load(guest: Guest) -> None:
    """With every processor busy, settings that take effect a moment later are not called refused"""
    busy = []
    for cpu in range(PROCESSORS):
        process = os.fork()
        if process == 0:
            os.sched_setaffinity(0, {cpu})
            while True:
                pass
        busy.append(process)
    from upright_bolt.app import open_session

    try:
        before = len(busy)
        took = []
        session = open_session("host", None, "checks", exclusive=True)
        for turn in range(20):
            begun = now()
            report = session.try_settings(
                {"clock-max": float(STEPS[turn % 5]), "governor": "powersave"}, standing=False
            )
            took.append(now() - begun)
            assert report.ok, (turn, report)
            assert held(guest) == [STEPS[turn % 5]] * PROCESSORS
            if turn % 4 == 3:
                session.revert()
                assert held(guest) == [2400] * PROCESSORS
        session.close()
        guest.note(f"{before} loads, a setting took {max(took):.3f} s at most")
    finally:
        for process in busy:
            os.kill(process, 9)
            os.waitpid(process, 0)


def no_rights(guest: Guest) -> None:
    """A caller without rights is told the truth about what root does, and about the service"""
    assert guest.run("set", "clock-max=1.6GHz").code == 0
    done = guest.run("status", user="nobody")
    guest.note(done.out + done.err)
    assert not done.said("No trial")
    done = guest.run("set", "clock-max=1.2GHz", user="nobody")
    guest.note(done.out + done.err)
    assert done.code != 0
    assert not done.said("install the root service")
    assert guest.run("put-back").code == 0


CHECKS = (describes, other_vendor, every_order, between_steps, governor, offline_in_a_trial, put_back_offline,
          capped_in_a_trial, trial_under_a_cap, capped_by_heat, under_load, no_rights)  # fmt: skip
