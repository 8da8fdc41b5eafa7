"""Power limits, registers and voltages through the kernel's own powercap zones and register device, and sleep."""

import json
from contextlib import suppress
from pathlib import Path

from guest import USER, Guest, now

ZONE = "/sys/class/powercap/intel-rapl:0"
DRIVER = "/sys/bus/platform/drivers/intel_rapl_msr"
ALLOW_WRITES = "/sys/module/msr/parameters/allow_writes"
LOCKDOWN = "/sys/kernel/security/lockdown"
LIMITS = 0x0042816000DD80E0
"""Sustained 28 W over 28 s, enforced and clamping; burst 44 W, enforced and not clamping."""
FIRST = (
    f"0x606=0xA0E03 0x610={LIMITS:#x} 0x614=0x00000000012000F0 0x1a2=0x640000 0x1fc=0x2904005b 0x1ad=0x1e1f2021 "
    "0xce=0x804043df1011800 0x601=0x140 0x64f=0 0x1b1=0 0x198=0x1a0000000000 0x639=0 0x611=0 0x638=0 0x640=0 "
    "0x648=0x18 mbox=ok tick=0x611 rate=40000 ro=0x606 ro=0x614 first=1"
)
PLANES = ("core-offset", "gpu-offset", "cache-offset")


def give_registers(guest: Guest) -> None:
    """Give the processor registers, and have the kernel's power limits look for theirs anew."""
    guest.modules("msr", "intel_rapl_msr")
    guest.shell("insmod", "/rig/registers.ko")
    guest.registers(FIRST)
    with suppress(OSError):  # it is not bound where its first look found nothing
        guest.write(f"{DRIVER}/unbind", "intel_rapl_msr.0")
    guest.write(f"{DRIVER}/bind", "intel_rapl_msr.0")


def prepare(guest: Guest) -> None:
    guest.modules("acpi-cpufreq", "ac", "battery", "thermal")
    guest.load_program()


def tidy(guest: Guest) -> None:
    """Leave registers and settings as they were before a check, whatever became of it."""
    if Path("/dev/cpu/0/msr").exists():
        for nr in ("0x610", "0x150", "0x611"):
            guest.registers(f"plain={nr}")
        guest.registers("tick=0x611 mbox=ok rate=40000")
    for user in ("root", USER):
        guest.run("put-back", user=user)
    if Path("/dev/cpu/0/msr").exists():
        guest.registers("reset=1")


def machine(guest: Guest, user: str = "root") -> dict:
    told = guest.run("machine", "--json", user=user).json()
    return {"missing": {m["what"]: m for m in told["missing"]}, **{c["name"]: c for c in told["controls"]}, "all": told}


def micro(guest: Guest, name: str) -> float:
    return int(guest.read(f"{ZONE}/{name}")) / 1e6


def without_module(guest: Guest) -> None:
    """Without the register module: told apart, and what needs it is absent"""
    told = machine(guest)
    guest.note(json.dumps(told["missing"].get("core voltage and live limit bits")))
    guest.note(json.dumps(told["core-offset"]))
    assert "modprobe msr" in told["core-offset"]["reason"]
    assert told["core-offset"]["state"] == told["sustained"]["state"] == "absent"


def module_loaded(guest: Guest) -> None:
    """Once the modules are there: zones, limits, bits and offsets as the kernel has them"""
    give_registers(guest)
    guest.start_bus()
    guest.note(guest.shell("ls", "/sys/class/powercap"))
    told = machine(guest)
    guest.note(guest.run("machine").out)
    for name in ("sustained", "burst", "window", "limiter", "clamp", "current", "turbo-table", "hot-signal", *PLANES):
        assert told[name]["state"] == "settable", told[name]
    assert told["sustained"]["current"] == 28.0
    assert told["burst"]["current"] == 44.0
    assert told["limiter"]["current"] == "on"
    sensors = {s["name"] for s in told["all"]["sensors"]}
    assert {"power.package", "voltage.core", "limit.sustained"} <= sensors


def limits(guest: Guest) -> None:
    """Sustained, burst and window, with the kernel's rounding; the range stays as it is when the burst limit falls"""
    for user in ("root", USER):
        before = machine(guest, user)["sustained"]
        done = guest.run("set", "sustained=15.1W", "burst=20W", "window=8s", user=user)
        guest.note(done.out + done.err)
        assert done.code == 0, done
        guest.note(
            f"{[micro(guest, f'constraint_{k}') for k in ('0_power_limit_uw', '1_power_limit_uw', '0_time_window_us')]}"
        )
        assert micro(guest, "constraint_0_power_limit_uw") <= 15.1
        assert done.said("15")
        assert "Kept as 8 s" not in done.out
        after = machine(guest, user)["sustained"]
        assert (before["min"], before["max"]) == (after["min"], after["max"])
        assert guest.run("put-back", user=user).code == 0
        assert guest.register(0x610) == LIMITS, hex(guest.register(0x610))


def limiter_coupled(guest: Guest) -> None:
    """Limits switched off and put back: the whole register is as before"""
    patterns = (LIMITS, LIMITS & ~(1 << 16), LIMITS & ~(1 << 47), LIMITS & ~(1 << 15) | 1 << 48)
    for user, these in (("root", patterns), (USER, patterns[-1:])):
        for bits in these:
            guest.registers(f"0x610={bits:#x}")
            told = machine(guest, user)["limiter"]
            guest.note(f"{bits:#x}: {told['current']} {told['reason']}")
            assert told["current"] == "on"
            done = guest.run("set", "limiter=off", user=user)
            assert done.code == 0, done
            assert guest.register(0x610) & (1 << 15 | 1 << 47) == 0
            assert machine(guest, user)["limiter"]["current"] == "off"
            done = guest.run("put-back", user=user)
            assert done.code == 0, done
            assert guest.register(0x610) == bits, (hex(guest.register(0x610)), hex(bits))


def energy(guest: Guest) -> None:
    """The energy counter becomes watts, over its wrap as well"""
    span = int(guest.read(f"{ZONE}/max_energy_range_uj"))
    guest.note(f"span {span} µJ, now {guest.read(f'{ZONE}/energy_uj')}")
    # 2^32 units of 1/16384 J; begin shortly before the end of the counter
    rate, hertz = 40000, 250
    done = guest.run("sample", "--json", "--interval", "1s", "--count", "3")
    guest.note(done.out[:600] + done.err)
    now = guest.register(0x611)
    guest.registers(f"0x611={(2**32 - now - 3 * rate * hertz) % 2**32:#x}")
    watts = [json.loads(line)["values"].get("power.package") for line in
             guest.run("sample", "--json", "--interval", "1s", "--count", "7").out.splitlines()]  # fmt: skip
    guest.note(f"{watts}")
    known = [w for w in watts if w is not None]
    assert len(known) >= 5
    expected = rate * hertz / 16384
    assert all(abs(w - expected) < 0.1 * expected for w in known), (watts, expected)


def refusals(guest: Guest) -> None:
    """A register that refuses, one that ignores, a lock and a change behind our back: each told apart in words"""
    said = {}
    for user in ("root", USER):
        guest.registers("ro=0x610")
        done = guest.run("set", "sustained=15W", user=user)
        said["refuses"] = done.err
        assert done.code == 1
        guest.registers("silent=0x610")
        done = guest.run("set", "sustained=15W", user=user)
        said["ignores"] = done.err
        assert done.code == 1
        guest.registers(f"plain=0x610 0x610={LIMITS | 1 << 63:#x}")
        told = machine(guest, user)["sustained"]
        said["locked"] = told["reason"]
        assert told["state"] == "locked"
        assert guest.run("set", "sustained=15W", user=user).code == 1
        guest.registers(f"0x610={LIMITS:#x}")
        assert guest.run("set", "sustained=15W", user=user).code == 0
        guest.registers(f"0x610={LIMITS & ~0x7FFF | 12 * 8:#x}")
        status = guest.run("status", user=user)
        said["changed"] = status.out
        assert status.said("15 W", "12 W")
        for what, words in said.items():
            guest.note(f"{what}: {words}")
        assert len(set(said.values())) == len(said)
        assert guest.run("put-back", user=user).code == 0


def offsets(guest: Guest) -> None:
    """Voltage offsets per plane: set, read back, refused, ignored, half taken, slow and dead, each told apart"""
    cases = {"ok": 0, "slow": 0, "refuse": 1, "silent": 1, "half": 1, "dead": 1}
    for user in ("root", USER):
        said = {}
        for behaviour, code in cases.items():
            guest.registers(f"mbox={behaviour}")
            begun = now()
            done = guest.run("set", "core-offset=-50mV", "cache-offset=-30mV", user=user)
            guest.note(f"{behaviour}: {now() - begun:.1f} s, {done.code} {done.out.splitlines()[-1:]} {done.err}")
            assert done.code == code, (behaviour, done)
            said[behaviour] = done.err
            guest.registers("mbox=ok")
            state = guest.planes()
            assert state == ([-51, 0, -31, 0] if code == 0 else [0, 0, 0, 0]), (behaviour, state)
            guest.run("put-back", user=user)
            assert guest.planes() == [0, 0, 0, 0], behaviour
        assert len({said[b] for b in ("refuse", "silent", "half", "dead")}) == 4, said


def dead_mailbox(guest: Guest) -> None:
    """A mailbox that dies during a trial: what cannot be read is not said to be in force"""
    assert guest.run("set", "core-offset=-50mV").code == 0
    guest.registers("mbox=dead")
    status = guest.run("status")
    guest.note(status.out)
    assert not status.said("not measured is in force")
    assert status.said("cannot be read")
    guest.registers("mbox=ok")


def sleep(guest: Guest) -> None:
    """Suspend to RAM and wake: what is gone is told, and that the machine slept"""
    assert guest.run("set", "sustained=15W", "core-offset=-50mV", "clock-max=1.6GHz", user=USER).code == 0
    guest.suspend()
    status = guest.run("status", user=USER)
    guest.note(status.out)
    assert status.said("slept")
    assert not status.said("another program")
    assert status.said("sustained", "core-offset")
    done = guest.run("put-back", user=USER)
    guest.note(done.out + done.err)
    assert done.code == 0
    assert guest.register(0x610) == LIMITS


def unknown_register(guest: Guest) -> None:
    """An unknown register is told apart from one that is closed"""
    guest.end_service()
    guest.registers("gp=0x150 gp=0x601")
    told = machine(guest)
    guest.note(json.dumps([told["core-offset"], told["current"]]))
    assert told["core-offset"]["state"] == "absent"
    assert "no voltage mailbox" in told["core-offset"]["reason"]
    assert told["current"]["state"] == "absent"
    guest.registers("plain=0x150 plain=0x601")
    guest.end_service()


def writes_off(guest: Guest) -> None:
    """With msr.allow_writes=off registers are read and not said to be settable"""
    guest.write(ALLOW_WRITES, "off")
    told = machine(guest)
    for name in ("current", "hot-signal", "turbo-table", "clamp"):
        assert told[name]["state"] == "read-only", told[name]
        assert "allow_writes" in told[name]["reason"]
    assert told["core-offset"]["state"] != "settable"
    assert "allow_writes" in told["core-offset"]["reason"]
    guest.note(json.dumps(told["core-offset"]))
    assert told["sustained"]["state"] == "settable"
    assert guest.run("set", "sustained=15W").code == 0
    assert guest.run("put-back").code == 0
    guest.write(ALLOW_WRITES, "on")


def lockdown(guest: Guest) -> None:
    """Under kernel lockdown, raised while the machine runs: named, and nothing behind a register offered"""
    guest.write(LOCKDOWN, "integrity")
    for user in ("root", USER):
        told = machine(guest, user)
        for name in ("current", "hot-signal", "turbo-table", "clamp"):
            assert told[name]["state"] == "read-only", told[name]
            assert "lockdown" in told[name]["reason"]
        assert told["core-offset"]["state"] != "settable"
        assert "lockdown" in told["core-offset"]["reason"], told["core-offset"]
        done = guest.run("set", "core-offset=-20mV", user=user)
        guest.note(done.err)
        assert done.code == 1
        assert done.said("lockdown")


CHECKS = (without_module, module_loaded, limits, limiter_coupled, energy, refusals, offsets, dead_mailbox,
          unknown_register, sleep, writes_off, lockdown)  # fmt: skip
