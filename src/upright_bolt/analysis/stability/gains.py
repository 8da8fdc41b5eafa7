"""What the rungs of a search have brought: score and watts at each position, and whether a control moves anything."""

from collections.abc import Callable
from functools import cached_property

from upright_bolt.analysis.stability.planner import Gain, gain_per_unit
from upright_bolt.model.search import Outcome, Purpose, Rung, RungEnd, Search

ALIKE_S = 19.0
"""A rung after one that worked for less begins with a fuller power budget: what it scores is not compared."""
OWN_PART, LEAST_GAIN, TIMES_ALONE = 0.5, 0.02, 2
"""One control moves something by itself if it alone, so many times, brings so much of what all bring together, against
stock right before it, where that is so large. On a shared rail one alone passes at any depth: to take that for proof
would be dangerous."""
EFFECT_SHOWS = 40.0
"""So far from stock the effect of a control on score or watts cannot be missed."""


def _score_of(end: RungEnd) -> float | None:
    return end.score


def _efficiency(end: RungEnd) -> float | None:
    """Return the score per watt, which a lower voltage raises under a power limit and without one; else the score."""
    return end.score / end.power_w if end.score is not None and end.power_w else end.score


class Gains:
    """What was brought.

    Args:
        search: as its record tells it.
    """

    def __init__(self, search: Search) -> None:
        self._search = search

    @cached_property
    def move_apart(self) -> bool | None:
        """Whether one control alone moves something; None as long as that was not tried."""
        tried = [(rung, end) for rung, end in self._search.ended if rung.purpose is Purpose.ALONE]
        if not tried:
            return None
        effects = self.of(worth=_efficiency)
        per_unit = gain_per_unit(effects)
        if per_unit is None or len(tried) < TIMES_ALONE:
            return False
        return all(
            end.outcome is Outcome.PASSED
            and (worth := _efficiency(end)) is not None
            and (beside := _efficiency(self._search.ends[rung.number - 1])) is not None
            and self._search.ends[rung.number - 1].outcome is Outcome.PASSED
            and per_unit * rung.position >= LEAST_GAIN
            and worth / beside - 1.0 >= OWN_PART * per_unit * rung.position
            for rung, end in tried
        )

    @property
    def move_nothing(self) -> bool:
        """Whether a control searched by itself changes neither score nor watts: then what passes is no proof."""
        effects = self.of(worth=_efficiency)
        furthest = max((gain.position for gain in effects), default=0.0)
        per_unit = gain_per_unit(effects)
        axis = self._search.asked.axis
        shares_a_rail = not axis.part and len(axis.controls) == 1
        if not shares_a_rail or per_unit is None or furthest < EFFECT_SHOWS:
            return False
        return per_unit * furthest < LEAST_GAIN / 2.0

    def of(self, controls: tuple[str, ...] = (), worth: Callable[[RungEnd], float | None] = _score_of) -> list[Gain]:
        """Return what the positions of an axis have brought, as far as nothing went wrong there; stock first.

        Args:
            controls: the axis; all together if none are given.
            worth: what counts of a rung; its score if not given.
        """
        moved = () if controls == self._search.asked.controls else controls
        return [
            Gain(rung.position, found)
            for rung, end in self._search.ended
            if (found := worth(end)) is not None
            and end.outcome is Outcome.PASSED
            and self.alike(rung)
            and ((rung.purpose is Purpose.TEST and rung.controls == moved)
                 or (rung.purpose is Purpose.BASELINE and not moved))
        ]  # fmt: skip

    def alike(self, rung: Rung) -> bool:
        """Whether a rung began as the others do: right after one that has worked for a while."""
        before = self._search.ends.get(rung.number - 1)
        return before is not None and before.load_s >= ALIKE_S

    def is_beside(self, number: int) -> bool:
        """Whether a rung can stand beside one alone: stock as long, right after one that lasted as long."""
        purposes = {rung.number: rung.purpose for rung, _ in self._search.ended}
        before = purposes.get(number - 1)
        return purposes.get(number) is Purpose.BESIDE and before in (Purpose.BESIDE, Purpose.ALONE)

    @property
    def stock_score(self) -> float | None:
        """The score at stock; None if not known yet."""
        return next((end.score for rung, end in self._search.ended if rung.purpose is Purpose.BASELINE), None)
