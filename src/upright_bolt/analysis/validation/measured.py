"""What settings have measured: the newest numbers of runs that were made with them in force."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from upright_bolt.analysis.numbers import value_of
from upright_bolt.analysis.validation.proofs import made_under
from upright_bolt.model.control import Value
from upright_bolt.model.quantity import HOURS, POWER, SCORE, TEMPERATURE, Quantity
from upright_bolt.model.run import RunRecord


@dataclass(frozen=True, slots=True)
class Measure:
    """One thing that is measured of a profile: in words, by which workload, and the number's key in ``NUMBERS``."""

    key: str
    title: str
    workload: str
    number: str
    quantity: Quantity


MEASURES = (
    Measure("score", "Score, settled", "steady", "score_settled", SCORE),
    Measure("watts", "Power, settled", "steady", "power_sustained_w", POWER),
    Measure("temperature", "Temperature, settled", "steady", "temp_sustained_c", TEMPERATURE),
    Measure("idle", "Power at rest", "idle", "power_sustained_w", POWER),
    Measure("hours", "Hours on battery", "battery", "hours_full", HOURS),
)
"""In the order in which they are shown."""


def measured(settings: Mapping[str, Value], runs: Iterable[RunRecord], machine: str) -> dict[str, tuple[float, int]]:
    """Return the newest value of each measure, with the run it is from.

    Args:
        settings: of a profile; of stock, the machine's own value of every control.
        runs: newest first.
        machine: the machine's spec.
    """
    found: dict[str, tuple[float, int]] = {}
    for run in runs:
        if run.head.machine != machine or not run.usable or not made_under(settings, run):
            continue
        for measure in MEASURES:
            if run.head.workload == measure.workload and measure.key not in found:
                value = value_of(run, measure.number)
                if value is not None:
                    found[measure.key] = (value, run.id)
    return found
