"""Channels: how one sample's numbers come from kernel files. The sampler opens and reads them.

Every file is read at most once a sample; a channel only says which files, and what to make of them.
"""

from dataclasses import dataclass

from upright_bolt.model.sensor import Sensor


@dataclass(frozen=True, slots=True)
class Gauge:
    """A whole number in a file, times ``scale``; ``void`` is a number that means "nothing there"."""

    sensor: Sensor
    path: str
    scale: float = 1.0
    void: int | None = None


@dataclass(frozen=True, slots=True)
class Word:
    """A word in a file that stands for a number, e.g. ``Charging``; other words are "not measured"."""

    sensor: Sensor
    path: str
    meanings: dict[str, float]


@dataclass(frozen=True, slots=True)
class EnergyCounter:
    """Watts from an energy counter in µJ that wraps after ``range_uj``."""

    sensor: Sensor
    path: str
    range_uj: int


@dataclass(frozen=True, slots=True)
class BusyTable:
    """Busy shares in % from the kernel's table of processor times; one sensor per logical processor."""

    sensors: dict[int, Sensor]
    path: str


@dataclass(frozen=True, slots=True)
class LowestOf:
    """The lowest of several files that limit the same thing, times ``scale``."""

    sensor: Sensor
    paths: tuple[str, ...]
    scale: float


@dataclass(frozen=True, slots=True)
class RegisterField:
    """Bits ``high:low`` of a register, times ``scale``."""

    sensor: Sensor
    cpu: int
    register: int
    high: int
    low: int
    scale: float = 1.0


@dataclass(frozen=True, slots=True)
class Guarded:
    """Gauges of a device that may sleep: nothing of it is read while ``guard`` holds ``asleep``, lest it wake up."""

    guard: str
    asleep: str
    gauges: tuple[Gauge, ...]


Channel = Guarded | Gauge | Word | EnergyCounter | BusyTable | LowestOf | RegisterField
