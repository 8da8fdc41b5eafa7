"""How long a search is still expected to go on, and how often it is expected to freeze the machine.

A few chips are drawn from what is known, and the search is played on with each of them.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from upright_bolt.analysis.stability.belief import Array, EdgeBelief, Observed, log_rates_of
from upright_bolt.analysis.stability.course import Course
from upright_bolt.analysis.stability.planner import next_of
from upright_bolt.analysis.stability.test_choice import OVERHEAD_S, AxisScale
from upright_bolt.model.search import SOAKING, Asked

DRAWS = 4
LONGEST = 40
"""No search takes so many tests; one that would has been drawn from a corner of what is known."""
COOLING_S = 240.0
"""About what a laptop takes to cool down before the last part of the soak."""


@dataclass(frozen=True, slots=True)
class Ahead:
    """What is still expected of a search: minutes, the soak included, and freezes."""

    minutes: float
    freezes: float


def ahead(course: Course) -> Ahead:
    """Return what is still to come of all controls together; of those that turn out to move apart, nothing is known."""
    search = course.search
    if search.end is not None:
        return Ahead(0.0, 0.0)
    asked = search.asked
    left_s = asked.soak_s - sum(end.load_s for rung, end in search.ended if rung.purpose in SOAKING)
    minutes = (max(0.0, left_s) + (COOLING_S if asked.soak_s else 0.0)) / 60.0
    if course.is_past_together:
        return Ahead(minutes, 0.0)
    scale, tested = course.scale(asked.controls), course.tested(asked.controls)
    dice = np.random.default_rng(len(search.rungs))
    belief = EdgeBelief(scale.prior, tested)
    drawn = dice.choice(len(belief.weight), size=DRAWS, p=belief.weight)
    played = [
        _played(scale, asked, tested, dice, (belief.edge[cell], belief.slope[cell], belief.gap[cell])) for cell in drawn
    ]
    return Ahead(minutes + sum(one.minutes for one in played) / DRAWS, sum(one.freezes for one in played) / DRAWS)


def _played(
    scale: AxisScale,
    asked: Asked,
    tested: Sequence[Observed],
    dice: np.random.Generator,
    chip: tuple[Array, Array, Array],
) -> Ahead:
    """Play a search on with a chip of this edge, slope and gap; freezes are what its tests made likely."""
    seen, seconds, freezes = list(tested), 0.0, 0.0
    for _ in range(LONGEST):
        test = next_of(scale, asked, seen, [])
        if test is None:
            break
        error, freeze = np.exp(log_rates_of(test.position, *chip))
        lasted, errors, froze = test.load_s, 0, False
        now = 0.0
        while (now := now + dice.exponential(1.0 / (error + freeze))) < test.load_s:
            froze = dice.random() < freeze / (error + freeze)
            errors += not froze
            if froze or errors >= test.stop_errors:
                lasted = now
                break
        whole = test.load_s if froze else lasted
        seen.append(Observed(test.position, whole, 0 if froze else errors, froze, lost=froze))
        seconds += lasted + OVERHEAD_S
        freezes += test.freezes
    return Ahead(seconds / 60.0, freezes)
