"""What a comparison of runs shows, in words: the finding, changes, intervals, and what makes runs unlike."""

from collections.abc import Sequence

from upright_bolt.analysis.compare import Compared, spread_of
from upright_bolt.analysis.conditions import Condition, ConditionKind, Unlike, UnlikeKind
from upright_bolt.analysis.difference import UNDECIDED, Difference
from upright_bolt.analysis.numbers import Number, numbers_of, value_of
from upright_bolt.model.quantity import COUNT, POWER
from upright_bolt.model.run import RunRecord

SAME_PERCENT = 0.5
SAME_C = 1.0
"""Smaller changes are called the same: limits are kept in steps of 1/8 W, and sensors read whole degrees."""


def change(row: Compared, number: Number) -> str:
    """Return a change against the baseline as a person reads it; empty where there is none to state."""
    if number.as_difference:
        by = row.change_by.get(number.key)
        return "" if not by else f"{by:+.1f} {number.quantity.unit}".replace("-", "−").rstrip()
    percent = row.percent.get(number.key)
    return "" if percent is None else f"{percent:+.1f} %".replace("-", "−")


def mean_and_spread(group: Sequence[RunRecord], key: str) -> str:
    """Return a number's mean over runs as a person reads it, with ± its standard deviation if there are several."""
    quantity = next((number.quantity for number in numbers_of(group) if number.key == key), COUNT)
    values = [v for run in group if (v := value_of(run, key)) is not None]
    if not values:
        return quantity.show(None)
    mean, spread = sum(values) / len(values), spread_of(group, key)
    return quantity.show(mean) + (f" ± {spread:.1f} %" if spread is not None and len(values) > 1 else "")


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
"""The numbers that a finding is made of, where that is not the score and the watts."""


def _changes_of(run: RunRecord) -> tuple[Change, ...]:
    timed = run.head.workload == "command" and not run.head.options.pattern
    return CHANGES.get(run.head.workload, (("score", "time" if timed else "score", "less"), WATTS))


def _change_words(compared: Compared, key: str, what: str, less: str) -> str:
    """Return a change in words, with its interval where the runs tell one; empty if it was not measured."""
    percent = compared.percent.get(key)
    found = compared.difference.get(key)
    if percent is None:
        return ""
    words = f"{abs(percent):.1f} % {'more' if percent > 0 else less} {what}"
    if found is None or found.low is None or found.high is None:
        return f"same {what}" if abs(percent) < SAME_PERCENT else words
    if found.verdict == UNDECIDED:
        span = f"{found.low:+.1f} to {found.high:+.1f} %".replace("-", "−")
        return f"no difference in {what} that these runs can show ({span})"
    low, high = sorted((abs(found.low), abs(found.high)))
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


_UNLIKE = {
    UnlikeKind.MACHINE: "It ran on {mine}, the baseline on {base}.",
    UnlikeKind.WORKLOAD: "It is another workload: {mine}, not {base}.",
    UnlikeKind.THREADS: "It kept {mine} threads busy, the baseline {base}.",
    UnlikeKind.CORES: "It ran on {mine}, the baseline on {base}.",
    UnlikeKind.OPTIONS: "Something else was asked of the workload: another command, pattern or rate.",
    UnlikeKind.LENGTH: "It lasted {mine} s, the baseline {base} s.",
    UnlikeKind.END: "It did not run to its end ({mine}).",
}
_CONDITIONS = {
    ConditionKind.START: "Start",
    ConditionKind.POWER_SOURCE: "Power source",
    ConditionKind.PLATFORM_MODE: "Platform mode",
    ConditionKind.BACKGROUND: "Others' work",
    ConditionKind.CHARGE: "Battery charge",
    ConditionKind.KERNEL: "Kernel",
}


def unlike(found: Unlike) -> str:
    """Return what makes a run unlike the baseline, as a sentence."""
    if isinstance(found.what, ConditionKind):
        mine, base = (condition_value(found.what, value) or "unknown" for value in (found.mine, found.base))
        return f"{_CONDITIONS[found.what]}: {mine}, the baseline {base}."
    return _UNLIKE[found.what].format(mine=_plain(found.mine), base=_plain(found.base))


def unlike_sentences(row: Compared) -> list[str]:
    """Return all that makes a run unlike the baseline, a sentence each."""
    return [unlike(found) for found in row.unlike]


def finding_with_conditions(row: Compared, baseline: RunRecord) -> str:
    """Return what the comparison shows, and what makes the runs unlike."""
    said = unlike_sentences(row)
    return " ".join([finding(row, baseline), *(["Unlike:", *said] if said else [])])


def condition_title(kind: ConditionKind) -> str:
    """Return the words for a condition."""
    return _CONDITIONS[kind]


def condition_value(kind: ConditionKind, value: float | str | None) -> str:
    """Return a condition's value as a person reads it; empty where unknown."""
    if not isinstance(value, float):
        return value or ""
    if kind is ConditionKind.START:
        return f"{value:.0f} °C"
    return f"{value:.1%}" if kind is ConditionKind.BACKGROUND else f"{value:.0f} %"


def condition_pair(condition: Condition) -> str:
    """Return both values of a condition, the baseline's first; one where they read the same."""
    base, other = (condition_value(condition.kind, value) for value in (condition.base, condition.other))
    return base if base == other else f"{base} / {other}"


def _plain(value: float | str | None) -> str:
    return f"{value:.0f}" if isinstance(value, float) else str(value or "any cores")
