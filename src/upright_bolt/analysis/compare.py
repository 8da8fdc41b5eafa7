"""Comparing runs: every number against the baseline's, what makes the runs unlike, and the finding in words."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from upright_bolt.analysis.difference import (
    LEAST_SLICES,
    UNDECIDED,
    Difference,
    Estimate,
    difference,
    from_repeats,
    from_slices,
    scatter_of,
)
from upright_bolt.analysis.likeness import unlike
from upright_bolt.analysis.numbers import Number, numbers_of, value_of, values_of
from upright_bolt.model.quantity import COUNT, POWER
from upright_bolt.model.run import BURST_S, WHOLE_SLICE_S, RunRecord, RunState

OF_WORK = frozenset(("score", "score_per_watt", "energy_per_unit_j", "pace_spread"))
SAME_PERCENT = 0.5
SAME_C = 1.0
"""Smaller changes are called the same: limits are kept in steps of 1/8 W, and sensors read whole degrees."""


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
        unlike: sentences on what makes the two runs unlike; empty for the baseline itself.
    """

    run: RunRecord
    values: dict[str, float | None]
    percent: dict[str, float | None] = field(default_factory=dict)
    change_by: dict[str, float | None] = field(default_factory=dict)
    difference: dict[str, Difference] = field(default_factory=dict)
    spread: dict[str, float] = field(default_factory=dict)
    repeats: int = 1
    unlike: tuple[str, ...] = ()

    def change(self, number: Number) -> str:
        """Return the change as a person reads it; empty where there is none to state."""
        if number.as_difference:
            change = self.change_by.get(number.key)
            return "" if not change else f"{change:+.1f} {number.quantity.unit}".replace("-", "−").rstrip()
        change = self.percent.get(number.key)
        return "" if change is None else f"{change:+.1f} %".replace("-", "−")


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
        # a score of one workload beside that of another says nothing, nor does what is reckoned from it
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
                {key: told for key in base if (told := spread_of(group, key)) is not None},
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


def mean_and_spread(group: Sequence[RunRecord], key: str) -> str:
    """Return a number's mean over runs as a person reads it, with ± its standard deviation if there are several."""
    quantity = next((number.quantity for number in numbers_of(group) if number.key == key), COUNT)
    values = [v for run in group if (v := value_of(run, key)) is not None]
    if not values:
        return quantity.show(None)
    mean, spread = sum(values) / len(values), spread_of(group, key)
    return quantity.show(mean) + (f" ± {spread:.1f} %" if spread is not None and len(values) > 1 else "")


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


Change = tuple[str, str, str]
"""A number's key, what people call it, and the word for less of it."""
WATTS: Change = ("power_sustained_w", "watts", "fewer")
CHANGES: dict[str, tuple[Change, ...]] = {
    "bursts": (("latency_median_ms", "lag in the middle", "less"), ("latency_p99_ms", "lag at its worst", "less"),
               WATTS, ("energy_per_unit_j", "energy for a task", "less")),
    "frames": (("rate_fps", "frames", "fewer"), ("low_1_fps", "frames in the slowest hundredth", "fewer"), WATTS),
    "battery": (("drain_w", "drain", "less"), ("latency_median_ms", "lag in the middle", "less")),
    "idle": (WATTS,),
}  # fmt: skip
"""What a comparison is told by, where that is not the score and the watts."""


def _changes_of(run: RunRecord) -> tuple[Change, ...]:
    timed = run.head.workload == "command" and not run.head.options.pattern
    return CHANGES.get(run.head.workload, (("score", "time" if timed else "score", "less"), WATTS))


def _change_words(compared: Compared, key: str, what: str, less: str) -> str:
    """Return a change in words, with its interval where the runs tell one; empty if it was not measured."""
    change = compared.percent.get(key)
    told = compared.difference.get(key)
    if change is None:
        return ""
    words = f"{abs(change):.1f} % {'more' if change > 0 else less} {what}"
    if told is None or told.low is None or told.high is None:
        return f"same {what}" if abs(change) < SAME_PERCENT else words
    if told.verdict == UNDECIDED:
        span = f"{told.low:+.1f} to {told.high:+.1f} %".replace("-", "−")
        return f"no difference in {what} that these runs can show ({span})"
    low, high = sorted((abs(told.low), abs(told.high)))
    return f"{words} ({low:.1f} to {high:.1f})"


def finding(compared: Compared, baseline: RunRecord) -> str:
    """Return what the comparison shows, in a sentence or two."""
    changes = _changes_of(baseline)
    parts = [words for key, what, less in changes if (words := _change_words(compared, key, what, less))]
    peak = compared.change_by.get("temp_max_c")
    if peak is not None and abs(peak) < SAME_C:
        parts.append("as hot at its peak")
    elif peak is not None:
        parts.append(f"{abs(peak):.1f} °C {'hotter' if peak > 0 else 'cooler'} at its peak")
    if not parts:
        return "Nothing was measured in both runs."
    sentence = ", ".join(parts) + "."
    return sentence[0].upper() + sentence[1:] + _why_cooler(compared, baseline)


def _why_cooler(compared: Compared, baseline: RunRecord) -> str:
    """Explain the case people find baffling: more power on average, yet a lower peak."""
    peak = compared.change_by.get("temp_max_c")
    power = compared.change_by.get("power_sustained_w")
    if peak is None or power is None or not peak < -0.5 or not power > 0.5:
        return ""
    burst = baseline.head.settings.get("burst")
    sustained = baseline.head.settings.get("sustained")
    flat = compared.run.head.settings.get("burst")
    if not (isinstance(burst, float) and isinstance(sustained, float) and isinstance(flat, float) and flat < burst):
        return ""
    return (
        f" It peaks cooler although it draws more: the baseline may burst to {POWER.show(burst)} before it falls to "
        f"{POWER.show(sustained)}, this one never leaves {POWER.show(flat)}."
    )


def interval_text(found: Difference | None) -> str:
    """Return a difference's interval and verdict in words; empty where the runs tell none."""
    if found is None or found.low is None or found.high is None:
        return ""
    return f"{found.low:+.1f} to {found.high:+.1f} % (95 %): {found.verdict}".replace("-", "−")
