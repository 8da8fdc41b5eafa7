"""Moments as a person reads them: in the time of this computer, wherever they were written down."""

from datetime import datetime


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
