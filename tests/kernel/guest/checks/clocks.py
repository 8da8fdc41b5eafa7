"""Clocks, governors, processors that come and go, and a cap of the firmware."""

from guest import Guest

POLICY = "/sys/devices/system/cpu/cpufreq/policy0"


def prepare(guest: Guest) -> None:
    guest.modules("acpi-cpufreq", "ac", "battery", "thermal", "msr", "cpufreq_powersave", "cpufreq_ondemand")
    guest.load_program()


def describes(guest: Guest) -> None:
    """The machine is described as it is"""
    done = guest.run("machine")
    guest.note(done.out)
    done = guest.run("machine", "--json")
    guest.note(done.out)
    done = guest.run("set", "clock-max=1.5")
    guest.note(done.out + done.err)
    done = guest.run("put-back")
    guest.note(done.out + done.err)


CHECKS = (describes,)
