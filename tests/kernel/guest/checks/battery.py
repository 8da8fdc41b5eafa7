"""Charger and battery through the kernel's own events: part of the scenario ``platform``."""

import json
import time

from guest import USER, Guest, now

MAINS = "/sys/class/power_supply/ADP1/online"
BATTERY = "/sys/class/power_supply/BAT0"
PLUG, UNPLUG = "41002000", "41001000"
"""Written to the battery's alarm, these make the laptop's firmware plug its charger in or out, and tell the kernel."""
RULES = "When on battery, use quiet.\nOtherwise, use quay.\n"
POLICY = "/sys/devices/system/cpu/cpufreq/policy0"


def tidy(guest: Guest) -> None:
    guest.write(f"{BATTERY}/alarm", PLUG)
    guest.hardware(charger=1, battery_state=0, battery_mw=0)


def samples(text: str) -> list[dict]:
    return [json.loads(line) for line in text.splitlines() if line.endswith("}")]


def drain(guest: Guest) -> None:
    """Battery drain in watts; charging is no drain; each sample is there as soon as it is taken"""
    for user in ("root", USER):
        # More samples than are waited for, so that the plug is pulled during them however slow the machine is.
        running = guest.start("sample", "--json", "--interval", "0.5s", "--count", "1000", user=user)
        guest.until(lambda r=running: len(samples(r.text())) >= 2, 60.0)
        guest.write(f"{BATTERY}/alarm", UNPLUG)
        begun = now()
        guest.until(lambda r=running: samples(r.text())[-1]["values"]["charger"] == 0.0, 10.0)
        seen = now() - begun
        guest.note(f"seen {seen:.2f} s after it was pulled")
        until = len(samples(running.text())) + 10
        guest.until(lambda r=running, n=until: len(samples(r.text())) >= n, 60.0)
        running.end()
        done = running.wait()
        told = samples(done.out)
        rows = [s["values"] for s in told]
        guest.note(str([(r["charger"], r["battery.drain"]) for r in rows]))
        off = [r["battery.drain"] for r in rows if r["charger"] == 0.0]
        on = [r["battery.drain"] for r in rows if r["charger"] == 1.0]
        assert all(d in (None, 9.5) for d in off), off
        unplugged = next(s["time_s"] for s in told if s["values"]["charger"] == 0.0)
        # the battery's driver keeps what it knew for a second, and its word has to have been the same a second before
        late = [s["values"]["battery.drain"] for s in told if s["time_s"] > unplugged + 2.5]
        assert late, "too few samples"
        assert all(d == 9.5 for d in late), off
        assert all(d in (None, 0.0) for d in on), on
        assert seen < 2.0
        tidy(guest)
        guest.hardware(battery_state=2, battery_mw=12000)
        guest.until(lambda: guest.read(f"{BATTERY}/status") == "Charging")
        values = samples(guest.run("sample", "--json", user=user).out)[0]["values"]
        guest.note(f"charging: {values['battery.drain']}")
        assert values["battery.drain"] in (None, 0.0)
        tidy(guest)


def held_by_events(guest: Guest) -> None:
    """An idle service that holds profiles follows the charger by the kernel's events, within a second"""
    for name, clock in (("quay", 2400), ("quiet", 1200)):
        guest.save_profile(name, f"clock_max_mhz = {clock}.0")
    guest.write("/tmp/rules.txt", RULES)
    done = guest.run("rules", "set", "/tmp/rules.txt")
    guest.note(done.out + done.err)
    assert done.code == 0
    done = guest.run("hold", "on")
    guest.note(done.out + done.err)
    assert done.code == 0
    time.sleep(6.0)  # the first looks after a profile was put in force are over
    for way, clock in ((UNPLUG, 1200), (PLUG, 2400), (UNPLUG, 1200), (PLUG, 2400)):
        guest.write(f"{BATTERY}/alarm", way)
        took = guest.until(lambda c=clock: guest.read(f"{POLICY}/scaling_max_freq") == f"{c}000", 10.0)
        guest.note(f"{clock} MHz after {took:.2f} s")
        assert took < 1.0
        time.sleep(3.0)
    guest.note(guest.run("hold", "log").out)
    assert guest.run("hold", "off").code == 0


CHECKS = (drain, held_by_events)
