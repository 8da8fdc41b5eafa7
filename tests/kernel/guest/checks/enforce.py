"""A profile that is enforced: against other programs, drivers, processors, sleep, and the boot word."""

import json
import os
import signal
import time
import uuid
from collections.abc import Callable
from functools import partial
from pathlib import Path

from guest import POLICIES, PROCESSORS, SLOWER, USER, Guest, Writer, now

from checks.power import LIMITS, ZONE, give_registers

CPU = "/sys/devices/system/cpu"
ONLINE = f"{CPU}/cpu1/online"
BOOT_ID, COMMAND_LINE = "/proc/sys/kernel/random/boot_id", "/proc/cmdline"
PROFILE = "harbour"
SETTINGS = {
    "sustained": 20.0, "burst": 30.0, "window": 8.0, "limiter": "on", "clamp": "off", "current": 35.0,
    "core-offset": -50.0, "cache-offset": -30.0, "governor": "powersave", "clock-min": 800.0, "clock-max": 1600.0,
}  # fmt: skip
WITHIN_S = 1.5 * SLOWER
"""From a write by another program to its reset, on these slow processors."""
AT_ONCE_S = 6.0 * SLOWER
"""From anything else to the same, where more has to be read first; the routine look comes every 30 s."""
FIGHT_EVERY_S = 0.05
LONGEST_FIGHT_S = 90.0
MOST_WAKINGS = 20
"""Of the service in 20 seconds in which a program fights for what is suspended."""
BEHIND_REGISTERS = ("clamp", "current", "turbo-table", "core-offset", "cache-offset")
"""The kernel tells that a register was written, and not by whom."""
YEAR_S = 365 * 86400.0
VOLTAGES = ("core-offset", "cache-offset")


def prepare(guest: Guest) -> None:
    guest.modules("acpi-cpufreq", "ac", "battery", "thermal", "cpufreq_powersave", "cpufreq_ondemand")
    give_registers(guest)
    guest.load_program()
    guest.start_bus()
    lowered = ",".join(str(int(part) - 100) for part in value(guest, "turbo-table").split(","))
    save(guest, PROFILE, {**SETTINGS, "turbo-table": lowered})
    save(guest, "calm", {"clock-max": 1200.0, "governor": "ondemand"})
    use(guest, PROFILE)


def tidy(guest: Guest) -> None:
    """Leave the profile applied, and nothing of it suspended."""
    guest.write(ONLINE, "1")
    guest.shell("modprobe", "-a", "acpi-cpufreq", "cpufreq_powersave")
    for path in (BOOT_ID, COMMAND_LINE):
        guest.unmount(path)
    use(guest, PROFILE)


def value(guest: Guest, name: str) -> str:
    controls = guest.run("machine", "--json").json()["controls"]
    return str(next(each for each in controls if each["name"] == name)["current"])


def save(guest: Guest, name: str, settings: dict) -> None:
    """Save a profile whose voltages are validated."""
    from upright_bolt.app import open_local, parse_machine
    from upright_bolt.model.profile import Profile, Proof, needs_proof
    from upright_bolt.profiles.text import text_of

    _, engine, _ = open_local(parse_machine("host"), Path("/tmp/looking"), "checks", exclusive=False)
    chip = engine.profiles.planner.chip
    engine.close()
    proofs = {n: Proof(v, chip, 7200.0, 3600.0, (1,), "2026-11-01") for n, v in settings.items() if needs_proof(n, v)}
    guest.write_profile(name, text_of(Profile(name, settings, proofs)))


def use(guest: Guest, name: str) -> None:
    done = guest.run("profile", "use", name)
    assert done.code == 0, done


def log(guest: Guest) -> list[dict]:
    return list(guest.run("hold", "log", "--json").json())


def bits(guest: Guest, nr: int, high: int, low: int) -> int:
    return guest.register(nr) >> low & (1 << high - low + 1) - 1


def files() -> dict[str, tuple[str, str]]:
    """Return of each control that has a file: that file, and what another program writes there."""
    limits = {
        "sustained": ("constraint_0_power_limit_uw", "12000000"), "burst": ("constraint_1_power_limit_uw", "40000000"),
        "window": ("constraint_0_time_window_us", "976"), "limiter": ("enabled", "0"),
    }  # fmt: skip
    clocks = {
        "governor": ("scaling_governor", "ondemand"), "clock-min": ("scaling_min_freq", "1200000"),
        "clock-max": ("scaling_max_freq", "2000000"),
    }  # fmt: skip
    return {
        **{name: (f"{ZONE}/{file}", text) for name, (file, text) in limits.items()},
        **{name: (f"{POLICIES[1]}/{file}", text) for name, (file, text) in clocks.items()},
    }


def registers(guest: Guest) -> dict[str, tuple[int, int, Callable[[], int]]]:
    """Return of each control behind a register: the register, what another program writes, and how to read it."""

    def plane(number: int) -> Callable[[], int]:
        return lambda: guest.planes()[number]

    return {
        "clamp": (0x610, guest.register(0x610) ^ 1 << 16, lambda: bits(guest, 0x610, 16, 16)),
        "current": (0x601, 0x1A0, lambda: bits(guest, 0x601, 12, 0)),
        "turbo-table": (0x1AD, 0x1A1A1A1A, lambda: bits(guest, 0x1AD, 15, 0)),
        "core-offset": (0x150, 1 << 63 | 0x11 << 32, plane(0)),
        "cache-offset": (0x150, 1 << 63 | 2 << 40 | 0x11 << 32, plane(2)),
    }


def every_control(guest: Guest) -> None:
    """What another program writes to any enforced control is reset within a second and a half, and it is named"""
    took = {}
    time.sleep(6.0)  # the first looks after a profile was applied are over
    for name, (path, text) in files().items():
        took[name] = reaction(guest, name, partial(guest.write, path, text), partial(guest.read, path))
    for name, (nr, number, read) in registers(guest).items():
        took[name] = reaction(guest, name, partial(guest.write_register, nr, number), read)
    guest.note(str({name: round(seconds, 2) for name, seconds in took.items()}))
    assert max(took.values()) < WITHIN_S, took


def reaction(guest: Guest, name: str, write: Callable[[], None], read: Callable[[], object]) -> float:
    """Return how long it took until what another program has written was reset."""
    held = read()
    with Writer(write) as writer:
        writer.acted()
        try:
            guest.until(lambda: read() == held, 20.0)
        except AssertionError as fault:
            raise AssertionError(f"{name} is {read()} and not {held}; {log(guest)[-2:]}") from fault
        took = now() - writer.began
        seen = reset_by(guest, name, writer.process)
        assert seen == "", f"{name}, written by process {writer.process}, was reset after {took:.2f} s, but: {seen}"
    return took


def reset_by(guest: Guest, name: str, process: int) -> str:
    """Return what the log has of a control, unless it was reset after a process had written it; then nothing."""
    for _ in range(5):
        entries = [each for each in log(guest) if each["control"] == name]
        unnamed = name in BEHIND_REGISTERS and entries and entries[-1]["cause"] == "another program"
        if unnamed or any(each["kind"] == "reset" and f"(process {process})" in each["who"] for each in entries):
            return ""
        time.sleep(0.5)
    return json.dumps(entries[-2:])


def fight(guest: Guest) -> None:
    """A program that writes a power limit 20 times a second is given up on, named, and then costs nothing"""
    path = f"{ZONE}/constraint_0_power_limit_uw"

    def again_and_again() -> None:
        while True:
            guest.write(path, "12000000")
            time.sleep(FIGHT_EVERY_S)

    service = guest.service_process()
    with Writer(again_and_again) as writer:
        ticks, begun = guest.ticks(service), now()
        time.sleep(20.0)
        fighting = (guest.ticks(service) - ticks) / (now() - begun) * 100.0
        guest.until(lambda: time.sleep(2.0) or guest.run("hold", "--json").json()["resting"], LONGEST_FIGHT_S)
        (resting,) = guest.run("hold", "--json").json()["resting"]
        assert resting["control"] == "sustained"
        assert f"(process {writer.process})" in resting["who"], resting
        time.sleep(8.0)
        wakings, ticks = guest.wakings(service), guest.ticks(service)
        time.sleep(20.0)
        wakings, suspended = guest.wakings(service) - wakings, (guest.ticks(service) - ticks) / 20.0 * 100.0
    # what the bench measures on a real processor is some hundred times as much here
    guest.note(f"{fighting:.2f} % of a processor while it resists; suspended: {suspended:.2f} %, {wakings} wakings")
    assert wakings < MOST_WAKINGS
    assert guest.read(path) == "12000000"


def driver_loaded_anew(guest: Guest) -> None:
    """A scaling driver that is unloaded and loaded is followed at once, and nobody is blamed"""
    time.sleep(6.0)
    guest.shell("rmmod", "acpi-cpufreq")
    time.sleep(3.0)
    status = guest.run("status")
    guest.note(status.out)
    assert not status.said("root")
    guest.shell("modprobe", "acpi-cpufreq")
    took = guest.until(lambda: clocks_held(guest), 20.0)
    entries = log(guest)[-3:]
    guest.note(f"{took:.2f} s; {json.dumps(entries)}")
    assert took < AT_ONCE_S
    assert "firmware" not in json.dumps(entries)


def clocks_held(guest: Guest) -> bool:
    try:
        held = [guest.read(f"{p}/scaling_{file}") for p in POLICIES for file in ("max_freq", "governor")]
    except OSError:
        return False
    return held == ["1600000", "powersave"] * PROCESSORS


def power_driver_bound_anew(guest: Guest) -> None:
    """Power zones that are unbound and bound again are followed at once"""
    driver = "/sys/bus/platform/drivers/intel_rapl_msr"
    guest.write(f"{driver}/unbind", "intel_rapl_msr.0")
    time.sleep(6.0)  # the looks after that are over: what is measured is the answer to one thing
    guest.registers(f"0x610={LIMITS:#x}")
    guest.write(f"{driver}/bind", "intel_rapl_msr.0")
    took = guest.until(lambda: bits(guest, 0x610, 14, 0) == 160, 20.0)
    guest.note(f"{took:.2f} s; {json.dumps(log(guest)[-3:])}")
    assert took < AT_ONCE_S


def processor_comes_back(guest: Guest) -> None:
    """A processor that comes back has what is enforced, and its own value is not blamed on the firmware"""
    use(guest, PROFILE)
    guest.write(ONLINE, "0")
    use(guest, "calm")
    time.sleep(1.0)
    guest.write(ONLINE, "1")
    took = guest.until(lambda: guest.read(f"{POLICIES[1]}/scaling_max_freq") == "1200000", 20.0)
    guest.until(lambda: guest.read(f"{POLICIES[1]}/scaling_governor") == "ondemand", 5.0)
    time.sleep(5.0)
    entries = log(guest)[-3:]
    guest.note(f"{took:.2f} s; {json.dumps(entries)}")
    assert took < AT_ONCE_S
    assert "firmware" not in json.dumps(entries)


def stock_while_offline(guest: Guest) -> None:
    """Stock while a processor is offline, and enforcement turned off: once it is back it has stock"""
    use(guest, PROFILE)
    guest.write(ONLINE, "0")
    for words in (("stock",), ("hold", "off")):
        done = guest.run(*words, user="root")
        assert done.code == 0, done
    guest.write(ONLINE, "1")
    guest.until(lambda: guest.read(f"{POLICIES[1]}/scaling_max_freq") == "2400000", 5.0)
    guest.until(lambda: guest.read(f"{POLICIES[1]}/scaling_governor") == "schedutil", 5.0)
    status = guest.run("status")
    guest.note(status.out)
    assert guest.run("status", "--json").json()["drift"] == []


def set_while_offline(guest: Guest) -> None:
    """What is tried while a processor is offline reaches it once it is back, and is reverted there as well"""
    guest.run("hold", "off")
    guest.run("stock")
    guest.write(ONLINE, "0")
    assert guest.run("set", "clock-max=1.2GHz", user=USER).code == 0
    guest.write(ONLINE, "1")
    guest.until(lambda: guest.read(f"{POLICIES[1]}/scaling_max_freq") == "1200000", 5.0)
    assert guest.run("put-back", user=USER).code == 0
    guest.until(lambda: guest.read(f"{POLICIES[1]}/scaling_max_freq") == "2400000", 5.0)


def clock_set_back(guest: Guest) -> None:
    """A clock that is set back by a year delays no reset, and the records of later times are read"""
    time.sleep(6.0)
    path, text = files()["clock-max"]
    began, real = time.monotonic(), time.clock_gettime(time.CLOCK_REALTIME)
    time.clock_settime(time.CLOCK_REALTIME, real - YEAR_S)
    try:
        for _ in range(2):
            took = reaction(guest, "clock-max", partial(guest.write, path, text), partial(guest.read, path))
            guest.note(f"{took:.2f} s")
            assert took < WITHIN_S
            guest.end_service()
            guest.until(lambda: guest.run("hold", "--json").json()["active"] == PROFILE, 20.0)
            time.sleep(8.0)  # the first looks of a new process are over
    finally:
        time.clock_settime(time.CLOCK_REALTIME, real + time.monotonic() - began)


def governor_missing(guest: Guest) -> None:
    """A profile whose governor the kernel does not have is applied otherwise, and says what is missing"""
    use(guest, "calm")
    guest.shell("rmmod", "cpufreq_powersave")
    done = guest.run("profile", "use", PROFILE)
    guest.note(done.out + done.err)
    guest.until(lambda: guest.read(f"{POLICIES[1]}/scaling_max_freq") == "1600000", 20.0)
    (withheld,) = guest.run("hold", "--json").json()["held_back"]
    guest.note(json.dumps(withheld))
    assert withheld["name"] == "governor"
    assert "powersave" in json.dumps(withheld)
    assert guest.read(f"{POLICIES[1]}/scaling_governor") != "powersave"


def waking(guest: Guest) -> None:
    """The login manager's word of waking has everything looked at, what changed unheard as well"""
    time.sleep(6.0)
    entries = len(log(guest))
    guest.registers(f"0x610={LIMITS:#x}")
    with guest.login_manager() as manager:
        manager.send("PrepareForSleep", False)
        took = guest.until(lambda: bits(guest, 0x610, 14, 0) == 160, 20.0)
    guest.note(f"{took:.2f} s; {json.dumps(log(guest)[entries:])}")
    assert took < 10.0  # the whole profile is applied again; the routine look comes every 30 s
    guest.until(lambda: any(each["cause"] == "wake" for each in log(guest)[entries:]), 5.0)


def slept(guest: Guest) -> None:
    """Sleep for a moment during a trial: what is gone is not kept"""
    guest.run("hold", "off")
    assert guest.run("set", "core-offset=-50mV", user=USER).code == 0
    guest.registers("plane0=0")
    done = guest.run("keep", user=USER)
    guest.note(done.err)
    assert done.code == 1
    assert done.said("core-offset reads 0 mV instead of −50 mV")
    assert guest.run("put-back", user=USER).code == 0


def next_boot(guest: Guest) -> None:
    """Make the machine look as after a restart, of which nobody has told."""
    service = guest.service_process()
    if service:
        os.kill(service, signal.SIGKILL)
        guest.until(lambda: not guest.service_process())
    guest.registers("reset=1")
    for policy in POLICIES:
        for name, text in (("governor", "schedutil"), ("max_freq", "2400000"), ("min_freq", "800000")):
            guest.write(f"{policy}/scaling_{name}", text)
    guest.mount_over(BOOT_ID, str(uuid.uuid4()))


def unclean(guest: Guest) -> None:
    """After a boot that ended uncleanly, right after a profile was applied, no voltage of it is applied"""
    guest.run("stock")
    use(guest, PROFILE)
    assert guest.run("boot", "on").code == 0
    next_boot(guest)
    guest.run("status")
    guest.until(lambda: bits(guest, 0x610, 14, 0) == 160, 20.0)
    status = guest.run("hold", "--json").json()
    guest.note(json.dumps(status["suspects"]))
    assert guest.planes() == [0, 0, 0, 0]
    assert {each["name"] for each in status["held_back"]} >= set(VOLTAGES)
    assert "uncleanly" in status["suspects"]


def boot_word(guest: Guest) -> None:
    """With the boot word on the kernel's command line nothing is applied, and nothing is said to be"""
    assert guest.run("boot", "on").code == 0
    next_boot(guest)
    guest.mount_over(COMMAND_LINE, guest.read(COMMAND_LINE) + " upright-bolt=off")
    guest.run("status")  # it starts the service
    status = guest.run("hold")
    guest.note(status.out + status.err + guest.run("profile", "list").out)
    time.sleep(8.0)
    assert guest.register(0x610) == LIMITS
    assert guest.planes() == [0, 0, 0, 0]
    assert guest.read(f"{POLICIES[0]}/scaling_max_freq") == "2400000"
    assert status.said("upright-bolt=off")
    assert guest.run("hold", "--json").json()["active"] == ""
    assert "in force" not in guest.run("profile", "list").out.replace("values in force", "")
    assert not guest.run("profile", "list").said("active")
    assert guest.run("profile", "use", PROFILE).code != 0


CHECKS = (every_control, fight, driver_loaded_anew, power_driver_bound_anew, processor_comes_back, stock_while_offline,
          set_while_offline, clock_set_back, governor_missing, waking, slept, unclean, boot_word)  # fmt: skip
