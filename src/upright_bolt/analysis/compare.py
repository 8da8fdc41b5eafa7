"""Comparing runs: every number against the baseline's, what makes the runs unlike, and the finding in words."""

from dataclasses import dataclass, field

from upright_bolt.model.quantity import CLOCK, COUNT, EFFICIENCY, POWER, SCORE, SPEED, TEMPERATURE, Quantity
from upright_bolt.model.run import RunRecord, RunState

START_TEMP_C = 4.0
"""A start this much warmer moves the first minutes' temperatures by about as much as one step of a limit."""
BACKGROUND_SHARE = 0.03
"""Others' work of this share costs a score about as much: more than a well-kept run's spread."""
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
    Number("errors", "Errors", COUNT, as_difference=True),
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
        difference: change against the baseline in the number's own unit.
        unlike: sentences on what makes the two runs unlike; empty for the baseline itself.
    """

    run: RunRecord
    values: dict[str, float | None]
    percent: dict[str, float | None] = field(default_factory=dict)
    difference: dict[str, float | None] = field(default_factory=dict)
    unlike: tuple[str, ...] = ()

    def change(self, number: Number) -> str:
        """Return the change as a person reads it; empty where there is none to state."""
        if number.as_difference:
            change = self.difference.get(number.key)
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
            values[number.key] = getattr(run.end.numbers, number.key)
    return values


def compare(runs: list[RunRecord], baseline: RunRecord) -> list[Compared]:
    """Return every run beside ``baseline``, in the order given."""
    base = values_of(baseline)
    return [
        Compared(
            run,
            values := values_of(run),
            {key: _percent(values[key], base[key]) for key in base},
            {key: _difference(values[key], base[key]) for key in base},
            unlike(run, baseline) if run.id != baseline.id else (),
        )
        for run in runs
    ]


def _difference(value: float | None, base: float | None) -> float | None:
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
    if abs(run.end.duration_s - baseline.end.duration_s) > SHORT_PART * baseline.end.duration_s:
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
    return tuple(found)


def _degrees(value: float) -> str:
    return f"{value:.0f} °C"


def _unlike_surroundings(run: RunRecord, baseline: RunRecord) -> list[str]:
    return [
        f"{entry.what}: {entry.other or 'unknown'}, the baseline {entry.base or 'unknown'}."
        for entry in conditions(run, baseline)
        if not entry.alike
    ]


def finding(compared: Compared, baseline: RunRecord) -> str:
    """Return what the comparison shows, in a sentence or two."""
    parts = []
    for key, what, less in (("score", "score", "less"), ("power_sustained_w", "watts", "fewer")):
        change = compared.percent.get(key)
        if change is not None and abs(change) < SAME_PERCENT:
            parts.append(f"same {what}")
        elif change is not None:
            parts.append(f"{abs(change):.1f} % {'more' if change > 0 else less} {what}")
    peak = compared.difference.get("temp_max_c")
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
    peak = compared.difference.get("temp_max_c")
    power = compared.difference.get("power_sustained_w")
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
