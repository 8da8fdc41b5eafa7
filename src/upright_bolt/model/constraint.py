"""Constraints: what holds the clock back at a moment, and the numbers that speak for it."""

from dataclasses import dataclass
from enum import StrEnum


class Constraint(StrEnum):
    """The thing that keeps the clock from being higher. Telemetry keeps it by its place here: new ones go last."""

    SUSTAINED = "sustained limit"
    BURST = "burst limit"
    HEAT = "heat"
    CURRENT = "current limit"
    HOT_SIGNAL = "hot signal"
    TURBO_TABLE = "turbo table"
    CLOCK_CAP = "clock cap"
    NO_WORK = "no work"
    UNKNOWN = "unknown"
    PEAK = "peak limit"
    BOARD = "board limit"
    POWER = "power limit"
    """Of a graphics chip, or of the processor that it sits in."""
    VOLTAGE = "voltage ceiling"
    """A graphics chip stands at the top of its curve of clocks and voltages."""


ORDER = tuple(Constraint)
"""Constraints by the number under which telemetry keeps them."""
CODE = {constraint: float(number) for number, constraint in enumerate(ORDER)}
"""That number by constraint; a float, since telemetry holds nothing else."""


@dataclass(frozen=True, slots=True)
class Basis:
    """The numbers that speak for a constraint.

    Attributes:
        constraint: the constraint.
        value: watts for a power or current limit, °C for heat, busy share in % for no work, MHz for all others;
            None where not measured.
        limit: what the value is held to, in the same unit; None if there is none or it is not known.
    """

    constraint: Constraint
    value: float | None
    limit: float | None = None
