"""Moments as a person reads them: in the time of this computer, wherever they were written down."""

from datetime import datetime
from math import isnan

from upright_bolt.model.quantity import POWER, TEMPERATURE, clock_text
from upright_bolt.model.start import Waiting


def _local(stamp: str) -> datetime | None:
    try:
        moment = datetime.fromisoformat(stamp)
        return moment if moment.tzinfo is None else moment.astimezone()
    except (ValueError, OverflowError):  # the first and last days of the calendar have no other zone
        return None


def date_and_time(stamp: str) -> str:
    """Return an ISO time as ``2026-11-26 03:52``; one that is none as it stands."""
    moment = _local(stamp)
    return stamp if moment is None else f"{moment:%Y-%m-%d %H:%M}"


def day_and_time(stamp: str) -> str:
    """Return it without the year."""
    return date_and_time(stamp)[5:]


def time_of_day(stamp: str) -> str:
    """Return its hours and minutes alone."""
    return date_and_time(stamp)[11:]


def span(seconds: float) -> str:
    """Return a length of time in the unit that suits it: ``40 s``, ``3 min``, ``2.5 h``."""
    if seconds < 99.5:
        return f"{seconds:.0f} s"
    if seconds < 99.5 * 60.0:
        return f"{seconds / 60.0:.0f} min"
    return f"{seconds / 3600.0:.1f} h"


def length(seconds: float) -> str:
    """Return how long something lasted, to the second or the minute: ``40 s``, ``2 min 30 s``, ``7 h 55 min``."""
    if seconds < 99.5:
        return span(seconds)
    if seconds < 3599.5:
        return _in_two(round(seconds), "min", "s")
    return _in_two(round(seconds / 60.0), "h", "min")


def _in_two(small: int, unit: str, sixtieth: str) -> str:
    whole, rest = divmod(small, 60)
    return f"{whole} {unit} {rest} {sixtieth}" if rest else f"{whole} {unit}"


def waiting(found: Waiting) -> str:
    """Return e.g. ``"Resting: 43.2 °C, 1.8 °C less than a minute before; average 6.1 W, to fall to 3.5 W; …"``."""
    said = []
    if found.pause_s is not None:
        said.append(f"a pause of {clock_text(found.pause_s)} more")
    if found.below_c is not None:
        said.append(f"{TEMPERATURE.show(found.temp_c)}, to fall to {TEMPERATURE.show(found.below_c)}")
    if found.change_c is not None:
        said.append(_settling(found.temp_c, found.change_c))
    if found.average_w is not None:
        said.append(f"average of up to {POWER.show(round(found.average_w, 1))}, to fall to "
                    f"{POWER.show(round(found.goal_w or 0.0, 1))}")  # fmt: skip
    if found.busy_percent is not None:
        said.append(f"other programs keep the processor {found.busy_percent:.0f} % busy")
    return f"Resting: {'; '.join(said)}; {clock_text(found.left_s)} at most"


def _settling(temp_c: float | None, change_c: float) -> str:
    now = TEMPERATURE.show(temp_c)
    if isnan(change_c):
        return f"{now}, to be watched for two minutes"
    return f"{now}, {abs(change_c):.1f} °C {'less' if change_c < 0 else 'more'} than a minute before"
