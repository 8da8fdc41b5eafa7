"""How far comparisons can be believed: false alarms of a setting against itself, and hits of a true difference."""

import dataclasses
import os
import time
from concurrent.futures import ProcessPoolExecutor
from functools import cache
from itertools import pairwise
from pathlib import Path

import numpy as np

from upright_bolt.analysis.comparison import difference as diff
from upright_bolt.analysis.comparison.run_spread import PRIOR_FREEDOM, PRIOR_RELATIVE
from upright_bolt.analysis.comparison.sequential_test import decided, look, runs_to_next_look
from upright_bolt.simulator.chip import tern
from upright_bolt.simulator.demand import Demand
from upright_bolt.simulator.machine import SimulatedMachine
from upright_bolt.simulator.state import fresh_state
from upright_bolt.workload.load import Task
from upright_bolt.workload.pool import HostLoad

Measured = tuple[float, str]
PAIRS = 400
RUN_S = 120
SLICE_S = 10
PAUSE_S = 84.0
EACH = 4
RESTLESS = (1.0, 2.0, 4.0)
"""Runs of one setting then lie about 0.25, 0.5 and 1 % apart."""


def false_alarms_single(_folder: Path) -> Measured:
    """Share of pairs of single runs of one setting, on twins as restless as machines are, called different, in %.

    The spread from run to run is taken as it is before a machine's own repeats have told it.
    """
    with ProcessPoolExecutor() as pool:
        found = list(pool.map(_single_alarm, range(PAIRS), chunksize=10))
    return _alarms(found, f"pairs of runs of {RUN_S} s on tern, the first run of each twin not counted")


def false_alarms_repeats(_folder: Path) -> Measured:
    """The same for four runs against four, in turn (A B B A), after one that is not counted."""
    with ProcessPoolExecutor() as pool:
        found = list(pool.map(_repeats_alarm, range(PAIRS), chunksize=10))
    return _alarms(found, f"comparisons of {EACH} against {EACH} runs of {RUN_S} s on tern")


def _alarms(found: list[bool], what: str) -> Measured:
    by = [100.0 * float(np.mean(found[i :: len(RESTLESS)])) for i in range(len(RESTLESS))]
    each = ", ".join(
        f"{share:.1f} % at {0.25 * restless:g} % spread" for share, restless in zip(by, RESTLESS, strict=True)
    )
    return 100.0 * float(np.mean(found)), f"{sum(found)} of {len(found)} {what}; {each}"


def _runs(seed: int, count: int) -> list[tuple[float, list[float]]]:
    """Return score and slices of runs one after another with equal pauses, the first left out."""
    spec = dataclasses.replace(tern(), restless=RESTLESS[seed % len(RESTLESS)])
    twin = SimulatedMachine(spec, fresh_state(spec, 5000 + seed), None)
    everyone, nobody = Demand(frozenset(range(spec.chip.cores * 2))), Demand()
    made = []
    for _ in range(count + 1):
        twin.physics.demand = everyone
        begun, slices = twin.state.units, []
        for _ in range(RUN_S // SLICE_S):
            before = twin.state.units
            twin.physics.advance(SLICE_S)
            slices.append((twin.state.units - before) * 60.0 / SLICE_S)
        made.append(((twin.state.units - begun) * 60.0 / RUN_S, slices[2:]))
        twin.physics.demand = nobody
        twin.physics.advance(PAUSE_S)
    return made[1:]


def _single_alarm(seed: int) -> bool:
    prior = diff.Spread(PRIOR_RELATIVE, PRIOR_FREEDOM)
    a, b = (diff.from_one(score, prior, slices) for score, slices in _runs(seed, 2))
    return diff.difference(b, a).verdict != diff.UNDECIDED


def _repeats_alarm(seed: int) -> bool:
    scores = [score for score, _ in _runs(seed, 2 * EACH)]
    a, b = ([s for i, s in enumerate(scores) if (i % 4 in (0, 3)) is own] for own in (True, False))
    return diff.difference(diff.from_repeats(b), diff.from_repeats(a)).verdict != diff.UNDECIDED


HERE_S = 90.0
HERE_PART_S = 1.0
HERE_EACH = 4


def false_alarms_here(_folder: Path) -> Measured:
    """The same on this computer's own cores: short runs of one core in turn (A B B A …), 4 of each in a comparison."""
    cpus = tuple(sorted(os.sched_getaffinity(0)))
    alarms = count = 0
    for cpu in cpus:
        scores = _parts(cpu)
        for first in range(0, len(scores) - 2 * HERE_EACH + 1, 2 * HERE_EACH):
            group = scores[first : first + 2 * HERE_EACH]
            a, b = ([s for i, s in enumerate(group) if (i % 4 in (0, 3)) == own] for own in (True, False))
            found = diff.difference(diff.from_repeats(b), diff.from_repeats(a))
            alarms += found.verdict != diff.UNDECIDED
            count += 1
    detail = f"{alarms} of {count} comparisons of {HERE_EACH} against {HERE_EACH}, each {HERE_PART_S:.0f} s, in turn"
    return 100.0 * alarms / count, f"{detail}, on {len(cpus)} cores"


def _parts(cpu: int) -> list[float]:
    """Return the work done in each second on one core that is kept busy."""
    load = HostLoad(Task("steady", (cpu,)))
    load.prepare()
    while not load.ready():
        time.sleep(0.02)
    start = load.start()
    while load.complete_until() < start + HERE_S:
        time.sleep(0.2)
    edges = [start + i * HERE_PART_S for i in range(int(HERE_S / HERE_PART_S) + 1)]
    done = [load.units_until(edge) for edge in edges]
    load.stop()
    return [after - before for before, after in pairwise(done)]


SERIES = 4000


def hits(_folder: Path) -> Measured:
    """Share of series at a true 2 % and 1 % spread in which repeats until decided find it, in %."""
    return _share_decided(0.02)


def runs_needed(_folder: Path) -> Measured:
    """How many runs of each setting such a series takes on average."""
    return _mean_runs(_series(0.02)), f"{SERIES} series; at least 4, at most 10"


def false_alarms_looks(_folder: Path) -> Measured:
    """Share of series of a setting against itself that end with a difference, over all looks, in %."""
    return _share_decided(0.0)


def _share_decided(step: float) -> Measured:
    found = _series(step)
    share = 100.0 * float(np.mean([hit for hit, _ in found]))
    return share, f"{SERIES} series, {_mean_runs(found):.2f} runs each on average"


def _mean_runs(found: list[tuple[bool, int]]) -> float:
    return float(np.mean([count for _, count in found]))


@cache
def _series(step: float) -> list[tuple[bool, int]]:
    """Return whether each series was decided, and after how many runs of each setting."""
    dice = np.random.default_rng(7)
    found = []
    for _ in range(SERIES):
        a: list[float] = []
        b: list[float] = []
        while not (a and decided(b, a)):
            more = runs_to_next_look(len(a))
            a += list(100.0 * np.exp(dice.normal(0.0, 0.01, more)))
            b += list(100.0 * np.exp(dice.normal(step, 0.01, more)))
        last = look(b, a)
        found.append((last is not None and last.verdict != diff.UNDECIDED, len(a)))
    return found
