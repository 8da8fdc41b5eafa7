"""The course of a search: what it does next, and what is known of each of its axes, from its record alone.

First a warm-up and a rung at stock from which gains are counted; then tests of all controls together; then, where one
of them alone turns out to bring part of the gain, tests of each with the others held; then the soak.
"""

from collections.abc import Callable, Mapping, Sequence
from functools import cached_property

from upright_bolt.analysis.edge_belief import Estimate, Observed
from upright_bolt.analysis.edge_choice import AxisScale, NextTest
from upright_bolt.analysis.edge_gains import TIMES_ALONE, Gains
from upright_bolt.analysis.edge_history import Seen, on_axis, seen_in
from upright_bolt.analysis.edge_plan import VOLTAGE, Outlook, gain_per_unit, next_of, outlook
from upright_bolt.model.control import Value
from upright_bolt.model.search import (
    ALONE_S,
    BASELINE_S,
    FAILED,
    SOAKING,
    Outcome,
    Purpose,
    Rung,
    RungEnd,
    Search,
    SearchEnd,
    Why,
)
from upright_bolt.model.settings import Settings

STEP = 1.0
"""Positions lie so far apart, in the axis's unit."""
ANYWHERE = 500.0
"""How far an axis reaches where the machine is not at hand to ask."""
WARM_UP_S = 90.0
"""A load at stock before the first rung, and after every pause, so that all begin warm."""
SOAKS = 5
"""A soak that fails is followed by another one further back, so many times."""
PART_S = 120.0
"""Length of one part of a soak that is made in breaks."""
COOL_PART, SHORTEST_COOL_S = 0.25, 30.0
"""Part of the soak that is made after the machine has cooled down, and its least length."""
MARGIN_STEPS = 2.0
"""What is kept lies so many steps before anything that failed."""
SHORTEST_PROOF_S = 60.0
"""Controls that were searched apart are tested together for so long at least, whatever soak is asked."""


class Course:
    """What a search does next.

    Args:
        search: as its record tells it.
        known: what was seen on its chip before.
        furthest: how far each control can go; ``ANYWHERE`` for those that are not given.
    """

    def __init__(self, search: Search, known: Sequence[Seen], furthest: Mapping[str, float] | None = None) -> None:
        self.search = search
        self._furthest = furthest or {}
        self._known = known
        self._seen = [*known, *seen_in(search)]
        self._outlooks: dict[tuple[str, ...], Outlook] = {}
        self.gains = Gains(search)

    # what is known

    def scale(self, controls: Sequence[str]) -> AxisScale:
        """Return the positions of an axis."""
        return AxisScale(STEP, min(self._furthest.get(name, ANYWHERE) for name in controls), VOLTAGE)

    def tested(self, controls: Sequence[str]) -> list[Observed]:
        """Return all that was seen of an axis on this chip."""
        return on_axis(self._seen, controls)

    def known_on(self, controls: Sequence[str]) -> list[Observed]:
        """Return what was seen of an axis before this search."""
        return on_axis(self._known, controls)

    def accepted(self, controls: Sequence[str]) -> float:
        """Return what share of eight-hour loads may fail by an axis: those searched apart divide it."""
        asked = self.search.asked
        return asked.fails * len(controls) / len(asked.controls)

    def outlook(self, controls: tuple[str, ...] = ()) -> Outlook:
        """Return what is known of an axis; of all controls together if none is given."""
        axis = controls or self.search.asked.controls
        if axis not in self._outlooks:
            self._outlooks[axis] = outlook(self.scale(axis), self.tested(axis), self.accepted(axis))
        return self._outlooks[axis]

    @property
    def axes(self) -> list[tuple[str, ...]]:
        """All controls together, and where they move by themselves, each of them."""
        asked = self.search.asked
        return [asked.controls, *([(name,) for name in asked.controls] if self.apart else [])]

    @property
    def apart(self) -> bool:
        """Whether the controls are searched one by one as well."""
        return self.search.asked.apart and bool(self.gains.move_apart)

    def gained(self) -> float | None:
        """Return what part of the score at stock what is recommended has brought; None if that was not measured."""
        stock = self.gains.stock_score
        scores = [
            end.score
            for rung, end in self.search.ended
            if end.score is not None
            and end.outcome is Outcome.PASSED
            and rung.purpose is not Purpose.COOL_SOAK
            and rung.settings == self.recommended
        ]
        if stock and scores:
            return sum(scores) / len(scores) / stock - 1.0
        per_unit = gain_per_unit(self.gains.of())
        alike = len(set(self.recommended.values())) == 1
        value = next(iter(self.recommended.values()), 0.0)
        return None if per_unit is None or not alike or isinstance(value, str) else -value * per_unit

    def work_out(self) -> None:
        """Work out all that follows from the record, which takes a while."""
        for axis in self.axes:
            self.outlook(axis)
        _ = self.final, self.predicted

    # what is kept

    @cached_property
    def final(self) -> Settings:
        """What would be kept now; nothing for stock. What a soak has shown is not gone beyond without another one."""
        advised = self._advised()
        soaked = [rung.settings for rung, end in self.search.ended if self._soaked_by(rung, end)]
        for settings in reversed(soaked):
            if _as_deep(advised, settings):
                return dict(settings)
        return advised

    def _advised(self) -> dict[str, Value]:
        together = self.outlook().final
        controls = self.search.asked.controls
        joint: dict[str, Value] = dict.fromkeys(controls, -together) if together else {}
        if (
            not self.apart
            or not together
            or any(len(set(rung.settings.values())) > 1 for rung, _ in self._lost_soaks())
        ):
            return joint
        single = {name: self.outlook((name,)).final for name in controls}
        # the edge of all together is that of the weakest: apart it lies no further, and on a rail that is shared after
        # all the shallowest of the offsets is the one that counts
        weakest = min(single, key=lambda name: single[name])
        single[weakest] = min(single[weakest], together)
        if min(single.values()) <= 0.0 or sum(single.values()) <= together * len(controls):
            return joint
        apart: dict[str, Value] = {name: -position for name, position in single.items()}
        return joint if any(_as_deep(apart, failed) for failed in self._failed_together()) else apart

    def _failed_together(self) -> list[dict[str, Value]]:
        """Return from where on settings are at or near something that failed."""
        margin = MARGIN_STEPS * STEP
        return [
            {name: min(0.0, margin - depth) for name, depth in one.depths.items()}
            for one in self._seen
            if one.errors or one.froze
        ]

    @cached_property
    def predicted(self) -> Estimate:
        """How likely an eight-hour load fails with what would be kept."""
        together = self.outlook()
        if len(set(self.final.values())) <= 1:
            return together.predicted
        parts = [self.outlook((name,)).predicted for name in self.final]
        return Estimate(*(_either(numbers) for numbers in zip(*((p.value, p.low, p.high) for p in parts), strict=True)))

    @property
    def recommended(self) -> Settings:
        """What the search's end recommends, or what would be kept if it ended now; nothing for stock."""
        return self.search.end.settings if self.search.end is not None else self.final

    def proven(self, kinds_s: Callable[[str, float], dict[str, float]]) -> dict[str, float]:
        """Return the seconds that passed without an error at what is recommended or beyond it, by kind of load.

        Args:
            kinds_s: divides seconds of a workload into kinds of load.
        """
        total: dict[str, float] = {}
        for rung, end in self.search.ended:
            if end.outcome is Outcome.PASSED and self.recommended and _as_deep(rung.settings, self.recommended):
                for kind, seconds in kinds_s("edge", end.load_s).items():
                    total[kind] = total.get(kind, 0.0) + seconds
        return total

    @property
    def from_cool(self) -> bool:
        """Whether what is recommended has passed from a machine that had cooled down."""
        return any(
            rung.purpose is Purpose.COOL_SOAK
            and end.outcome is Outcome.PASSED
            and _as_deep(rung.settings, self.recommended)
            for rung, end in self.search.ended
        )

    def kept(self) -> Settings:
        """Return what to keep at the end: of a chip that has failed its soaks, nothing."""
        return {} if len(self._lost_soaks()) >= SOAKS else self.final

    def _lost_soaks(self) -> list[tuple[Rung, RungEnd]]:
        return [(rung, end) for rung, end in self.search.ended if rung.purpose in SOAKING and end.outcome in FAILED]

    @staticmethod
    def _soaked_by(rung: Rung, end: RungEnd) -> bool:
        return rung.purpose is Purpose.SOAK and end.outcome is Outcome.PASSED

    # what comes next

    def next_step(self, boot_id: str, *, warm: bool) -> Rung | SearchEnd:
        """Return the next rung, or the search's end.

        Args:
            boot_id: the machine's present boot.
            warm: whether it has worked until just now; otherwise it is warmed up first.
        """
        number = len(self.search.rungs) + 1
        if not warm and not (self.search.asked.in_breaks and self.is_soaking):
            return Rung(number, 0.0, {}, WARM_UP_S, 1, Purpose.WARM_UP, boot_id=boot_id)
        if self.gains.stock_score is None:
            return Rung(number, 0.0, {}, BASELINE_S, 1, Purpose.BASELINE, boot_id=boot_id)
        if self.gains.move_nothing:
            return SearchEnd(Why.NO_EFFECT)
        return (
            self._next_test(number, boot_id)
            or self._next_soak(number, boot_id)
            or SearchEnd(Why.FOUND, dict(self.kept()))
        )

    def _next_test(self, number: int, boot_id: str) -> Rung | None:
        asked = self.search.asked
        if self.is_soaking:
            return None
        begun = [axis for axis in self.axes if any(rung.controls == axis for rung in self.search.rungs)]
        if self.is_past_together:
            alone = self._alone(number, boot_id)
            if alone is not None:
                return alone
        else:
            found = next_of(self.scale(asked.controls), asked, self.tested(asked.controls), self.gains.of())
            if found is not None:
                return _rung(number, found, dict.fromkeys(asked.controls, -found.position), (), boot_id)
            return self._alone(number, boot_id)
        for name in asked.controls if self.apart else ():
            axis = (name,)
            if begun and axis != begun[-1] and axis in begun:
                continue
            found = next_of(self.scale(axis), asked, self.tested(axis), self.gains.of(axis))
            if found is not None:
                held: dict[str, Value] = dict.fromkeys(asked.controls, -self.outlook().final)
                return _rung(number, found, {**held, name: -found.position}, axis, boot_id)
        return None

    def _alone(self, number: int, boot_id: str) -> Rung | None:
        """Return the rung that tells whether the first control moves anything by itself; None if there is no need."""
        asked, proven = self.search.asked, self.outlook().proven
        tried = [rung for rung in self.search.rungs if rung.purpose is Purpose.ALONE]
        if not asked.apart or len(asked.controls) < 2 or not self.outlook().final or len(tried) >= TIMES_ALONE:
            return None
        if not self.gains.is_beside(number - 1):
            return Rung(number, 0.0, {}, ALONE_S, 1, Purpose.BESIDE, boot_id=boot_id)
        position = tried[0].position if tried else proven
        first = asked.controls[0]
        return Rung(number, position, {first: -position}, ALONE_S, 1, Purpose.ALONE, (first,), boot_id)

    def _next_soak(self, number: int, boot_id: str) -> Rung | None:
        asked, final = self.search.asked, dict(self.final)
        apart = len(set(final.values())) > 1
        soak_s = max(asked.soak_s, SHORTEST_PROOF_S) if apart else asked.soak_s
        if not final or not soak_s or len(self._lost_soaks()) >= SOAKS:
            return None
        if asked.in_breaks:
            return self._next_part(number, boot_id, final)
        cool_s = max(SHORTEST_COOL_S, COOL_PART * soak_s) if soak_s > 2.0 * SHORTEST_COOL_S else 0.0
        for purpose, load_s in ((Purpose.SOAK, soak_s - cool_s), (Purpose.COOL_SOAK, cool_s)):
            shown = any(
                rung.purpose is purpose and end.outcome is Outcome.PASSED and _as_deep(rung.settings, final)
                for rung, end in self.search.ended
            )
            if load_s and not shown:
                return Rung(number, _position(final), final, load_s, 1, purpose, boot_id=boot_id)
        return None

    @property
    def is_past_together(self) -> bool:
        """Whether the tests of all controls together are over."""
        return self.is_soaking or any(rung.purpose is Purpose.BESIDE for rung in self.search.rungs)

    @property
    def is_soaking(self) -> bool:
        """Whether the tests are over, and what would be kept is soaked."""
        return any(rung.purpose in SOAKING for rung in self.search.rungs)

    def _next_part(self, number: int, boot_id: str, final: dict[str, Value]) -> Rung | None:
        """Return the next part of a soak that is made in breaks; None once they have lasted long enough together."""
        shown = sum(
            end.load_s
            for rung, end in self.search.ended
            if rung.purpose in SOAKING and end.outcome not in FAILED and _as_deep(rung.settings, final)
        )
        left = self.search.asked.soak_s - shown
        return Rung(number, _position(final), final, PART_S, 1, Purpose.SOAK, boot_id=boot_id) if left > 1.0 else None


def _position(settings: Mapping[str, Value]) -> float:
    """Return the furthest of several offsets below stock."""
    return max((-value for value in settings.values() if not isinstance(value, str)), default=0.0)


def _as_deep(settings: Mapping[str, Value], as_others: Mapping[str, Value]) -> bool:
    """Whether all of ``settings`` lie at least as far below stock as the others."""
    return bool(settings) and all(
        isinstance(value := settings.get(name, 0.0), float | int)
        and not isinstance(other, str)
        and value <= other + 1e-9
        for name, other in as_others.items()
    )


def _either(chances: Sequence[float]) -> float:
    left = 1.0
    for chance in chances:
        left *= 1.0 - chance
    return 1.0 - left


def _rung(number: int, test: NextTest, settings: dict[str, Value], controls: tuple[str, ...], boot_id: str) -> Rung:
    return Rung(
        number, test.position, settings, test.load_s, test.stop_errors, controls=controls, boot_id=boot_id,
        fails=round(test.fails, 4), freezes=round(test.freezes, 5), spread=round(test.spread, 2),
        spread_after=round(test.spread_after, 2),
    )  # fmt: skip
