"""What a comparison of runs shows, in words: the finding, changes, intervals, and what makes runs unlike."""

from collections.abc import Sequence

from upright_bolt.analysis.comparison.compare import OF_STARTS, Compared, spread_of
from upright_bolt.analysis.comparison.conditions import Condition, ConditionKind, Unlike, UnlikeKind
from upright_bolt.analysis.comparison.difference import UNDECIDED, Difference
from upright_bolt.analysis.comparison.shared_heat import Exchange
from upright_bolt.analysis.numbers import Number, numbers_of, value_of
from upright_bolt.model.control import show_value
from upright_bolt.model.quantity import COUNT, POWER
from upright_bolt.model.run import RunRecord
from upright_bolt.model.workloads import Mode, workload
from upright_bolt.text.faults import fault_words

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
    number = next((number for number in numbers_of(group) if number.key == key), None)
    values = [v for run in group if (v := value_of(run, key)) is not None]
    if number is None or not values:
        return COUNT.show(None)
    spread = spread_of(group, number) if len(values) > 1 else None
    unit = "%" if number.ratio else number.quantity.unit
    return number.quantity.show(sum(values) / len(values)) + (f" ± {spread:.1f} {unit}" if spread is not None else "")


Change = tuple[str, str, str]
"""A number's key, what people call it, and the word for less of it."""
SETTLED, WHOLE = "Settled", "Whole run"
WATTS: Change = ("power_mean_w", "watts", "fewer")
SETTLED_WATTS: Change = ("power_sustained_w", "watts", "fewer")
CHANGES: dict[str, tuple[tuple[str, tuple[Change, ...]], ...]] = {
    "bursts": ((WHOLE, (("latency_median_ms", "lag in the middle", "less"),
                        ("latency_p99_ms", "lag at its worst", "less"), WATTS,
                        ("energy_per_unit_j", "energy for a task above rest", "less"))),),
    "frames": ((WHOLE, (("rate_fps", "frames", "fewer"), ("low_1_fps", "frames in the slowest hundredth", "fewer"),
                        WATTS)),),
    "battery": ((WHOLE, (("drain_w", "drain", "less"), ("latency_median_ms", "lag in the middle", "less"))),),
    "idle": ((SETTLED, (SETTLED_WATTS,)),),
}  # fmt: skip
"""The numbers that a finding is made of, by the part of the run that they are of."""


def _changes_of(run: RunRecord, compared: Compared) -> tuple[tuple[str, tuple[Change, ...]], ...]:
    if run.head.workload in CHANGES:
        return CHANGES[run.head.workload]
    timed = workload(run.head.workload).mode is Mode.COMMAND and not run.head.options.pattern
    score: Change = ("score", "time" if timed else "score", "less")
    if compared.percent.get("score_settled") is None:
        return ((WHOLE, (score, WATTS)),)
    return ((SETTLED, (("score_settled", "score", "less"), SETTLED_WATTS)), (WHOLE, (score, WATTS)))


def _change_words(compared: Compared, key: str, what: str, less: str) -> str:
    """Return a change in words, with its interval where the runs tell one; empty if it was not measured."""
    percent = compared.percent.get(key)
    found = compared.difference.get(key)
    if percent is None:
        return ""
    words = f"{abs(percent):.1f} % {'more' if percent > 0 else less} {what}"
    if found is None or found.low is None or found.high is None:
        return f"same {what}" if abs(percent) < SAME_PERCENT else words
    low, high = sorted((abs(found.low), abs(found.high)))
    return f"{words} ({low:.1f} to {high:.1f})"


def _part_words(compared: Compared, changes: Sequence[Change]) -> list[str]:
    """Return what one part of the run shows: what is decided, what is not, and what cannot be."""
    said: list[str] = []
    open_: list[str] = []
    doubted: dict[str, list[str]] = {}
    for key, what, less in changes:
        found = compared.difference.get(key)
        if compared.percent.get(key) is None:
            continue
        if found is not None and found.doubt:
            doubted.setdefault(found.doubt.value, []).append(what)
        elif found is not None and found.low is not None and found.verdict == UNDECIDED:
            span = f"{found.low:+.1f} to {found.high or 0.0:+.1f} %".replace("-", "−")
            open_.append(f"{what} ({span})")
        else:
            said.append(_change_words(compared, key, what, less))
    said += [f"no difference that these runs can show in {', '.join(open_)}"] if open_ else []
    return said + [f"{', '.join(what)} undecided: {doubt}" for doubt, what in doubted.items()]


def verdict_text(compared: Compared, baseline: RunRecord) -> str:
    """Return what the comparison shows, in a few sentences: what went wrong first, then each part of the run."""
    said = _wrong(compared.run, baseline)
    for part, changes in _changes_of(baseline, compared):
        words = _part_words(compared, changes)
        if part == WHOLE or baseline.head.workload == "idle":
            words += _peak(compared)
        if words:
            said.append(f"{part}: {', '.join(words)}.")
    if not said:
        return "Nothing was measured in both runs."
    return " ".join(said) + _why_cooler(compared, baseline) + _how_sure(compared)


def _wrong(run: RunRecord, baseline: RunRecord) -> list[str]:
    """Return what was wrong in the runs: what came of it says nothing of how fast they were."""
    said = []
    for words, what in ((fault_words(run), "this run"), (fault_words(baseline), "the baseline")):
        if words:
            said.append(f"✕ In {what}: {words}. Its score does not count, whatever it is.")
    return said


def _peak(compared: Compared) -> list[str]:
    peak, found = compared.change_by.get("temp_max_c"), compared.difference.get("temp_max_c")
    if peak is None:
        return []
    if found is not None and found.doubt:
        return [f"peak temperature undecided: {found.doubt}"]
    if abs(peak) < SAME_C:
        return ["as hot at its peak"]
    words = f"{abs(peak):.1f} °C {'hotter' if peak > 0 else 'cooler'} at its peak"
    if found is not None and found.low is not None and found.verdict == UNDECIDED:
        return [f"{words}, which may be chance"]
    return [words]


def _how_sure(compared: Compared) -> str:
    """Return what one run against one run can show; empty where there are repeats, or all is decided."""
    found = compared.difference.get("score_settled") or compared.difference.get("score")
    if found is None or found.doubt or found.low is None or found.high is None or found.verdict != UNDECIDED:
        return ""
    if compared.repeats > 1 or compared.base_repeats > 1:
        return ""
    least = (found.high - found.low) / 2.0
    return (
        f" One run each shows differences from about {least:.1f} % on this machine; repeats in turn show smaller ones "
        "(run … --with … --until-decided)."
    )


def _why_cooler(compared: Compared, baseline: RunRecord) -> str:
    """Explain the case people find baffling: more power on average, yet a lower peak."""
    peak = compared.change_by.get("temp_max_c")
    power = compared.change_by.get("power_sustained_w")
    doubted = any(compared.difference[key].doubt for key in ("temp_max_c", "power_sustained_w")
                  if key in compared.difference)  # fmt: skip
    if peak is None or power is None or doubted or not peak < -0.5 or not power > 0.5:
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


def interval_text(found: Difference | None, number: Number) -> str:
    """Return a difference's interval and verdict in words; empty where the runs tell none."""
    if found is None or found.low is None or found.high is None:
        return f"undecided: {found.doubt}" if found is not None and found.doubt else ""
    unit = "%" if number.ratio else number.quantity.unit
    verdict = f"{UNDECIDED}: {found.doubt}" if found.doubt else found.verdict
    sure = f"{100.0 * (1.0 - found.level):g} %"
    return f"{found.low:+.1f} to {found.high:+.1f} {unit} ({sure}): {verdict}".replace("-", "−")


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
    ConditionKind.BUDGET: "Watts before it",
    ConditionKind.POWER_SOURCE: "Power source",
    ConditionKind.PLATFORM_MODE: "Platform mode",
    ConditionKind.LID: "Lid",
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
    """Return all that makes a run unlike the baseline, a sentence each, and what to do about it."""
    said = [unlike(found) for found in row.unlike]
    what = {found.what for found in row.unlike}
    if what & OF_STARTS:
        said.append(f"Run both rested: “run {row.run.head.workload} --start rested”.")
    if ConditionKind.PLATFORM_MODE in what:
        said.append("To compare modes, try one: “run … --with platform-mode=quiet”.")
    return said


def verdict_with_conditions(row: Compared, baseline: RunRecord) -> str:
    """Return what the comparison shows, and what makes the runs unlike."""
    said = unlike_sentences(row)
    return " ".join([verdict_text(row, baseline), *(["Unlike:", *said] if said else [])])


def condition_title(kind: ConditionKind) -> str:
    """Return the words for a condition."""
    return _CONDITIONS[kind]


def condition_value(kind: ConditionKind, value: float | str | None) -> str:
    """Return a condition's value as a person reads it; empty where unknown."""
    if not isinstance(value, float):
        return value or ""
    if kind is ConditionKind.START:
        return f"{value:.0f} °C"
    if kind is ConditionKind.BUDGET:
        return f"{value:.1f} W"
    return f"{value:.1%}" if kind is ConditionKind.BACKGROUND else f"{value:.0f} %"


def condition_pair(condition: Condition) -> str:
    """Return both values of a condition, the baseline's first; one where they read the same."""
    base, other = (condition_value(condition.kind, value) for value in (condition.base, condition.other))
    return base if base == other else f"{base} / {other}"


def _plain(value: float | str | None) -> str:
    return f"{value:.0f}" if isinstance(value, float) else str(value or "any cores")


def shared_heat(exchange: Exchange) -> str:
    """Return at which step of a ladder the graphics chip gained most for what the processor lost."""
    above, below = (show_value(exchange.control, value) for value in (exchange.above, exchange.below))
    return (
        f"From {exchange.control} {above} to {below} the graphics chip gained {exchange.gained:.1f} % more frames for "
        f"{exchange.lost:.1f} % of the processor's score: the most for each point lost."
    )
