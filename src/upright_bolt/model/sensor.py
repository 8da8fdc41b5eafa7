"""Sensors: what can be read on a machine."""

from dataclasses import dataclass

from upright_bolt.model.quantity import Quantity


@dataclass(frozen=True, slots=True)
class Sensor:
    """Something readable.

    Attributes:
        name: unique on its machine, e.g. ``clock.cpu3`` or ``temperature.package``.
        quantity: what it measures, and so its unit.
        title: the words a person reads.
    """

    name: str
    quantity: Quantity
    title: str
