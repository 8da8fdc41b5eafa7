"""Comparing two settings with as many runs as it takes: looks at a series while it goes on.

After 4, 6, 8 and 10 runs of each setting the pooled t test on the logarithm of the score is made at ``LOOK_LEVEL``,
and the series ends with the first difference. All looks together call a difference that is not there in less than 5 %
of series (Pocock's design: a constant level at every look; the level was found by simulation for these looks with few
degrees of freedom, and ``make bench`` measures it again). The interval that is stated is that of ``1 − LOOK_LEVEL``.
"""

from collections.abc import Sequence

from upright_bolt.analysis.comparison.difference import UNDECIDED, Difference, difference, from_repeats

LOOKS = (4, 6, 8, 10)
LOOK_LEVEL = 0.0165


def look(with_it: Sequence[float], without: Sequence[float]) -> Difference | None:
    """Return what a look at two settings' scores shows; None if it is not time for one.

    Args:
        with_it: score of each run with the settings.
        without: of each run without them, as many.
    """
    if len(with_it) != len(without) or len(with_it) not in LOOKS:
        return None
    of, against = from_repeats(with_it), from_repeats(without)
    return difference(of, against, LOOK_LEVEL) if of is not None and against is not None else None


def decided(with_it: Sequence[float], without: Sequence[float]) -> bool:
    """Tell whether a series may end: a difference was found, or the last look is over."""
    if min(len(with_it), len(without)) >= LOOKS[-1]:
        return True
    found = look(with_it, without)
    return found is not None and found.verdict != UNDECIDED


def runs_to_next_look(done: int) -> int:
    """Return how many runs of each setting are still to be made until the next look; 0 after the last."""
    return next((looked - done for looked in LOOKS if looked > done), 0)
