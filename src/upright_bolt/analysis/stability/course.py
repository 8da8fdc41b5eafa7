"""The course of a search: what it does next, and what is known of each of its axes, from its record alone.

First a warm-up and a rung at stock from which gains are counted; then tests of all controls together; then, where one
of them alone turns out to bring part of the gain, tests of each with the others held; then the soak.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from upright_bolt.analysis.stability.belief import EdgeBelief, Estimate, Observed
from upright_bolt.analysis.stability.gains import TIMES_ALONE, Gains
from upright_bolt.analysis.stability.history import Seen, on_axis, seen_in
from upright_bolt.analysis.stability.planner import Outlook, gain_per_unit, next_of, outlook, prior_of
from upright_bolt.analysis.stability.soak import failed_soaks, is_shown, next_soak
from upright_bolt.analysis.stability.test_choice import EIGHT_HOURS_S, AxisScale, NextTest
from upright_bolt.model.search import (
    ALONE_S,
    BASELINE_S,
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
MARGIN_STEPS = 2.0
"""What is kept lies so many steps before anything that failed."""


@dataclass(frozen=True, slots=True)
class Narrowed:
    """Where the edge was thought to lie after a test; None for what was known before the search."""

    after: Observed | None
    edge: Estimate


class Course:
    """What a search does next.

    Args:
        search: as its record tells it.
        known: what was seen on its chip before.
        furthest: how far each control can go; ``ANYWHERE`` for those that are not given.
    """

    def __init__(self, search: Search, known: Sequence[Seen], furthest: Mapping[str, float] | None = None) -> None:
        self.search = search
        self.axis = search.asked.axis
        self._furthest = furthest or {}
        self._known = known
        self._seen = [*known, *seen_in(search)]
        self._scene = "heavy" if self.axis.part else ""
        self._outlooks: dict[tuple[str, ...], Outlook] = {}
        self._narrowed: dict[tuple[str, ...], list[Narrowed]] = {}
        self.gains = Gains(search)

    # what is known

    def scale(self, controls: Sequence[str]) -> AxisScale:
        """Return the positions of an axis."""
        return AxisScale(STEP, min(self._furthest.get(name, ANYWHERE) for name in controls), prior_of(self.axis))

    def tested(self, controls: Sequence[str]) -> list[Observed]:
        """Return all that was seen of an axis on this chip."""
        return on_axis(self._seen, controls)

    def known_on(self, controls: Sequence[str]) -> list[Observed]:
        """Return what was seen of an axis before this search."""
        return on_axis(self._known, controls)

    def accepted(self, controls: Sequence[str]) -> float:
        """Return what share of eight-hour loads may fail by an axis: those searched apart divide it."""
        asked = self.search.asked
        # Searched apart, each control spends its share of the accepted risk.
        return asked.fails * len(controls) / len(asked.controls)

    def outlook(self, controls: tuple[str, ...] = ()) -> Outlook:
        """Return what is known of an axis; of all controls together if none is given."""
        axis = controls or self.search.asked.controls
        if axis not in self._outlooks:
            self._outlooks[axis] = outlook(self.scale(axis), self.tested(axis), self.accepted(axis))
        return self._outlooks[axis]

    def interval_history(self, controls: tuple[str, ...]) -> list[Narrowed]:
        """Return where the edge of an axis was thought to lie before this search, and after each of its tests."""
        # Kept, as it takes one posterior for each test, and views ask at every redraw.
        if controls not in self._narrowed:
            prior, known = self.scale(controls).prior, self.known_on(controls)
            own = on_axis(seen_in(self.search), controls)
            self._narrowed[controls] = [
                Narrowed(own[count - 1] if count else None, _edge(EdgeBelief(prior, [*known, *own[:count]])))
                for count in range(len(own) + 1)
            ]
        return self._narrowed[controls]

    @property
    def searched_last(self) -> tuple[str, ...]:
        """The axis that the last test was made on; all controls together before there is any."""
        tests = [rung for rung in self.search.rungs if rung.purpose is Purpose.TEST]
        return tests[-1].controls or self.search.asked.controls if tests else self.search.asked.controls

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
        scores = [end.score for end in self._at_recommended() if end.score is not None]
        # A score measured there outranks one that is interpolated from another position.
        if stock and scores:
            return sum(scores) / len(scores) / stock - 1.0
        per_unit = gain_per_unit(self.gains.of())
        positions = set(self.axis.positions(self.recommended).values())
        return None if per_unit is None or len(positions) > 1 else positions.pop() * per_unit

    def watts_part(self) -> float | None:
        """Return which part of the watts at stock is drawn at what is recommended; None if that was not measured."""
        stock = [end.power_w for rung, end in self.search.ended if rung.purpose is Purpose.BASELINE and end.power_w]
        there = [end.power_w for end in self._at_recommended() if end.power_w]
        return sum(there) / len(there) / stock[0] if there and stock else None

    def _at_recommended(self) -> list[RungEnd]:
        """Return how the rungs ended that passed at what is recommended, under the load that gains are counted by."""
        return [
            end
            for rung, end in self.search.ended
            if end.outcome is Outcome.PASSED
            and rung.purpose is not Purpose.COOL_SOAK
            and rung.scene == self._scene
            and rung.settings == self.recommended
        ]

    def work_out(self) -> None:
        """Work out all that follows from the record, which takes a while."""
        # In the background: after it, views only read.
        for axis in self.axes:
            self.outlook(axis)
        self.interval_history(self.searched_last)
        _ = self.final, self.predicted

    # what is kept

    @cached_property
    def final(self) -> Settings:
        """What would be kept now; nothing for stock. What a soak has shown is not gone beyond without another one."""
        advised = self._advised()
        for rung, end in reversed(self.search.ended):
            # The newest that holds; what is advised may have grown deeper since, and then waits for a soak of its own.
            if self._soaked_by(rung, end) and self.axis.as_far(advised, rung.settings):
                return dict(rung.settings)
        return advised

    def _at(self, position: float) -> Settings:
        """Return the settings with all controls at a position."""
        return self.axis.settings(dict.fromkeys(self.axis.controls, position))

    def _advised(self) -> Settings:
        together = self.outlook().final
        controls = self.search.asked.controls
        joint = self._at(together) if together else {}
        if (
            not self.apart
            or not together
            # After a soak of unequal positions has failed, only all of them together are tried again.
            or any(len(set(self.axis.positions(rung.settings).values())) > 1 for rung, _ in failed_soaks(self.search))
        ):
            return joint
        single = {name: self.outlook((name,)).final for name in controls}
        # Together they fail where the weakest does, so by itself it lies no further, whatever its own tests tell. On a
        # rail that turns out to be shared, the shallowest of the offsets is the one that counts.
        weakest = min(single, key=lambda name: single[name])
        single[weakest] = min(single[weakest], together)
        # Apart has to gain something over together; if not, the simpler setting with more evidence is kept.
        if min(single.values()) <= 0.0 or sum(single.values()) <= together * len(controls):
            return joint
        failed = any(self._reaches(single, one) for one in self._seen if not one.passed)
        return joint if failed else self.axis.settings(single)

    def _reaches(self, positions: Mapping[str, float], failed: Seen) -> bool:
        """Tell whether positions are at or near something that failed."""
        return all(
            positions.get(name, 0.0) >= max(0.0, depth - MARGIN_STEPS * STEP) for name, depth in failed.depths.items()
        )

    @cached_property
    def predicted(self) -> Estimate:
        """How likely an eight-hour load fails with what is recommended."""
        return self._predicted_with(self.recommended)

    def _predicted_with(self, settings: Settings) -> Estimate:
        """Return how likely an eight-hour load fails with settings, by all that is known now."""
        positions = self.axis.positions(settings)
        if len(set(positions.values())) <= 1:
            return self._predicted_at(self.axis.controls, self.axis.furthest(settings))
        # Each part fails by itself, so the whole holds only if all of them do.
        parts = [self._predicted_at((name,), position) for name, position in positions.items()]
        return Estimate(*(_either(numbers) for numbers in zip(*((p.value, p.low, p.high) for p in parts), strict=True)))

    def _predicted_at(self, controls: tuple[str, ...], position: float) -> Estimate:
        known = self.outlook(controls)
        # Worked out with the outlook already; any other position needs a posterior of its own.
        if position == known.final:
            return known.predicted
        return EdgeBelief(self.scale(controls).prior, self.tested(controls)).predicted(position, EIGHT_HOURS_S)

    @cached_property
    def recommended(self) -> Settings:
        """What to keep; nothing for stock.

        What the search ended with, until later evidence speaks against it: errors there or just beyond, or a forecast
        above the accepted risk. Then it is what would be kept now.
        """
        end = self.search.end
        if end is None:
            return self.final
        positions = self.axis.positions(end.settings)
        # A recommendation is only as old as the last failure: whatever has happened since counts against it.
        failed = any(self._reaches(positions, one) for one in self._seen if not one.passed)
        if end.settings and (failed or self._predicted_with(end.settings).value > self.search.asked.fails):
            return self.final
        return end.settings

    @property
    def is_withdrawn(self) -> bool:
        """Whether evidence since the search ended speaks against what it ended with."""
        return self.search.end is not None and self.recommended != self.search.end.settings

    def proven(self, kinds_s: Callable[[str, float], dict[str, float]]) -> dict[str, float]:
        """Return the seconds that passed without an error at what is recommended or beyond it, by kind of load.

        Args:
            kinds_s: divides seconds of a workload into kinds of load.
        """
        total: dict[str, float] = {}
        for rung, end in self.search.ended:
            if is_shown(self.search, rung, end, self.recommended):
                for kind, seconds in kinds_s(rung.load, end.load_s).items():
                    total[kind] = total.get(kind, 0.0) + seconds
        return total

    @property
    def from_cool(self) -> bool:
        """Whether what is recommended has passed from a machine that had cooled down."""
        return any(
            rung.purpose is Purpose.COOL_SOAK and is_shown(self.search, rung, end, self.recommended)
            for rung, end in self.search.ended
        )

    def kept(self) -> Settings:
        """Return what to keep at the end: of a chip that has failed its soaks, nothing."""
        return {} if len(failed_soaks(self.search)) >= SOAKS else self.final

    @staticmethod
    def _soaked_by(rung: Rung, end: RungEnd) -> bool:
        """Tell whether a rung is a soak of full load that passed: the light scene shows little."""
        return rung.purpose is Purpose.SOAK and rung.scene != "light" and end.outcome is Outcome.PASSED

    # what comes next

    def next_step(self, boot_id: str, *, warm: bool) -> Rung | SearchEnd:
        """Return the next rung, or the search's end.

        Args:
            boot_id: the machine's present boot.
            warm: whether it has worked until just now; otherwise it is warmed up first.
        """
        number = len(self.search.rungs) + 1
        # The edge moves with temperature, so tests compare only if each begins warm.
        if not warm and not (self.search.asked.in_breaks and self.is_soaking):
            return self._at_stock(number, WARM_UP_S, Purpose.WARM_UP, boot_id)
        if self.gains.stock_score is None:
            return self._at_stock(number, BASELINE_S, Purpose.BASELINE, boot_id)
        # Offsets that the firmware swallows change neither power nor score; testing them would prove nothing.
        if self.gains.move_nothing:
            return SearchEnd(Why.NO_EFFECT)
        return (
            self._next_test(number, boot_id)
            or self._next_soak(number, boot_id)
            or SearchEnd(Why.FOUND, dict(self.kept()))
        )

    def _at_stock(self, number: int, load_s: float, purpose: Purpose, boot_id: str) -> Rung:
        settings = self.axis.settings({})
        return Rung(number, 0.0, settings, load_s, 1, purpose, boot_id=boot_id, scene=self._scene)

    def _next_test(self, number: int, boot_id: str) -> Rung | None:
        asked = self.search.asked
        if self.is_soaking:
            return None
        # One axis is finished before the next begins: going back and forth would spend warm-ups.
        begun = [axis for axis in self.axes if any(rung.controls == axis for rung in self.search.rungs)]
        if self.is_past_together:
            alone = self._alone(number, boot_id)
            if alone is not None:
                return alone
        else:
            found = next_of(self.scale(asked.controls), asked, self.tested(asked.controls), self.gains.of())
            if found is not None:
                return self._rung(number, found, self._at(found.position), (), boot_id)
            return self._alone(number, boot_id)
        for name in asked.controls if self.apart else ():
            axis = (name,)
            if begun and axis != begun[-1] and axis in begun:
                continue
            found = next_of(self.scale(axis), asked, self.tested(axis), self.gains.of(axis))
            if found is not None:
                positions = dict.fromkeys(asked.controls, self.outlook().final) | {name: found.position}
                return self._rung(number, found, self.axis.settings(positions), axis, boot_id)
        return None

    def _alone(self, number: int, boot_id: str) -> Rung | None:
        """Return the rung that tells whether the first control moves anything by itself; None if there is no need."""
        asked, proven = self.search.asked, self.outlook().proven
        tried = [rung for rung in self.search.rungs if rung.purpose is Purpose.ALONE]
        if not asked.apart or len(asked.controls) < 2 or not self.outlook().final or len(tried) >= TIMES_ALONE:
            return None
        # A gain shows only against stock measured just before, since temperatures drift over a search.
        if not self.gains.is_beside(number - 1):
            return self._at_stock(number, ALONE_S, Purpose.BESIDE, boot_id)
        position = tried[0].position if tried else proven
        first = asked.controls[0]
        settings = self.axis.settings({first: position})
        return Rung(number, position, settings, ALONE_S, 1, Purpose.ALONE, (first,), boot_id, scene=self._scene)

    def _next_soak(self, number: int, boot_id: str) -> Rung | None:
        if not self.final or len(failed_soaks(self.search)) >= SOAKS:
            return None
        found = next_soak(self.search, self.final)
        return replace(found, number=number, boot_id=boot_id) if found is not None else None

    @property
    def is_past_together(self) -> bool:
        """Whether the tests of all controls together are over."""
        return self.is_soaking or any(rung.purpose is Purpose.BESIDE for rung in self.search.rungs)

    @property
    def is_soaking(self) -> bool:
        """Whether the tests are over, and what would be kept is soaked."""
        return any(rung.purpose in SOAKING for rung in self.search.rungs)

    def _rung(self, number: int, test: NextTest, settings: Settings, controls: tuple[str, ...], boot_id: str) -> Rung:
        """Return a test as a rung."""
        return Rung(
            number,
            test.position,
            dict(settings),
            test.load_s,
            test.stop_errors,
            Purpose.TEST,
            controls,
            boot_id,
            round(test.fails, 4),
            round(test.freezes, 5),
            round(test.spread, 2),
            round(test.spread_after, 2),
            self._scene,
        )


def _edge(belief: EdgeBelief) -> Estimate:
    return belief.estimate(belief.edge)


def _either(chances: Sequence[float]) -> float:
    left = 1.0
    for chance in chances:
        left *= 1.0 - chance
    return 1.0 - left
