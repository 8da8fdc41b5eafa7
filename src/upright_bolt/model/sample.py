"""Samples: every sensor of a machine at one moment."""

from collections.abc import Mapping
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


def value_of(sample: Sample, index: Mapping[str, int], name: str) -> float | None:
    """Return what a sensor shows; None where it is absent or was not measured.

    Args:
        sample: of the machine.
        index: sensor name to its index in a sample of this machine.
        name: of the sensor.
    """
    i = index.get(name)
    return None if i is None else sample.values[i]
