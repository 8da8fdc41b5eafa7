"""What the hold run tells of a cooling, against twins whose cooling is known."""

import dataclasses
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from functools import cache, partial
from pathlib import Path

import numpy as np

from support import rested
from upright_bolt.analysis.cooling import fit
from upright_bolt.analysis.cooling.limit_planner import HoldPlan, Readings
from upright_bolt.model.work import HOLD_REST_S
from upright_bolt.simulator.chip import MachineSpec, plover, skerry, tern
from upright_bolt.simulator.demand import Demand
from upright_bolt.simulator.machine import SimulatedMachine

Measured = tuple[float, str]
MODELS = (tern, skerry, plover)
BELOW_C = {"tern": 80.0, "skerry": 75.0, "plover": 70.0}
TWINS = 102
COVERED = 240
"""A share of 95 % of so many twins, a third of each model, is known to 2.4 %."""
LEAD_S = 20.0
HELD_S = 1800.0
WIDTHS = {
    "sink_j_per_k": 0.25, "case_j_per_k": 0.2, "die_to_sink": 0.15, "sink_to_case": 0.12, "case_to_air": 0.12,
    "still_w_per_k": 0.2, "fan_w_per_k_krpm": 0.2,
}  # fmt: skip


def varied(make: Callable[[], MachineSpec], seed: int, times: float = 1.0) -> MachineSpec:
    """Return a twin whose cooling differs from its model's; ``times`` as much as usual."""
    dice = np.random.default_rng(seed)
    spec = make()
    cooling = spec.cooling
    changed = {n: float(getattr(cooling, n) * np.exp(dice.normal(0.0, times * w))) for n, w in WIDTHS.items()}
    air = float(cooling.ambient_c + dice.normal(0.0, 2.5 * times))
    return dataclasses.replace(spec, cooling=dataclasses.replace(cooling, ambient_c=air, **changed), seed=seed)


class Watched:
    """A rested twin that is sampled twice a second, its sensors as they are in its files.

    Args:
        spec: the twin.
        package_only: it has no sensors of single cores.
    """

    def __init__(self, spec: MachineSpec, *, package_only: bool = False) -> None:
        self.twin = SimulatedMachine(spec, rested(spec), None)
        self._eighths = spec.name == "skerry"
        self._cores = 0 if package_only or self._eighths else spec.chip.cores
        self.rows: list[tuple[float, ...]] = []
        self.cores: list[list[float]] = []
        self._joules = self.twin.state.energy_j
        self.begun_s = self.twin.state.time_s

    def limit(self, watts: float) -> None:
        """Set a flat limit."""
        self.twin.state.limits = [[watts, watts, 28.0], [watts, watts, 28.0]]
        self.twin.physics.settings_changed()

    def work(self, *, busy: bool) -> None:
        """Put all threads to work, or let them rest."""
        threads = frozenset(range(self.twin.spec.chip.cores * 2)) if busy else frozenset()
        self.twin.physics.demand = Demand(threads)

    def look(self) -> float:
        """Let half a second pass, sample, and return the package's temperature."""
        physics, state = self.twin.physics, self.twin.state
        physics.advance(0.5)
        watts = (state.energy_j - self._joules) * 2.0
        self._joules = state.energy_j
        grain = 8.0 if self._eighths else 1.0
        shown = round(physics.hottest_c() * grain) / grain
        self.rows.append((state.time_s - self.begun_s, watts, shown, state.rpm))
        self.cores.append([float(round(physics.core_c(core))) for core in range(self._cores)])
        return shown

    def readings(self) -> Readings:
        """Return what was sampled, times from load start."""
        time_s, power, temp, rpm = np.array(self.rows).T
        return Readings(time_s, power, temp, rpm, np.array(self.cores).T if self._cores else None)


def held(spec: MachineSpec, below_c: float, *, sure: bool = False, package_only: bool = False) -> fit.Interval | None:
    """Return what the hold run says of a rested twin."""
    watched = Watched(spec, package_only=package_only)
    for _ in range(round(2 * LEAD_S)):
        watched.look()
    watched.begun_s = watched.twin.state.time_s
    watched.rows = [(row[0] - LEAD_S, *row[1:]) for row in watched.rows]
    stock_w = spec.stock.sustained_w
    plan = HoldPlan(below_c, 4.0, 90.0, stock_w=stock_w, sure=sure)
    rest = np.array(watched.rows)
    watched.limit(plan.first(rest[:, 1].mean(), rest[:, 2].mean(), fan=spec.cooling.fan_high_rpm > 0))
    watched.work(busy=True)
    for step in range(round(2 * plan.hold_s)):
        temp = watched.look()
        if (watts := plan.next((step + 1) / 2.0, temp, watched.readings())) is not None:
            watched.limit(watts)
    watched.work(busy=False)
    for _ in range(round(2 * HOLD_REST_S)):
        watched.look()
    found = watched.readings()
    cooling = fit.fit(found.time_s, found.power_w, found.temp_c, found.rpm, cores_c=found.cores_c, size_w=stock_w)
    return cooling.carries(below_c) if cooling is not None else None


def proven(spec: MachineSpec, below_c: float) -> float | None:
    """Return the flat limit at which the hottest core of a rested twin stands at ``below_c`` after half an hour.

    None if it never draws so much that its cooling would limit it.
    """
    still = dataclasses.replace(spec, restless=0.0)

    def loaded(watts: float) -> SimulatedMachine:
        twin = SimulatedMachine(still, rested(spec), None)
        twin.state.limits = [[watts, watts, 28.0], [watts, watts, 28.0]]
        twin.physics.settings_changed()
        twin.physics.demand = Demand(frozenset(range(spec.chip.cores * 2)))
        return twin

    def ends_at(watts: float) -> float:
        twin = loaded(watts)
        twin.physics.advance(HELD_S)
        return twin.physics.hottest_c() - below_c

    free = loaded(400.0)
    free.physics.advance(5.0)
    high = free.state.package_w * 0.97
    low = 0.6 * high
    at_low, at_high = ends_at(low), ends_at(high)
    if at_high <= 0.0:
        return None
    for _ in range(9):
        slope = max(
            (at_high - at_low) / (high - low), 0.3
        )  # one that throttles stands at its ceiling, whatever the limit
        low, at_low, high = high, at_high, high - at_high / slope
        if abs(high - low) < 0.03:
            break
        at_high = ends_at(high)
    return high


@dataclasses.dataclass(frozen=True)
class Case:
    """A twin and how it is looked at."""

    model: int
    seed: int
    sure: bool = False
    package_only: bool = False
    times: float = 1.0
    fan_step_c: float = 0.0


def spec_of(case: Case) -> MachineSpec:
    """Return the twin of a case; its power is left open, so that the cooling is what limits it."""
    spec = varied(MODELS[case.model], case.seed, case.times)
    return dataclasses.replace(
        spec, cooling=dataclasses.replace(spec.cooling, fan_step_c=case.fan_step_c), peak_w=0.0, current_a=0.0
    )


def told_and_true(case: Case) -> tuple[float, float, float, float] | None:
    """Return value, low and high of the hold run, and the truth; None for a twin that its cooling does not limit."""
    spec = spec_of(case)
    below_c = BELOW_C[spec.name]
    truth = proven(spec, below_c)
    if truth is None:
        return None
    told = held(spec, below_c, sure=case.sure, package_only=case.package_only)
    return (np.inf, np.inf, np.inf, truth) if told is None else (told.value, told.low, told.high, truth)


@cache
def outcomes(twins: int = TWINS, **how: bool | float) -> dict[str, list[tuple[float, float, float, float]]]:
    """Return what was told and what is true, by model."""
    cases = [Case(k % 3, 40_000 + k, **how) for k in range(twins)]  # type: ignore[arg-type]
    with ProcessPoolExecutor() as pool:
        found = list(pool.map(told_and_true, cases))
    return {
        MODELS[m]().name: [o for case, o in zip(cases, found, strict=True) if case.model == m and o is not None]
        for m in range(3)
    }


def _near(found: dict[str, list[tuple[float, float, float, float]]]) -> Measured:
    pairs = [o for each in found.values() for o in each]
    errors = np.array([abs(value - truth) for value, _, _, truth in pairs])
    words = []
    for name, each in found.items():
        off = np.array([value - truth for value, _, _, truth in each])
        within = 100.0 * np.mean([low <= truth <= high for _, low, high, truth in each])
        near = 100.0 * np.mean(np.abs(off) <= 1.0)
        words.append(f"{name} {near:.0f} % near, bias {off.mean():+.2f} W, in the interval {within:.0f} %")
    return 100.0 * float(np.mean(errors <= 1.0)), f"{len(pairs)} twins; {'; '.join(words)}"


def hold(_folder: Path) -> Measured:
    """Share of fresh twins for which three minutes of holding and two of rest tell the watts within 1 W, in %."""
    return _near(outcomes(COVERED))


def hold_sure(_folder: Path) -> Measured:
    """The same with six minutes of holding."""
    return _near(outcomes(sure=True))


def _coverage(worst: Callable[[list[float]], float], _folder: Path, **how: bool) -> Measured:
    found = outcomes(COVERED, **how)
    each = {n: 100.0 * float(np.mean([lo <= t <= hi for _, lo, hi, t in some])) for n, some in found.items()}
    return worst(list(each.values())), "; ".join(f"{name} {share:.0f} %" for name, share in each.items())


least_covered = partial(_coverage, min)
most_covered = partial(_coverage, max)


def harder(_folder: Path) -> Measured:
    """The same as ``hold`` for twins twice as varied; beside it stepping fans and a package sensor alone."""
    value, detail = _near(outcomes(times=2.0))
    stepping, _ = _near(outcomes(fan_step_c=5.0))
    alone, _ = _near(outcomes(package_only=True))
    return value, f"{detail}; fans that step by 5 °C: {stepping:.0f} %; package sensor alone: {alone:.0f} %"
