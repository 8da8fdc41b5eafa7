"""What a search for the edge finds, against individuals whose edges are known.

The many go through the product's own choosing with a stand-in for the physics: the twin's own hazard, at the clocks and
temperatures that a rung has. A sample goes through whole sessions and must agree.
"""

import dataclasses
import tempfile
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from functools import cache, partial
from itertools import cycle
from math import exp
from pathlib import Path
from statistics import fmean

import numpy as np

from bench.edge_bound import least_given_away
from search_support import SearchScene
from upright_bolt.analysis.stability.belief import Observed
from upright_bolt.analysis.stability.course import WARM_UP_S
from upright_bolt.analysis.stability.planner import VOLTAGE, next_of, outlook
from upright_bolt.analysis.stability.test_choice import EIGHT_HOURS_S, AxisScale
from upright_bolt.errors import MachineFroze
from upright_bolt.model.catalogue import TOGETHER
from upright_bolt.model.search import ALONE_S, BASELINE_S, Asked, Bold
from upright_bolt.model.workloads import EDGE, LIGHT
from upright_bolt.session.stability_search import PAUSE_S
from upright_bolt.simulator import rails
from upright_bolt.simulator.chip import ChipSpec, MachineSpec, tern
from upright_bolt.simulator.samples import individual
from upright_bolt.workload.plan import full_load_s

MANY, SAMPLE = 200, 20
FIRST_NUMBER = 71_000
RUNG_OVERHEAD_S = PAUSE_S + 3.5
FULL_MHZ, LIGHT_MHZ, BURST_MHZ, BURST_S = 2750.0, 2200.0, 3650.0, 8.0
FULL_C, LIGHT_C, IDLE_C, BURST_C = 70.0, 60.0, 52.0, 58.0
ACCEPTED = 0.01
GOAL_MINUTES = 0.25
"""Of the minutes that steps by hand take."""
Measured = tuple[float, str]
Plan = Callable[["Chip"], tuple[float, float, int]]
"""Takes a chip and returns the position kept, the minutes it took, and the freezes."""

TRUTHS: dict[str, dict[str, float]] = {
    "the twin's own": {},
    "tail 1.4 × flatter": {"tail_flatter": 1.4},
    "tail 2 × flatter": {"tail_flatter": 2.0},
    "slope 5.5 mV": {"slope_mv": 5.5},
    "slope 1.8 mV": {"slope_mv": 1.8},
    "edge moving 3 mV a day": {"ageing_mv_per_day": 3.0},
    "freeze gap 4 mV": {"freeze_beyond_mv": 4.0},
}


@dataclasses.dataclass
class Chip:
    """An individual under test: its hazard, and dice for what happens."""

    spec: ChipSpec
    dice: np.random.Generator

    def rates(
        self, position: float, stage_share: float, mix: str, *, burst: bool, stepped: bool, day: float
    ) -> rails.Rates:
        """Return how often something goes wrong in a stage."""
        moved = rails.rails_of(self.spec, [-position, 0.0, -position, 0.0, 0.0], day * rails.DAY_S)
        if not mix:
            return rails.rates(self.spec, moved, rails.Conditions(IDLE_C, self.spec.clock_min_mhz, 0.0))
        if stage_share == LIGHT:
            return rails.rates(self.spec, moved, rails.Conditions(LIGHT_C, LIGHT_MHZ, LIGHT, mix))
        clock, die = (BURST_MHZ, BURST_C) if burst else (FULL_MHZ, FULL_C)
        return rails.rates(self.spec, moved, rails.Conditions(die, clock, stage_share, mix, stepped))

    def test(self, position: float, load_s: float, stop_errors: int) -> Observed:
        """Return what a checked load shows."""
        now, errors = 0.0, 0
        for stage in cycle(EDGE):
            left = min(stage.seconds, load_s - now)
            if left <= 1e-9:
                break
            found = self.rates(
                position, stage.share, stage.mix, burst=now < BURST_S, stepped=stage.seconds < 1.0, day=0.0
            )
            both = found.core + found.cache + found.freezes
            while left > 0.0:
                gap = float(self.dice.exponential(1.0 / both)) if both > 0.0 else left
                if gap >= left:
                    now += left
                    break
                now, left = now + gap, left - gap
                if self.dice.random() < found.freezes / both:
                    return Observed(position, load_s * 0.8, froze=True, lost=True)  # as after a real restart
                errors += 1
                if errors >= stop_errors:
                    return Observed(position, full_load_s("edge", now), errors)
        return Observed(position, full_load_s("edge", load_s), errors)

    def failing(self, position: float) -> float:
        """Return how likely eight hours of the same load fail, on the day after."""
        rate = 0.0
        for stage in EDGE:
            found = self.rates(position, stage.share, stage.mix, burst=False, stepped=stage.seconds < 1.0, day=1.0)
            rate += (found.core + found.cache + found.freezes) * stage.seconds
        return 1.0 - exp(-rate / sum(stage.seconds for stage in EDGE) * EIGHT_HOURS_S)

    def ideal(self) -> float:
        """Return the furthest position at which no more than 1 % fail."""
        low, high = 0.0, 300.0
        while high - low > 0.05:
            middle = 0.5 * (low + high)
            low, high = (middle, high) if self.failing(middle) <= ACCEPTED else (low, middle)
        return low


def searched(chip: Chip, bold: Bold = Bold.CAREFUL) -> tuple[float, float, int]:
    """Search as the product does."""
    scale = AxisScale(1.0, 250.0, VOLTAGE)
    asked = Asked(1, TOGETHER, "", "", bold=bold, fails=ACCEPTED)
    tested: list[Observed] = []
    seconds, freezes = WARM_UP_S + BASELINE_S + ALONE_S + 3 * RUNG_OVERHEAD_S, 0
    while (test := next_of(scale, asked, tested, [])) is not None:
        seen = chip.test(test.position, test.load_s, test.stop_errors)
        tested.append(seen)
        seconds += RUNG_OVERHEAD_S + min(test.load_s, seen.load_s / 0.8)
        freezes += seen.froze
    return outlook(scale, tested, ACCEPTED).final, seconds / 60.0, freezes


def by_hand(chip: Chip, step: float, load_s: float, back: float) -> tuple[float, float, int]:
    """Step down until it fails, and go back from there."""
    position, minutes = 0.0, 0.0
    while True:
        position += step
        seen = chip.test(position, load_s, 1)
        minutes += min(load_s, seen.load_s / 0.8) / 60.0
        if not seen.passed:
            return max(0.0, position - back), minutes, int(seen.froze)


PLANS: dict[str, Plan] = {
    "careful": searched,
    "quick": partial(searched, bold=Bold.QUICK),
    "thorough": partial(searched, bold=Bold.THOROUGH),
    "by hand, 10 mV × 10 min, back 10": partial(by_hand, step=10.0, load_s=600.0, back=10.0),
    "by hand, 10 mV × 10 min, back 20": partial(by_hand, step=10.0, load_s=600.0, back=20.0),
    "5 mV × 1 min, back 50": partial(by_hand, step=5.0, load_s=60.0, back=50.0),
}


@dataclasses.dataclass(frozen=True)
class Result:
    """Means over individuals: minutes, freezes, share of eight-hour loads that fail, and mV given away."""

    minutes: float
    freezes: float
    fails: float
    given_away: float

    def __str__(self) -> str:
        return (
            f"{self.minutes:.1f} min, {self.freezes:.3f} freezes, {100 * self.fails:.2f} % fail in 8 h, "
            f"{self.given_away:+.1f} mV given away"
        )


def spec_of(number: int, truth: dict[str, float]) -> MachineSpec:
    """Return an individual of tern with a truth of its own."""
    spec = individual(tern(), number)
    return dataclasses.replace(spec, chip=dataclasses.replace(spec.chip, **truth))  # type: ignore[arg-type]


def _one(number: int, plan: str, truth: dict[str, float]) -> tuple[float, float, float, float]:
    chip = Chip(spec_of(number, truth).chip, np.random.default_rng(number))
    position, minutes, freezes = PLANS[plan](chip)
    return minutes, float(freezes), chip.failing(position), chip.ideal() - position


@cache
def measured_with(plan: str, truth: str) -> Result:
    """Return what a plan does with many individuals of a truth."""
    return measured(plan, TRUTHS[truth])


OWN, FLATTER, BY_HAND = "the twin's own", "tail 1.4 × flatter", "by hand, 10 mV × 10 min, back 20"


def minutes(_folder: Path) -> Measured:
    """Minutes of a careful search, as a part of steps by hand."""
    found, plain = measured_with("careful", OWN), measured_with(BY_HAND, OWN)
    return found.minutes / plain.minutes, f"careful: {found}; {BY_HAND}: {plain}"


def freezes(_folder: Path) -> Measured:
    """Freezes of a careful search, as a part of those of steps by hand."""
    found, plain = measured_with("careful", OWN), measured_with(BY_HAND, OWN)
    return found.freezes / plain.freezes, f"{found.freezes:.3f} against {plain.freezes:.3f} a search"


def fails(_folder: Path) -> Measured:
    """Share of eight-hour loads that fail with what is kept, in %, for the twin's own hazard."""
    others = ("by hand, 10 mV × 10 min, back 10", BY_HAND, "5 mV × 1 min, back 50", "quick", "thorough")
    return 100.0 * measured_with("careful", OWN).fails, "; ".join(f"{n}: {measured_with(n, OWN)}" for n in others)


def fails_flatter(_folder: Path) -> Measured:
    """The same for a truth whose tail is flatter than the model's; others are printed beside it."""
    others = [truth for truth in TRUTHS if truth not in (OWN, FLATTER)]
    return 100.0 * measured_with("careful", FLATTER).fails, "; ".join(
        f"{truth}: {measured_with('careful', truth)}" for truth in others
    )


def given_away(_folder: Path) -> Measured:
    """Millivolts given away against the ideal, which no search can know."""
    plain = measured_with(BY_HAND, OWN)
    flatter = TRUTHS[FLATTER]["tail_flatter"]
    least, left = least_given_away(plain.freezes, GOAL_MINUTES * plain.minutes, ACCEPTED, flatter)
    detail = f"told where the edge lies, no search of {plain.freezes:.3f} freezes gives away less than {least:.1f} mV"
    return measured_with("careful", OWN).given_away, (
        f"the ideal: 1 % of eight-hour loads fail; {detail}: it knows the slope to {100.0 * left:.0f} %"
    )


def agreement(_folder: Path) -> Measured:
    """How far whole sessions end from the stand-in, in mV, on the mean of a sample."""
    numbers = range(FIRST_NUMBER, FIRST_NUMBER + SAMPLE)
    with ProcessPoolExecutor() as pool:
        whole = list(pool.map(_whole, numbers))
        stand_in = list(pool.map(partial(_one, plan="careful", truth={}), numbers))
    away, minutes_, froze = (fmean(row[i] for row in whole) for i in range(3))
    expected = fmean(row[3] for row in stand_in)
    faster, rarer = (fmean(row[i] for row in stand_in) for i in (0, 1))
    detail = (
        f"{away:+.1f} against {expected:+.1f} mV given away, {minutes_:.1f} against {faster:.1f} min, "
        f"{froze:.2f} against {rarer:.2f} freezes"
    )
    return abs(away - expected), detail


def _whole(number: int) -> tuple[float, float, float]:
    """Search in a session of its own; return the mV given away, the minutes and the freezes."""
    with tempfile.TemporaryDirectory() as folder:
        scene = SearchScene(Path(folder), f"twin:tern#{number}")
        scene.ask(soak_s=0.0)
        while True:
            try:
                found = scene.carry_on()
                break
            except MachineFroze:
                scene.kill()
        scene.twin.close()
    position = found.kept_at if found.end is not None else 0.0
    return Chip(spec_of(number, {}).chip, np.random.default_rng(0)).ideal() - position, found.minutes, found.freezes


def measured(plan: str, truth: dict[str, float], many: int = MANY) -> Result:
    """Return what a plan does with so many individuals."""
    with ProcessPoolExecutor() as pool:
        numbers = range(FIRST_NUMBER, FIRST_NUMBER + many)
        rows = list(pool.map(partial(_one, plan=plan, truth=truth), numbers, chunksize=4))
    return Result(*(fmean(column) for column in zip(*rows, strict=True)))
