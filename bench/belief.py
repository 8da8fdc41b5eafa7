"""How far results can be believed: false alarms, hits, and what three minutes tell about half an hour."""

import dataclasses
import os
import time
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import numpy as np

from support import loaded_twin, measured_run
from upright_bolt.analysis import difference as diff
from upright_bolt.analysis import thermal
from upright_bolt.twin.chip import TwinSpec, plover, skerry, tern
from upright_bolt.twin.machine import Twin
from upright_bolt.twin.state import fresh_state
from upright_bolt.workload.load import Task
from upright_bolt.workload.pool import HostLoad

Measured = tuple[float, str]
PAIRS = 400
RUN_S = 120
SLICE_S = 10
TWINS = 50
BELOW_C = {"tern": 80.0, "skerry": 75.0, "plover": 75.0}
FIRST_W = {"tern": 25.0, "skerry": 54.0, "plover": 9.0}


def false_alarms(_folder: Path) -> Measured:
    """Share of pairs of single runs at one setting, on twins of different chance, that are called different, in %."""
    runs = [_scored(seed) for seed in range(2 * PAIRS)]
    found = [
        diff.difference(*(diff.from_slices(slices, score) for score, slices in pair))  # type: ignore[arg-type]
        for pair in zip(runs[::2], runs[1::2], strict=True)
    ]
    alarms = sum(entry.verdict != diff.UNDECIDED for entry in found)
    return 100.0 * alarms / len(found), f"{alarms} of {len(found)} pairs of runs of {RUN_S} s on tern"


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
            found = diff.difference(diff.from_repeats(b), diff.from_repeats(a))  # type: ignore[arg-type]
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


def _scored(seed: int) -> tuple[float, list[float]]:
    spec = tern()
    twin = Twin(spec, fresh_state(spec, 5000 + seed), None)
    twin.demand(frozenset(range(spec.chip.cores * 2)))
    begun, slices = twin.state.units, []
    for _ in range(RUN_S // SLICE_S):
        before = twin.state.units
        twin.physics.advance(SLICE_S)
        slices.append((twin.state.units - before) * 60.0 / SLICE_S)
    return (twin.state.units - begun) * 60.0 / RUN_S, slices[2:]


def hits(_folder: Path) -> Measured:
    """Share of comparisons of 5 runs each, 2 % apart at a standard deviation of 1 %, that are called so, in %."""
    return _found(2.0, 1.0)


def hits_known(_folder: Path) -> Measured:
    """The same where 1 % is the whole range that the five runs span (standard deviation 0.43 %)."""
    return _found(2.0, 1.0 / 2.326)


def _found(step: float, spread: float) -> Measured:
    dice = np.random.default_rng(7)
    count = 4000
    hit = 0
    for _ in range(count):
        a, b = dice.normal(100.0, spread, 5), dice.normal(100.0 + step, spread, 5)
        found = diff.difference(diff.from_repeats(b), diff.from_repeats(a))  # type: ignore[arg-type]
        hit += found.verdict == diff.HIGHER
    return 100.0 * hit / count, f"{count} comparisons; a test that knew the spread exactly would find 88.5 % at 1 %"


def carries(_folder: Path) -> Measured:
    """Share of twins, their cooling varied, for which three minutes tell the watts of half an hour within 1 W, in %."""
    errors, held = [], 0
    for k in range(TWINS):
        spec = _varied((tern, skerry, plover)[k % 3], 300 + k)
        below = BELOW_C[spec.name]
        truth = _proven(spec, below)
        cooling = thermal.fit(*measured_run(spec, FIRST_W[spec.name], 180.0))
        told = cooling.carries(below) if cooling is not None else None
        if told is None:
            errors.append(float("inf"))
            continue
        errors.append(abs(told.value - truth))
        held += told.low <= truth <= told.high
    near = 100.0 * sum(error <= 1.0 for error in errors) / TWINS
    detail = f"median error {np.median(errors):.2f} W, within the interval on {100.0 * held / TWINS:.0f} %"
    return near, f"{TWINS} twins, one run of 3 minutes each at a first guess; {detail}"


def _varied(make: Callable[[], TwinSpec], seed: int) -> TwinSpec:
    dice = np.random.default_rng(seed)
    spec = make()
    cooling = spec.cooling
    widths = {
        "sink_j_per_k": 0.25, "case_j_per_k": 0.2, "die_to_sink": 0.15, "sink_to_case": 0.12, "case_to_air": 0.12,
        "still_w_per_k": 0.2, "fan_w_per_k_krpm": 0.2,
    }  # fmt: skip
    changed = {name: float(getattr(cooling, name) * np.exp(dice.normal(0, width))) for name, width in widths.items()}
    air = float(cooling.ambient_c + dice.normal(0, 2.5))
    return dataclasses.replace(spec, cooling=dataclasses.replace(cooling, ambient_c=air, **changed), seed=seed)


def _proven(spec: TwinSpec, below_c: float) -> float:
    """Return the highest limit that stays below ``below_c`` in the last minute of half an hour."""
    low, high = 3.0, 95.0
    for _ in range(9):
        middle = (low + high) / 2.0
        twin = loaded_twin(spec, middle)
        twin.physics.advance(1770.0)
        low, high = (middle, high) if twin.physics.hottest_c() <= below_c else (low, middle)
    return low
