"""Runs under emulation: slow processors, a killed run, a run that the power takes."""

import os
import signal
from pathlib import Path

from guest import USER, Guest, now


def prepare(guest: Guest) -> None:
    guest.modules("acpi-cpufreq", "ac", "battery", "thermal")
    guest.load_program(record=True)


def tidy(guest: Guest) -> None:
    guest.run("put-back")


def workers() -> list[int]:
    found = []
    for folder in Path("/proc").iterdir():
        if folder.name.isdecimal():
            try:
                if b"upright_bolt.workload.worker" in (folder / "cmdline").read_bytes():
                    found.append(int(folder.name))
            except OSError:
                continue
    return found


def steady(guest: Guest) -> None:
    """A steady run with a setting, on processors ten times slower than any: it is measured and put back"""
    words = ("run", "steady", "--duration", "30s", "--with", "clock-max=1.6GHz", "--start", "at-once")
    done = guest.run(*words, within_s=400.0)
    guest.note(done.out + done.err)
    assert done.code == 0
    assert guest.read("/sys/devices/system/cpu/cpufreq/policy0/scaling_max_freq") == "2400000"


def killed(guest: Guest) -> None:
    """Workers of a killed run end while they warm up"""
    running = guest.start("run", "steady", "--duration", "30s", "--start", "at-once", user=USER)
    guest.until(lambda: len(workers()) == 2, 120.0)
    os.kill(running.process, signal.SIGKILL)
    begun = now()
    guest.until(lambda: not workers(), 30.0)
    guest.note(f"gone after {now() - begun:.1f} s")
    listed = guest.run("runs", "--json", user=USER)
    guest.note(listed.out)
    assert '"running"' not in listed.out


CHECKS = (steady, killed)
