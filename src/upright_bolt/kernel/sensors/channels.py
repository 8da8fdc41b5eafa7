"""Channels: how one sample's numbers come from kernel files. The sampler opens and reads them.

Every file is read at most once a sample; a channel only says which files, and what to make of them.
"""

from collections.abc import Callable
from dataclasses import dataclass

from upright_bolt.kernel.gpu.memory import Autosuspend
from upright_bolt.model.sensor import Sensor


@dataclass(frozen=True, slots=True)
class Gauge:
    """A whole number in a file, times ``scale``; ``void`` is a number that means "nothing there"."""

    sensor: Sensor
    path: str
    scale: float = 1.0
    void: int | None = None


@dataclass(frozen=True, slots=True)
class Counter:
    """What a counter grows by in a second, times ``scale``; it wraps after ``span``. Watts from µJ, shares from µs."""

    sensor: Sensor
    path: str
    span: int
    scale: float = 1e-6


@dataclass(frozen=True, slots=True)
class WordSwitch:
    """1 while the last word in a file is ``on``, 0 with any other."""

    sensor: Sensor
    path: str
    on: str


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
class SleepGuardedGauges:
    """Gauges of a device that may sleep: reading it would wake it, so nothing is while ``guard`` holds ``asleep``.

    With a ``rest``, a device that does nothing is left alone for a while, so that it can fall asleep.
    """

    guard: str
    asleep: str
    gauges: tuple[Gauge, ...]
    autosuspend: Autosuspend | None = None


@dataclass(frozen=True, slots=True)
class BatteryFiles:
    """One battery's files; None where it lacks one.

    Power in µW, current in µA, voltage in µV; what it holds in µWh or, ``in_charge``, in µAh.
    """

    status: str
    capacity: str | None
    power: str | None
    current: str | None
    voltage: str | None
    stored: str | None
    full: str | None
    in_charge: bool


@dataclass(frozen=True, slots=True)
class Supplies:
    """All the computer's own chargers and batteries, as one source of power.

    Attributes:
        sensors: by name: ``charger``, ``battery.charge``, ``battery.drain``, ``battery.hours``; those that can be read.
        chargers: files that say 1 when plugged in.
        batteries: every battery.
    """

    sensors: dict[str, Sensor]
    chargers: tuple[str, ...]
    batteries: tuple[BatteryFiles, ...]


@dataclass(frozen=True, slots=True)
class LibraryReadings:
    """Numbers that come from a vendor's library, all in one call; None each while the device sleeps."""

    sensors: tuple[Sensor, ...]
    read: Callable[[], list[float | None]]


Channel = (
    SleepGuardedGauges
    | Gauge
    | Supplies
    | LibraryReadings
    | Counter
    | BusyTable
    | LowestOf
    | RegisterField
    | WordSwitch
)
