"""Comparing runs: every number against the baseline's, what makes the runs unlike, and the finding in words."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from upright_bolt.analysis.difference import UNDECIDED, Difference, Estimate, difference, from_repeats, from_slices
from upright_bolt.model.quantity import (
    CLOCK,
    COUNT,
    EFFICIENCY,
    ENERGY,
    FRAME_RATE,
    HOURS,
    LATENCY,
    POWER,
    SCORE,
    SHARE,
    SPEED,
    TEMPERATURE,
    TIME,
    WAKE_UPS,
    Quantity,
)
from upright_bolt.model.run import BURST_S, WHOLE_SLICE_S, RunRecord, RunState
from upright_bolt.model.work import score_quantity

START_TEMP_C = 4.0
"""A start this much warmer moves the first minutes' temperatures by about as much as one step of a limit."""
BACKGROUND_SHARE = 0.03
"""Others' work of this share costs a score about as much: more than a well-kept run's spread."""
CHARGE_PERCENT = 40.0
"""A battery's voltage falls over so much of its charge by a few percent, and the watts it can give at once with it."""
LOW_CHARGE_PERCENT = 20.0
"""Below about a fifth, firmware lowers its limits on battery."""
SHORT_PART = 0.1
SAME_PERCENT = 0.5
SAME_C = 1.0
"""Smaller changes are called the same: limits are kept in steps of 1/8 W, and sensors read whole degrees."""


@dataclass(frozen=True, slots=True)
class Number:
    """One number that runs are compared by.

    Attributes:
        key: its name in JSON.
        as_difference: shown as a difference in its unit rather than in percent (a percentage of °C says nothing).
    """

    key: str
    title: str
    quantity: Quantity
    as_difference: bool = False


NUMBERS = (
    Number("score", "Score", SCORE),
    Number("clock_burst_mhz", "Clock, first 20 s", CLOCK),
    Number("clock_sustained_mhz", "Clock, settled", CLOCK),
    Number("power_burst_w", "Power, first 20 s", POWER),
    Number("power_sustained_w", "Power, settled", POWER),
    Number("temp_max_c", "Highest temperature", TEMPERATURE, as_difference=True),
    Number("temp_sustained_c", "Settled temperature", TEMPERATURE, as_difference=True),
    Number("fan_sustained_rpm", "Fan, settled", SPEED),
    Number("score_per_watt", "Score per watt", EFFICIENCY),
    Number("energy_per_unit_j", "Energy per unit", ENERGY),
    Number("latency_median_ms", "Latency, median", LATENCY),
    Number("latency_p95_ms", "Latency, 95 % below", LATENCY),
    Number("latency_p99_ms", "Latency, 99 % below", LATENCY),
    Number("rate_fps", "Average rate", FRAME_RATE),
    Number("low_1_fps", "1 % low", FRAME_RATE),
    Number("low_01_fps", "0.1 % low", FRAME_RATE),
    Number("late_share", "Late frames", SHARE, as_difference=True),
    Number("drain_w", "Battery drain", POWER),
    Number("hours_full", "Hours from full", HOURS),
    Number("wakeups_per_s", "Wake-ups", WAKE_UPS),
    Number("blocks_checked", "Blocks checked", COUNT),
    Number("planted_caught", "Planted errors caught", COUNT),
    Number("times_run", "Times run", COUNT),
    Number("times_spread", "Spread of the times", SHARE, as_difference=True),
    Number("pace_spread", "Pace, spread", SHARE, as_difference=True),
    Number("first_held_s", "First held back after", TIME, as_difference=True),
    Number("errors", "Errors", COUNT, as_difference=True),
)
ALWAYS = frozenset(("score", "clock_burst_mhz", "clock_sustained_mhz", "power_burst_w", "power_sustained_w",
                    "temp_max_c", "temp_sustained_c", "fan_sustained_rpm", "score_per_watt", "errors"))  # fmt: skip
"""Numbers that every run is shown with, measured or not; the others only where one was measured."""


def numbers_of(runs: Iterable[RunRecord]) -> tuple[Number, ...]:
    """Return the numbers to show for some runs, the score's with the unit of their workload."""
    found = list(runs)
    values = [values_of(run) for run in found]
    quantities = {(q := score_quantity(run.head.workload, run.head.options)).unit: q for run in found}
    score = next(iter(quantities.values())) if len(quantities) == 1 else SCORE
    own = {"score": score, "score_per_watt": replace(EFFICIENCY, unit=f"{score.unit}/W")}
    return tuple(
        replace(number, quantity=own.get(number.key, number.quantity))
        for number in NUMBERS
        if number.key in ALWAYS or any(told[number.key] is not None for told in values)
    )


@dataclass(frozen=True, slots=True)
class Condition:
    """One condition of two runs side by side: what, the baseline's, the other's, and whether they are alike."""

    what: str
    base: str
    other: str
    alike: bool


@dataclass(frozen=True, slots=True)
class Compared:
    """One run beside the baseline.

    Attributes:
        values: by number; None where not measured.
        percent: change against the baseline in percent; None where either is missing or the baseline is 0.
        change_by: change against the baseline in the number's own unit.
        difference: by number, the change in percent with its interval and verdict; only where both were measured.
        repeats: how many runs of its series stand behind it, itself included.
        unlike: sentences on what makes the two runs unlike; empty for the baseline itself.
    """

    run: RunRecord
    values: dict[str, float | None]
    percent: dict[str, float | None] = field(default_factory=dict)
    change_by: dict[str, float | None] = field(default_factory=dict)
    difference: dict[str, Difference] = field(default_factory=dict)
    repeats: int = 1
    unlike: tuple[str, ...] = ()

    def change(self, number: Number) -> str:
        """Return the change as a person reads it; empty where there is none to state."""
        if number.as_difference:
            change = self.change_by.get(number.key)
            return "" if not change else f"{change:+.1f} {number.quantity.unit}".replace("-", "−").rstrip()
        change = self.percent.get(number.key)
        return "" if change is None else f"{change:+.1f} %".replace("-", "−")


def values_of(run: RunRecord) -> dict[str, float | None]:
    """Return a run's numbers by the keys of ``NUMBERS``."""
    values: dict[str, float | None] = {}
    for number in NUMBERS:
        if number.key == "score":
            values["score"] = run.end.score
        elif number.key == "errors":
            values["errors"] = float(len(run.errors))
        else:
            numbers = run.end.numbers
            values[number.key] = numbers.extra.get(number.key, getattr(numbers, number.key, None))
    return values


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
        percent = {key: _percent(values[key], base[key]) for key in base}
        rows.append(
            Compared(
                run,
                values,
                percent,
                {key: _minus(values[key], base[key]) for key in base},
                {} if run.id == baseline.id else _differences(percent, group, base_group),
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


def mean_and_spread(group: Sequence[RunRecord], key: str) -> str:
    """Return a number's mean over runs as a person reads it, with ± its standard deviation if there are several."""
    quantity = next((number.quantity for number in numbers_of(group) if number.key == key), COUNT)
    values = [v for run in group if (v := values_of(run)[key]) is not None]
    if not values:
        return quantity.show(None)
    mean = sum(values) / len(values)
    if len(values) < 2:
        return quantity.show(mean)
    spread = (sum((v - mean) ** 2 for v in values) / (len(values) - 1)) ** 0.5
    return f"{quantity.show(mean)} ± {spread / abs(mean):.1%}" if mean else quantity.show(mean)


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
            of, against = (_estimate(runs, key) for runs in (group, base_group))
            found[key] = difference(of, against) if of and against else Difference(change)
    return found


def _estimate(group: Sequence[RunRecord], key: str) -> Estimate | None:
    values = [v for run in group if (v := values_of(run)[key]) is not None]
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


def unlike(run: RunRecord, baseline: RunRecord) -> tuple[str, ...]:
    """Return sentences on conditions in which the runs differ by more than their thresholds."""
    return tuple(_unlike_work(run, baseline) + _unlike_surroundings(run, baseline))


def _unlike_work(run: RunRecord, baseline: RunRecord) -> list[str]:
    said = []
    if run.head.machine != baseline.head.machine:
        said.append(f"It ran on {run.head.machine}, the baseline on {baseline.head.machine}.")
    if run.head.workload != baseline.head.workload:
        said.append(f"It is another workload: {run.head.workload}, not {baseline.head.workload}.")
    mine, its = run.head.conditions, baseline.head.conditions
    if mine.threads and its.threads and mine.threads != its.threads:
        said.append(f"It kept {mine.threads} threads busy, the baseline {its.threads}.")
    if mine.core_kind != its.core_kind:
        said.append(f"It ran on {mine.core_kind or 'any cores'}, the baseline on {its.core_kind or 'any cores'}.")
    if run.head.options != baseline.head.options:
        said.append("Something else was asked of the workload: another command, pattern or rate.")
    lasts_alike = abs(run.end.duration_s - baseline.end.duration_s) <= SHORT_PART * baseline.end.duration_s
    if not lasts_alike and run.head.workload != "command":
        said.append(f"It lasted {run.end.duration_s:.0f} s, the baseline {baseline.end.duration_s:.0f} s.")
    if run.end.state not in (RunState.FINISHED, RunState.RUNNING):
        said.append(f"It did not run to its end ({run.end.state.value}).")
    return said


def conditions(run: RunRecord, baseline: RunRecord) -> tuple[Condition, ...]:
    """Return the surroundings of two runs side by side; what was not measured in both is left out."""
    a, b = run.head.conditions, baseline.head.conditions
    found = []
    if a.temp_start_c is not None and b.temp_start_c is not None:
        alike = abs(a.temp_start_c - b.temp_start_c) <= START_TEMP_C
        found.append(Condition("Start", _degrees(b.temp_start_c), _degrees(a.temp_start_c), alike))
    if a.power_source or b.power_source:
        found.append(Condition("Power source", b.power_source, a.power_source, a.power_source == b.power_source))
    if a.platform_mode or b.platform_mode:
        found.append(Condition("Platform mode", b.platform_mode, a.platform_mode, a.platform_mode == b.platform_mode))
    if a.background_load is not None and b.background_load is not None:
        alike = abs(a.background_load - b.background_load) <= BACKGROUND_SHARE
        found.append(Condition("Others' work", f"{b.background_load:.1%}", f"{a.background_load:.1%}", alike))
    if "battery" in (a.power_source, b.power_source) and None not in (a.battery_charge, b.battery_charge):
        alike = _charges_alike(a.battery_charge or 0.0, b.battery_charge or 0.0)
        found.append(Condition("Battery charge", f"{b.battery_charge:.0f} %", f"{a.battery_charge:.0f} %", alike))
    if a.kernel and b.kernel and a.kernel != b.kernel:
        found.append(Condition("Kernel", b.kernel, a.kernel, alike=False))
    return tuple(found)


def _charges_alike(mine: float, its: float) -> bool:
    return abs(mine - its) <= CHARGE_PERCENT and (mine < LOW_CHARGE_PERCENT) == (its < LOW_CHARGE_PERCENT)


def _degrees(value: float) -> str:
    return f"{value:.0f} °C"


def _unlike_surroundings(run: RunRecord, baseline: RunRecord) -> list[str]:
    return [
        f"{entry.what}: {entry.other or 'unknown'}, the baseline {entry.base or 'unknown'}."
        for entry in conditions(run, baseline)
        if not entry.alike
    ]


CHANGES = (("score", "score", "less"), ("power_sustained_w", "watts", "fewer"))


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
    parts = [words for key, what, less in CHANGES if (words := _change_words(compared, key, what, less))]
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
