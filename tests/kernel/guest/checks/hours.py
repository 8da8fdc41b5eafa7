"""Twelve hours of enforcement, on a machine whose time goes on at once while nothing runs in it."""

import re
import time
from functools import partial
from pathlib import Path

from guest import Guest

from checks.enforce import ZONE, prepare, reaction

__all__ = ["CHECKS", "prepare", "tidy"]

HOURS = 12
SETTLES_S = 600.0
MOST_GROWTH_KB = 1024
MOST_PERCENT = 0.1
"""Of one of these slow processors; the bench measures it on a real one."""
MOST_WAKINGS_S = 0.2


def tidy(guest: Guest) -> None:
    guest.run("hold", "off")


def kept_kb(process: int) -> int:
    """Return the memory that a process alone keeps, in kB."""
    text = Path(f"/proc/{process}/smaps_rollup").read_text()
    return sum(int(each) for each in re.findall(r"^Private_\w+:\s+(\d+)", text, re.MULTILINE))


def twelve_hours(guest: Guest) -> None:
    """Twelve hours of enforcement, with a foreign write every hour, cost no memory and hardly any time"""
    limit = f"{ZONE}/constraint_0_power_limit_uw"
    time.sleep(SETTLES_S)
    service = guest.service_process()
    kept, ticks, wakings, begun = [kept_kb(service)], guest.ticks(service), guest.wakings(service), time.monotonic()
    quiet_s = quiet_wakings = 0.0
    for hour in range(1, HOURS + 1):
        before, at = guest.wakings(service), time.monotonic()
        time.sleep(3300.0)
        quiet_wakings += guest.wakings(service) - before
        quiet_s += time.monotonic() - at
        took = reaction(guest, "sustained", partial(guest.write, limit, "12000000"), partial(guest.read, limit))
        time.sleep(300.0)
        kept.append(kept_kb(service))
        guest.line.tell(what="goes on", name=f"{hour} h: {kept[-1]} kB, reset after {took:.2f} s")
    took_s = time.monotonic() - begun
    percent = (guest.ticks(service) - ticks) / took_s * 100.0
    wakings_s = quiet_wakings / quiet_s
    guest.note(
        f"{took_s / 3600:.2f} h; {kept} kB; {percent:.4f} % of a processor; {wakings_s:.3f} wakings a second while "
        f"nothing happened; {guest.wakings(service) - wakings} in all"
    )
    assert guest.service_process() == service
    assert kept[-1] - kept[1] < MOST_GROWTH_KB
    assert percent < MOST_PERCENT
    assert wakings_s < MOST_WAKINGS_S


CHECKS = (twelve_hours,)
