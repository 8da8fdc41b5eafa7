"""Constraints: what holds the clock back at a moment."""

from enum import StrEnum


class Constraint(StrEnum):
    """The thing that keeps the clock from being higher. The order is the order of the lanes on screen."""

    SUSTAINED = "sustained limit"
    BURST = "burst limit"
    HEAT = "heat"
    CURRENT = "current limit"
    HOT_SIGNAL = "hot signal"
    TURBO_TABLE = "turbo table"
    CLOCK_CAP = "clock cap"
    NO_WORK = "no work"
    UNKNOWN = "unknown"


ORDER = tuple(Constraint)
"""Constraints by the number under which telemetry keeps them."""
CODE = {constraint: float(number) for number, constraint in enumerate(ORDER)}
"""That number by constraint; a float, since telemetry holds nothing else."""
