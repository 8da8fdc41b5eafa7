"""Comparing runs: every number against the baseline's, and what makes the runs unlike.

A verdict needs like conditions. Where two runs began in unlike states, numbers of the whole run are undecided, while
those of the settled part keep theirs; where something else was unlike, all of them are undecided. A run with wrong
results takes no part in what is faster.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from math import sqrt

from upright_bolt.analysis.comparison.conditions import ConditionKind, Unlike, UnlikeKind, typical, unlike
from upright_bolt.analysis.comparison.difference import (
    LEAST_SLICES,
    LEVEL,
    UNDECIDED,
    Difference,
    Doubt,
    Estimate,
    difference,
    from_one,
    from_repeats,
    scatter_of,
)
from upright_bolt.analysis.comparison.run_spread import RunSpreads, group_key
from upright_bolt.analysis.comparison.sequential_test import LOOK_LEVEL
from upright_bolt.analysis.numbers import NUMBERS, Number, value_of, values_of
from upright_bolt.model.run import BURST_S, WHOLE_SLICE_S, RunRecord, RunRole, settled_from_s

OF_STARTS = frozenset((ConditionKind.START, ConditionKind.BUDGET))
OF_SURROUNDINGS = frozenset(
    (
        ConditionKind.POWER_SOURCE,
        ConditionKind.PLATFORM_MODE,
        ConditionKind.LID,
        ConditionKind.BACKGROUND,
        ConditionKind.CHARGE,
    )
)


@dataclass(frozen=True, slots=True)
class Compared:
    """One run beside the baseline.

    Attributes:
        values: by number; None where not measured.
        percent: change against the baseline in percent, of ratios only; None where either is missing or the baseline
            is 0, and of work where it is not the same work or results were wrong.
        change_by: change against the baseline in the number's own unit.
        difference: by number, the change with its interval and verdict; only where both were measured.
        spread: by number, the standard deviation of its runs, or of the slices of one: in % of the mean for a ratio,
            else in the number's unit.
        repeats, base_repeats: how many runs of its series stand behind it, itself included, and behind the baseline.
        unlike: what makes the two runs unlike; empty for the baseline itself.
    """

    run: RunRecord
    values: dict[str, float | None]
    percent: dict[str, float | None] = field(default_factory=dict)
    change_by: dict[str, float | None] = field(default_factory=dict)
    difference: dict[str, Difference] = field(default_factory=dict)
    spread: dict[str, float] = field(default_factory=dict)
    repeats: int = 1
    base_repeats: int = 1
    unlike: tuple[Unlike, ...] = ()


def compare(runs: list[RunRecord], baseline: RunRecord, known: Sequence[RunRecord] = ()) -> list[Compared]:
    """Return every run beside ``baseline``, in the order given.

    Args:
        runs: the runs.
        baseline: what they are compared with.
        known: all runs there are: repeats of one series among them stand together for each of its runs, and tell how
            far runs lie apart on their machine.
    """
    spreads = RunSpreads(known)
    return [_beside(run, baseline, known, spreads) for run in runs]


def _beside(run: RunRecord, baseline: RunRecord, known: Sequence[RunRecord], spreads: RunSpreads) -> Compared:
    group, base_group = series_of(run, known), series_of(baseline, known)
    values, base = _means(group), _means(base_group)
    # A series is judged by its typical run: one disturbed repeat of four must not spoil all of them.
    found = unlike(typical(group, run), typical(base_group, baseline)) if run.id != baseline.id else ()
    percent: dict[str, float | None] = {}
    change_by: dict[str, float | None] = {}
    differences = {}
    for number in NUMBERS:
        key = number.key
        # Numbers of the work are told of like work only; temperature and power of any.
        told = _tells(number, run, baseline)
        value, before = (values[key], base[key]) if told else (None, None)
        change_by[key] = None if value is None or before is None else value - before
        if number.ratio:
            percent[key] = None if value is None or not before else (value / before - 1.0) * 100.0
        change = percent[key] if number.ratio else change_by[key]
        if change is not None and run.id != baseline.id:
            of, against = (estimate(some, number, spreads) for some in (group, base_group))
            # A series that was looked at several times has had several chances of a false verdict.
            level = LOOK_LEVEL if looked_at(group) and looked_at(base_group) else LEVEL
            plain = difference(of, against, level) if of and against else Difference(change)
            # The interval is kept beside the doubt, so that a person can see what was measured.
            differences[key] = _doubted(plain, number, found)
    return Compared(
        run,
        values,
        percent,
        change_by,
        differences,
        {number.key: spread for number in NUMBERS if (spread := spread_of(group, number)) is not None},
        len(group),
        len(base_group),
        found,
    )


def _tells(number: Number, run: RunRecord, baseline: RunRecord) -> bool:
    """Tell whether two runs say anything about each other by a number.

    The score of one workload beside that of another says nothing, nor does one that wrong results stand behind.
    """
    if not number.of_work:
        return True
    # Options change the work itself: threads, weight and pace.
    same = (run.head.workload, run.head.options) == (baseline.head.workload, baseline.head.options)
    return same and not run.broke and not baseline.broke


def _doubted(found: Difference, number: Number, unlike: Sequence[Unlike]) -> Difference:
    doubt = doubt_of(number, unlike)
    return replace(found, verdict=UNDECIDED, doubt=doubt) if doubt else found


def doubt_of(number: Number, unlike: Sequence[Unlike]) -> Doubt:
    """Return why a number of two runs that are so unlike shows nothing."""
    what = {entry.what for entry in unlike}
    # In order of weight: surroundings touch every number, starts and lengths only those of the whole run.
    if what & OF_SURROUNDINGS:
        return Doubt.CONDITIONS
    if number.settled:
        return Doubt.NONE
    if what & OF_STARTS:
        return Doubt.STARTS
    return Doubt.LENGTHS if UnlikeKind.LENGTH in what or UnlikeKind.END in what else Doubt.NONE


def looked_at(group: Sequence[RunRecord]) -> bool:
    """Tell whether runs are of a series that was looked at several times before it ended."""
    return all(run.head.role is RunRole.LOOKED_AT for run in group)


def series_of(run: RunRecord, known: Sequence[RunRecord]) -> list[RunRecord]:
    """Return the runs of the same series and settings that count, ``run`` among them; it alone if none."""
    if not run.head.series or not run.usable:
        return [run]
    key = group_key(run)
    alike = [o for o in known if o.head.series == run.head.series and group_key(o) == key and o.usable]
    return alike if any(other.id == run.id for other in alike) else [run]


def spread_of(group: Sequence[RunRecord], number: Number) -> float | None:
    """Return the standard deviation of a number over runs, or over the slices of one run.

    In % of the mean for a ratio, else in its unit. None for a single run without slices, and for a ratio whose mean is
    not above zero.
    """
    values = [v for run in group if (v := value_of(run, number.key)) is not None]
    if not values:
        return None
    mean = sum(values) / len(values)
    if number.ratio and mean <= 0:
        return None
    whole = 100.0 / mean if number.ratio else 1.0
    if len(values) >= 2:
        return sqrt(sum((v - mean) ** 2 for v in values) / (len(values) - 1)) * whole
    slices = _slices(group[0], number.key)
    return scatter_of(slices)[0] * whole if len(slices) >= LEAST_SLICES else None


def _means(group: Sequence[RunRecord]) -> dict[str, float | None]:
    """Return each number's mean over runs; None where any of them lacks it."""
    each = [values_of(run) for run in group]
    means: dict[str, float | None] = {}
    for key in each[0]:
        known = [v for values in each if (v := values[key]) is not None]
        # A mean over the runs that happen to have a number would compare different runs by different numbers.
        means[key] = sum(known) / len(known) if len(known) == len(each) else None
    return means


def estimate(group: Sequence[RunRecord], number: Number, spreads: RunSpreads) -> Estimate | None:
    """Return a number's estimate over runs of one setting, or for one run; None if nothing tells its error."""
    values = [v for run in group if (v := value_of(run, number.key)) is not None]
    if len(values) >= 2:
        return from_repeats(values, ratio=number.ratio)
    if len(values) != 1:
        return None
    run = group[0]
    slices = _slices(run, number.key)
    return from_one(values[0], spreads.of(run, number), slices, _part(run, number), ratio=number.ratio)


def _part(run: RunRecord, number: Number) -> float:
    """Return what part of a run's slices a number is the mean of."""
    start = settled_from_s(run.end.duration_s) if number.settled else None
    return 1.0 if start is None else (run.end.duration_s - start) / (run.end.duration_s - BURST_S)


def _slices(run: RunRecord, key: str) -> list[float]:
    if key in ("score", "score_settled"):
        return [
            part.score for part in run.slices if part.from_s >= BURST_S and part.to_s - part.from_s >= WHOLE_SLICE_S
        ]
    return run.end.numbers.spread.get(key, [])
