"""Sentences on what holds the clock back, and on the numbers that speak for it."""

from upright_bolt.analysis.limits.constraints import NEAR_LIMIT
from upright_bolt.model.constraint import Basis, Constraint
from upright_bolt.model.quantity import CLOCK, POWER, TEMPERATURE, Quantity
from upright_bolt.model.run import RunNumbers

LEAST_SHARE = 0.005
"""A constraint that held for less of the time is not worth a word."""


def shares(numbers: RunNumbers) -> list[str]:
    """Return what held the clock back under load and for how much of the time, the longest first."""
    return [f"{word} {share:.0%}" for word, share in numbers.constraint_share.items() if share >= LEAST_SHARE]


def basis(found: Basis) -> str:
    """Return what speaks for a constraint, e.g. ``"18.0 W of 18 W"``; empty where no number does."""
    if found.constraint is Constraint.HOT_SIGNAL:
        return "another part of the machine asks for it"
    if found.value is None:
        return ""
    if found.constraint is Constraint.SUSTAINED and found.limit is not None:
        return _sustained(found.value, found.limit)
    if (quantity := _LIMITED.get(found.constraint)) is not None:
        return _of(found.value, found.limit, quantity)
    words = _WORDS.get(found.constraint, "nothing that is measured explains {clock}")
    return words.format(value=found.value, clock=CLOCK.show(found.value))


_LIMITED = {
    Constraint.SUSTAINED: POWER,
    Constraint.BURST: POWER,
    Constraint.PEAK: POWER,
    Constraint.BOARD: POWER,
    Constraint.POWER: POWER,
    Constraint.HEAT: TEMPERATURE,
    Constraint.CLOCK_CAP: CLOCK,
}
_WORDS = {
    Constraint.CURRENT: "its bit is set, at {value:.1f} W",
    Constraint.TURBO_TABLE: "{clock}, as high as the table goes",
    Constraint.VOLTAGE: "{clock}, the top of its curve",
    Constraint.NO_WORK: "busy for {value:.0f} % of the time",
}


def _sustained(watts: float, limit: float) -> str:
    if watts > limit / NEAR_LIMIT:
        return f"{watts:.1f} W, above {POWER.show(limit)}: on the way down, or at the lowest clock"
    if watts < NEAR_LIMIT * limit:
        return f"{watts:.1f} W, until what was drawn above {POWER.show(limit)} is made up for"
    return _of(watts, limit, POWER)


def _of(value: float, limit: float | None, quantity: Quantity) -> str:
    shown = CLOCK.show(value) if quantity is CLOCK else f"{value:.1f} {quantity.unit}"
    return shown if limit is None else f"{shown} of {quantity.show(limit)}"
