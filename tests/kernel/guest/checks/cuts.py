"""The service killed, and the power taken away, at any moment of a trial: what the next start finds and tells.

Each boot first looks at what the one before left on the disk, then tries settings until the power is gone. What has
been done is told over the serial line as it is done, so whoever runs this knows what the true story is.
"""

import os
import random
import signal
import time

from guest import USER, Guest

from checks.power import LIMITS, give_registers

POLICY = "/sys/devices/system/cpu/cpufreq/policy0"
SETTINGS = ("core-offset=-50mV", "cache-offset=-50mV", "sustained=15W", "clock-max=1.6GHz", "--allow-known-bad")
"""What a cut has taken the machine down with is a known failure from then on, so the word is needed."""
KILLS = 2


def prepare(guest: Guest) -> None:
    guest.modules("acpi-cpufreq", "ac", "battery", "thermal")
    give_registers(guest)
    guest.load_program()
    guest.start_bus()


def tidy(guest: Guest) -> None:
    guest.run("put-back", user=USER)


def at_first(guest: Guest) -> None:
    """Raise AssertionError if anything but the machine's own values is in force."""
    assert guest.planes() == [0, 0, 0, 0], guest.planes()
    assert guest.register(0x610) == LIMITS, hex(guest.register(0x610))
    assert guest.read(f"{POLICY}/scaling_max_freq") == "2400000"


def look(guest: Guest) -> None:
    """After the cut: nothing unproven is in force, the journal is readable, and the story told is the true one"""
    at_first(guest)
    done = guest.run("status", user=USER)
    text = done.out + done.err
    guest.note(text)
    assert done.code == 0
    assert "damaged" not in text
    assert "newer version" not in text
    guest.line.tell(what="story", text=text)
    at_first(guest)
    again = guest.run("status", "--json", user=USER)
    assert again.code == 0
    assert again.json()["trial"] is None
    assert again.json()["kept"] == {}


def kills(guest: Guest) -> None:
    """kill -9 of the service at random moments of a trial: afterwards all of it is in force, or none of it"""
    dice = random.Random(time.time_ns())
    for _ in range(KILLS):
        guest.run("status", user=USER)
        running = guest.start("set", *SETTINGS, user=USER)
        time.sleep(dice.uniform(0.3, 3.0))
        process = guest.service_process()
        if process:
            os.kill(process, signal.SIGKILL)
        done = running.wait()
        status = guest.run("status", "--json", user=USER)
        guest.note(f"{done.code} {done.err.strip()} -> {status.out.strip()} {status.err.strip()}")
        assert status.code == 0, status
        running_trial = status.json()["trial"] is not None
        if not running_trial:
            at_first(guest)
        else:
            assert status.json()["drift"] == []
            assert guest.planes() == [-51, 0, -51, 0]
        done = guest.run("put-back", user=USER)
        guest.note(f"put-back: {done.code} {done.out.strip()} {done.err.strip()}")
        assert done.code == (0 if running_trial else 2), done
        at_first(guest)


def until_cut(guest: Guest) -> None:
    """Settings are tried until the power is gone"""
    while True:
        guest.line.tell(what="did", step="asked")
        if guest.run("set", *SETTINGS, user=USER).code == 0:
            guest.line.tell(what="did", step="in force")
        guest.line.tell(what="did", step="asked back")
        if guest.run("put-back", user=USER).code == 0:
            guest.line.tell(what="did", step="put back")


CHECKS = (look, kills, until_cut)
