"""Comparing runs: every number against the baseline's, and what makes the runs unlike."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from upright_bolt.analysis.conditions import Unlike, unlike
from upright_bolt.analysis.difference import (
    LEAST_SLICES,
    Difference,
    Estimate,
    difference,
    from_repeats,
    from_slices,
    scatter_of,
)
from upright_bolt.analysis.numbers import value_of, values_of
from upright_bolt.model.run import BURST_S, WHOLE_SLICE_S, RunRecord, RunState

OF_WORK = frozenset(("score", "score_per_watt", "energy_per_unit_j", "pace_spread"))


@dataclass(frozen=True, slots=True)
class Compared:
    """One run beside the baseline.

    Attributes:
        values: by number; None where not measured.
        percent: change against the baseline in percent; None where either is missing or the baseline is 0.
        change_by: change against the baseline in the number's own unit.
        difference: by number, the change in percent with its interval and verdict; only where both were measured.
        spread: by number, the standard deviation of its runs (or of the slices of one) in % of the mean.
        repeats: how many runs of its series stand behind it, itself included.
        unlike: what makes the two runs unlike; empty for the baseline itself.
    """

    run: RunRecord
    values: dict[str, float | None]
    percent: dict[str, float | None] = field(default_factory=dict)
    change_by: dict[str, float | None] = field(default_factory=dict)
    difference: dict[str, Difference] = field(default_factory=dict)
    spread: dict[str, float] = field(default_factory=dict)
    repeats: int = 1
    unlike: tuple[Unlike, ...] = ()


def compare(runs: list[RunRecord], baseline: RunRecord, known: Sequence[RunRecord] = ()) -> list[Compared]:
    """Return every run beside ``baseline``, in the order given.

    Args:
        runs: the runs.
        baseline: what they are compared with.
        known: all runs there are; repeats of one series among them stand together for each of its runs.
    """
    base_group = series_of(baseline, known)
    base = _means(base_group)
    rows = []
    for run in runs:
        group = series_of(run, known)
        values = _means(group)
        # a score of one workload beside that of another says nothing, nor does what is computed from it
        same = (run.head.workload, run.head.options) == (baseline.head.workload, baseline.head.options)
        keys = [key for key in base if same or key not in OF_WORK]
        percent = {key: _percent(values[key], base[key]) if key in keys else None for key in base}
        rows.append(
            Compared(
                run,
                values,
                percent,
                {key: _minus(values[key], base[key]) if key in keys else None for key in base},
                {} if run.id == baseline.id else _differences(percent, group, base_group),
                {key: spread for key in base if (spread := spread_of(group, key)) is not None},
                len(group),
                unlike(run, baseline) if run.id != baseline.id else (),
            )
        )
    return rows


def series_of(run: RunRecord, known: Sequence[RunRecord]) -> list[RunRecord]:
    """Return the finished runs of the same series with the same settings, ``run`` among them; it alone if none."""
    if not run.head.series:
        return [run]
    alike = [
        other
        for other in known
        if other.head.series == run.head.series
        and other.head.settings == run.head.settings
        and other.end.state is RunState.FINISHED
    ]
    return alike if any(other.id == run.id for other in alike) else [run]


def spread_of(group: Sequence[RunRecord], key: str) -> float | None:
    """Return the standard deviation of a number in % of its mean: over runs, or over the slices of one run.

    None for a single run without slices, and where the mean is not above zero.
    """
    values = [v for run in group if (v := value_of(run, key)) is not None]
    if not values or (mean := sum(values) / len(values)) <= 0:
        return None
    if len(values) >= 2:
        return 100.0 * float((sum((v - mean) ** 2 for v in values) / (len(values) - 1)) ** 0.5) / mean
    slices = _slices(group[0], key)
    return 100.0 * scatter_of(slices)[0] / mean if len(slices) >= LEAST_SLICES else None


def _means(group: Sequence[RunRecord]) -> dict[str, float | None]:
    """Return each number's mean over runs; None where any of them lacks it."""
    each = [values_of(run) for run in group]
    means: dict[str, float | None] = {}
    for key in each[0]:
        known = [v for values in each if (v := values[key]) is not None]
        means[key] = sum(known) / len(known) if len(known) == len(each) else None
    return means


def _differences(
    percent: Mapping[str, float | None], group: Sequence[RunRecord], base_group: Sequence[RunRecord]
) -> dict[str, Difference]:
    """Return, by number, the difference of two groups of runs; without interval where they tell no error."""
    found = {}
    for key, change in percent.items():
        if change is not None:
            of, against = (estimate(runs, key) for runs in (group, base_group))
            found[key] = difference(of, against) if of and against else Difference(change)
    return found


def estimate(group: Sequence[RunRecord], key: str) -> Estimate | None:
    """Return a number's estimate over runs of one setting, or over the slices of one run; None if they tell none."""
    values = [v for run in group if (v := value_of(run, key)) is not None]
    if len(values) >= 2:
        return from_repeats(values)
    if len(values) != 1:
        return None
    return from_slices(_slices(group[0], key), values[0])


def _slices(run: RunRecord, key: str) -> list[float]:
    if key == "score":
        return [
            part.score for part in run.slices if part.from_s >= BURST_S and part.to_s - part.from_s >= WHOLE_SLICE_S
        ]
    return run.end.numbers.spread.get(key, [])


def _minus(value: float | None, base: float | None) -> float | None:
    return None if value is None or base is None else value - base


def _percent(value: float | None, base: float | None) -> float | None:
    return None if value is None or base is None or base == 0 else (value / base - 1.0) * 100.0
