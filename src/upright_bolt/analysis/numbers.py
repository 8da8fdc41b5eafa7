"""The numbers by which runs are compared: their names, quantities, and where a run keeps them."""

from collections.abc import Iterable
from dataclasses import dataclass, replace

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
from upright_bolt.model.run import RunRecord
from upright_bolt.model.work import score_quantity
from upright_bolt.model.workloads import workload


@dataclass(frozen=True, slots=True)
class Number:
    """One number that runs are compared by.

    Attributes:
        key: its name in JSON.
        as_difference: compared as a difference in its unit rather than in percent (a percentage of °C says nothing).
        settled: of the settled part of a run alone, for which its start does not matter.
        of_work: of the work done, so that runs of different work say nothing about each other.
    """

    key: str
    title: str
    quantity: Quantity
    as_difference: bool = False
    settled: bool = False
    of_work: bool = False

    @property
    def ratio(self) -> bool:
        """Whether it is compared in percent."""
        return not self.as_difference


NUMBERS = (
    Number("score", "Score, whole run", SCORE, of_work=True),
    Number("score_settled", "Score, settled", SCORE, settled=True, of_work=True),
    Number("clock_burst_mhz", "Clock, first 20 s", CLOCK),
    Number("clock_sustained_mhz", "Clock, settled", CLOCK, settled=True),
    Number("power_burst_w", "Power, first 20 s", POWER),
    Number("power_sustained_w", "Power, settled", POWER, settled=True),
    Number("power_mean_w", "Power, whole run", POWER),
    Number("full_mhz", "Clock, full load", CLOCK),
    Number("full_w", "Power, full load", POWER),
    Number("light_w", "Power, light load", POWER),
    Number("between_w", "Power, no load", POWER),
    Number("temp_max_c", "Highest temperature", TEMPERATURE, as_difference=True),
    Number("temp_sustained_c", "Settled temperature", TEMPERATURE, as_difference=True, settled=True),
    Number("fan_sustained_rpm", "Fan, settled", SPEED, settled=True),
    Number("score_per_watt", "Score per watt, whole run", EFFICIENCY, of_work=True),
    Number("settled_per_watt", "Score per watt, settled", EFFICIENCY, settled=True, of_work=True),
    Number("energy_per_unit_j", "Energy per unit", ENERGY, of_work=True),
    Number("latency_median_ms", "Latency, median", LATENCY),
    Number("latency_p95_ms", "Latency, 95 % below", LATENCY),
    Number("latency_p99_ms", "Latency, 99 % below", LATENCY),
    Number("rate_fps", "Average rate", FRAME_RATE),
    Number("low_1_fps", "1 % low", FRAME_RATE),
    Number("low_01_fps", "0.1 % low", FRAME_RATE),
    Number("late_share", "Late frames", SHARE, as_difference=True),
    Number("processor_score", "Processor score", SCORE, of_work=True),
    Number("graphics_mhz", "Graphics clock", CLOCK),
    Number("graphics_w", "Graphics power", POWER),
    Number("graphics_c", "Graphics temperature", TEMPERATURE, as_difference=True),
    Number("frames_per_watt", "Frames per graphics watt", replace(EFFICIENCY, unit="frames/min/W"), of_work=True),
    Number("drain_w", "Battery drain", POWER),
    Number("hours_full", "Hours from full", HOURS),
    Number("carries_w", "Carried by the cooling", POWER),
    Number("draws_w", "Drawn at most", POWER),
    Number("wakeups_per_s", "Wake-ups", WAKE_UPS),
    Number("blocks_checked", "Blocks checked", COUNT),
    Number("frames_checked", "Frames checked", COUNT),
    Number("planted_caught", "Planted errors caught", COUNT),
    Number("times_run", "Times run", COUNT),
    Number("times_spread", "Spread of the times", SHARE, as_difference=True),
    Number("pace_spread", "Pace, spread", SHARE, as_difference=True, of_work=True),
    Number("first_held_s", "First held back after", TIME, as_difference=True),
    Number("errors", "Errors", COUNT, as_difference=True),
)
BY_KEY = {number.key: number for number in NUMBERS}
ALWAYS = frozenset(("score", "clock_burst_mhz", "clock_sustained_mhz", "power_burst_w", "power_sustained_w",
                    "temp_max_c", "temp_sustained_c", "fan_sustained_rpm", "errors"))  # fmt: skip
"""Numbers that every run is shown with, measured or not; the others only where one was measured."""


def numbers_of(runs: Iterable[RunRecord]) -> tuple[Number, ...]:
    """Return the numbers to show for some runs, the score's with the unit of their workload."""
    found = list(runs)
    values = [values_of(run) for run in found]
    quantities = {(q := score_quantity(run.head.workload, run.head.options)).unit: q for run in found}
    score = next(iter(quantities.values())) if len(quantities) == 1 else SCORE
    per_watt = replace(EFFICIENCY, unit=f"{score.unit}/W")
    own = {"score": score, "score_settled": score, "score_per_watt": per_watt, "settled_per_watt": per_watt}
    staged = all(workload(run.head.workload).in_stages for run in found)
    tasks = bool(found) and all(workload(run.head.workload).rests_mostly for run in found)
    titles = {"energy_per_unit_j": "Energy for a task, above rest"} if tasks else {}
    return tuple(
        replace(number, quantity=own.get(number.key, number.quantity), title=titles.get(number.key, number.title))
        for number in NUMBERS
        if (number.key in ALWAYS and not staged) or any(of_run[number.key] is not None for of_run in values)
    )


def value_of(run: RunRecord, key: str) -> float | None:
    """Return one of a run's numbers by its key in ``NUMBERS``; None if it was not measured."""
    if key == "score":
        return run.end.score
    if key == "errors":
        return float(len(run.errors))
    numbers = run.end.numbers
    return numbers.extra[key] if key in numbers.extra else getattr(numbers, key, None)


def values_of(run: RunRecord) -> dict[str, float | None]:
    """Return a run's numbers by the keys of ``NUMBERS``."""
    return {number.key: value_of(run, number.key) for number in NUMBERS}
