"""The whole chain with systemd as the first process: units and files of the bus and polkit as they are installed."""

import json
import time
from pathlib import Path

from guest import USER, Guest

from checks.enforce import AT_ONCE_S
from checks.power import LIMITS, give_registers

POLICY = "/sys/devices/system/cpu/cpufreq/policy0"
UNIT, AT_BOOT = "upright-bolt.service", "upright-bolt-boot.service"
PROFILE = 'format = "upright-bolt profile"\nversion = 1\n\n[settings]\nclock_max_mhz = 1600.0\nsustained_w = 20.0\n'


def prepare(guest: Guest) -> None:
    guest.note(guest.shell("sh", "-c", f"systemctl is-system-running; systemctl status {AT_BOOT} --no-pager; true"))
    guest.modules("acpi-cpufreq", "ac", "battery", "thermal")
    give_registers(guest)
    guest.load_program(record=True)


def tidy(guest: Guest) -> None:
    for user in ("root", USER):
        guest.run("put-back", user=user)


def unit(guest: Guest, name: str, what: str) -> str:
    return guest.shell("systemctl", "show", name, f"--property={what}", "--value").strip()


def at_boot_did_nothing(guest: Guest) -> None:
    """Unless “boot on” was said, the unit that begins with the machine has done nothing"""
    guest.note(f"{AT_BOOT}: {unit(guest, AT_BOOT, 'ActiveState')}, condition {unit(guest, AT_BOOT, 'ConditionResult')}")
    assert unit(guest, AT_BOOT, "ConditionResult") == "no"
    assert unit(guest, AT_BOOT, "ActiveState") == "inactive"


def chain(guest: Guest) -> None:
    """A trial through user, service, polkit and kernel file, under all that the unit forbids"""
    done = guest.run("set", "clock-max=1.6GHz", "sustained=15W", "core-offset=-50mV", user=USER, within_s=240.0)
    guest.note(done.out + done.err)
    assert done.code == 0
    assert guest.read(f"{POLICY}/scaling_max_freq") == "1600000"
    assert guest.planes()[0] == -51
    assert unit(guest, UNIT, "ActiveState") == "active"
    guest.note(guest.shell("sh", "-c", f"journalctl -u {UNIT} --no-pager -o cat | tail -20; true"))
    assert guest.run("put-back", user=USER).code == 0
    assert guest.register(0x610) == LIMITS
    assert guest.planes() == [0, 0, 0, 0]
    assert guest.read(f"{POLICY}/scaling_max_freq") == "2400000"
    refused = guest.run("set", "clock-max=1.6GHz", user="nobody")
    guest.note(refused.err)
    assert refused.code != 0


def held_through_sleep(guest: Guest) -> None:
    """What is held is in force two seconds after waking, by the login manager's word"""
    guest.write("/tmp/quiet.toml", PROFILE)
    for words in (("profile", "import", "/tmp/quiet.toml"), ("profile", "use", "quiet")):
        done = guest.run(*words, within_s=240.0)
        guest.note(done.out + done.err)
        assert done.code == 0
    assert guest.register(0x610) & 0x7FFF == 160
    guest.line.tell(what="sleeps")
    asleep = time.clock_gettime(time.CLOCK_BOOTTIME) - time.monotonic()
    guest.shell("busctl", "call", "org.freedesktop.login1", "/org/freedesktop/login1",
                "org.freedesktop.login1.Manager", "Suspend", "b", "false")  # fmt: skip
    guest.until(lambda: time.clock_gettime(time.CLOCK_BOOTTIME) - time.monotonic() > asleep + 0.5, 60.0)
    on_waking = guest.register(0x610) & 0x7FFF
    took = guest.until(lambda: guest.register(0x610) & 0x7FFF == 160, 20.0)
    written = guest.until(lambda: "in force, again after sleep" in guest.run("hold", "log").out, 60.0)
    log = guest.run("hold", "log").out
    told = "PM: suspend exit|again after sleep"
    guest.note(guest.shell("sh", "-c", f"journalctl -o short-monotonic --no-pager | grep -E '{told}'"))
    guest.note(
        f"{on_waking / 8} W on waking, in force again {took:.2f} s after it, written down {written:.0f} s; {log}"
    )
    assert took < 2.0


def upgraded_while_it_runs(guest: Guest) -> None:
    """The package's scripts, in the middle of enforcement: another process goes on with it, and no value moves"""
    limits, before = guest.register(0x610), unit(guest, UNIT, "MainPID")
    assert limits & 0x7FFF == 160, "the profile of the check before is not applied"
    tools = Path("/tmp/tools")
    tools.mkdir(exist_ok=True)
    for name in ("py3compile", "py3clean"):  # they make and remove compiled files alone
        (tools / name).write_text("#!/bin/sh\n")
        (tools / name).chmod(0o755)
    seen = set()
    for script, word in (("prerm", "upgrade"), ("postrm", "upgrade"), ("postinst", "configure")):
        guest.shell("env", f"PATH={tools}:/usr/bin:/usr/sbin", "sh", f"/program/debian/{script}", word, "0.1.0")
        seen.add(guest.register(0x610))
    guest.until(lambda: unit(guest, UNIT, "MainPID") not in (before, "0"), 60.0)
    assert seen == {limits}
    assert unit(guest, UNIT, "Result") == "success"
    guest.note(guest.run("status").out)
    time.sleep(6.0)  # the new process's first looks are over
    guest.write_register(0x610, limits & ~0x7FFF | 120)
    took = guest.until(lambda: guest.register(0x610) == limits, 60.0)
    guest.note(f"enforced again {took:.2f} s after a foreign write; {guest.run('hold', 'log').out}")
    assert took < AT_ONCE_S


def begins_with_the_machine(guest: Guest) -> None:
    """With “boot on” the unit of the installation puts the profile in force"""
    done = guest.run("boot", "on")
    guest.note(done.out + done.err)
    assert done.code == 0
    guest.shell("systemctl", "stop", UNIT)
    guest.registers("reset=1")
    guest.shell("systemctl", "start", AT_BOOT)
    guest.note(guest.shell("sh", "-c", f"systemctl status {AT_BOOT} --no-pager; true"))
    guest.until(lambda: guest.register(0x610) & 0x7FFF == 160, 60.0)
    assert unit(guest, AT_BOOT, "Result") == "success"
    for words in (("boot", "off"), ("hold", "off")):
        assert guest.run(*words).code == 0
    guest.note(json.dumps(guest.run("status", "--json").out))


CHECKS = (at_boot_did_nothing, chain, held_through_sleep, upgraded_while_it_runs, begins_with_the_machine)
