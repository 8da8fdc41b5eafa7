"""Sensors: what can be read on a machine."""

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from upright_bolt.model.quantity import Quantity

FAN = "fan.1"
"""The fan whose speed tells how the processor is cooled."""
LID = "lid"
"""1 while a laptop's lid is closed."""
LID_WORDS: dict[float | None, str] = {0.0: "open", 1.0: "closed"}


class SensorKind(StrEnum):
    """What a sensor tells, whatever its name. A mean over processors is of the same kind, without a processor."""

    CLOCK = "clock"
    BUSY = "busy"
    TEMPERATURE = "temperature"
    POWER = "power"
    LIMIT = "limit"
    VOLTAGE = "voltage"
    FAN = "fan"
    THROTTLE = "throttle"
    LIMIT_BITS = "limit-bits"
    IDLE = "idle"
    SUPPLY = "supply"
    GRAPHICS = "graphics"


@dataclass(frozen=True, slots=True)
class Sensor:
    """Something readable.

    Attributes:
        name: unique on its machine, e.g. ``clock.cpu3`` or ``temperature.package``.
        quantity: what it measures, and so its unit.
        title: the words a person reads.
        kind: what it tells.
        processor: the logical processor it belongs to; None for one of the package, a core, a device or a mean.
    """

    name: str
    quantity: Quantity
    title: str
    kind: SensorKind
    processor: int | None = None


def index_of(sensors: Iterable[Sensor]) -> dict[str, int]:
    """Return sensor name to its index in a sample."""
    return {sensor.name: i for i, sensor in enumerate(sensors)}


def core_temperatures(sensors: Iterable[Sensor]) -> list[int]:
    """Return the indices of the sensors of single cores' temperatures."""
    return [i for i, s in enumerate(sensors) if s.name.startswith("temperature.core")]


def by_processor(sensors: Iterable[Sensor], kind: SensorKind) -> dict[int, int]:
    """Return logical processor to the index of its sensor of one kind, in the sensors' order."""
    return {s.processor: i for i, s in enumerate(sensors) if s.kind is kind and s.processor is not None}


def span_of(indices: list[int]) -> slice:
    """Return indices as a slice: sensors of one kind stand side by side; an empty slice for none."""
    return slice(indices[0], indices[-1] + 1) if indices else slice(0, 0)
