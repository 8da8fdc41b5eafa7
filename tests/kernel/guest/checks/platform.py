"""Another board: a platform mode, clocks by collaborative control, idle states; charger and battery on it as well."""

import json
import time

from guest import USER, Guest

from checks import battery

PROFILE = "/sys/firmware/acpi/platform_profile"
POLICY = "/sys/devices/system/cpu/cpufreq/policy0"


def prepare(guest: Guest) -> None:
    guest.modules("ac", "battery", "thermal", "ideapad-laptop")
    guest.load_program()
    guest.start_bus()
    guest.write(PROFILE, "balanced")


def tidy(guest: Guest) -> None:
    for user in ("root", USER):
        guest.run("put-back", user=user)
    battery.tidy(guest)
    guest.write(PROFILE, "balanced")


def described(guest: Guest) -> None:
    """The board is described: driver, range of clocks, platform modes, idle states"""
    for user in ("root", USER):
        told = guest.run("machine", "--json", user=user).json()
        controls = {c["name"]: c for c in told["controls"]}
        guest.note(guest.run("machine", user=user).out)
        assert told["machine"]["driver"] == guest.read(f"{POLICY}/scaling_driver")
        assert told["machine"]["driver"] in ("amd-pstate", "amd-pstate-epp")
        low, high = (int(guest.read(f"{POLICY}/cpuinfo_{end}_freq")) / 1000 for end in ("min", "max"))
        assert (controls["clock-max"]["min"], controls["clock-max"]["max"]) == (low, high)
        assert controls["platform-mode"]["choices"] == guest.read(f"{PROFILE}_choices").split()
        assert controls["platform-mode"]["current"] == "balanced"
        assert controls["clock-max"]["steps"] == []


def clocks(guest: Guest) -> None:
    """Clocks without steps are set as asked"""
    low, high = (int(guest.read(f"{POLICY}/cpuinfo_{end}_freq")) // 1000 for end in ("min", "max"))
    middle = (low + high) // 2
    for user in ("root", USER):
        done = guest.run("set", f"clock-max={middle}MHz", user=user)
        guest.note(done.out + done.err)
        assert done.code == 0
        assert abs(int(guest.read(f"{POLICY}/scaling_max_freq")) / 1000 - middle) < 1.0
        assert guest.run("put-back", user=user).code == 0
        guest.until(lambda: int(guest.read(f"{POLICY}/scaling_max_freq")) // 1000 == high, 3.0)


def modes(guest: Guest) -> None:
    """The platform mode by name, a wrong one, and put back"""
    for user in ("root", USER):
        done = guest.run("set", "platform-mode=low-power", user=user)
        guest.note(done.out + done.err)
        assert done.code == 0
        assert guest.read(PROFILE) == "low-power"
        wrong = guest.run("set", "platform-mode=loud", user=user)
        guest.note(wrong.err)
        assert wrong.code == 2
        assert wrong.said("loud", "performance")
        assert guest.run("put-back", user=user).code == 0
        assert guest.read(PROFILE) == "balanced"


def mode_heard(guest: Guest) -> None:
    """A change of the platform mode wakes an idle service that holds a profile, and is undone"""
    guest.save_profile("soft", 'platform_mode = "low-power"')
    done = guest.run("profile", "use", "soft")
    guest.note(done.out + done.err)
    assert done.code == 0
    assert guest.read(PROFILE) == "low-power"
    time.sleep(8.0)
    guest.write(PROFILE, "performance")
    took = guest.until(lambda: guest.read(PROFILE) == "low-power", 10.0)
    log = guest.run("hold", "log")
    guest.note(f"undone after {took:.2f} s; {log.out}")
    guest.note(json.dumps(guest.run("hold", "off").out))
    assert took < 3.0


CHECKS = (described, clocks, modes, *battery.CHECKS, mode_heard)
