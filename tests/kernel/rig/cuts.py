"""The power is taken away at random moments of a trial, and what the next boot finds is looked at."""

from rig.build import Rig


def cut_off(rig: Rig, processor: str, times: int, *, show: bool) -> list[tuple[str, bool, float, str]]:
    """Return a line of the table for each time."""
    return []
