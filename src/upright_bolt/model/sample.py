"""Samples: every sensor of a machine at one moment."""

from dataclasses import dataclass

from upright_bolt.model.constraint import Constraint

Numbers = list[float | None]
"""A number per sensor; None where not measured."""


@dataclass(slots=True)
class Sample:
    """One moment: time on the machine's clock in s, a number per sensor, and what held the clock back.

    Attributes:
        kinds: what held each kind of core, in the topology's order; empty where all are of one kind.
    """

    time_s: float
    values: Numbers
    constraint: Constraint
    kinds: tuple[Constraint, ...] = ()
