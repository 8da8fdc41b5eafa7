"""What a machine is, and what it lacks."""

from dataclasses import dataclass

from upright_bolt.model.graphics import Gpu
from upright_bolt.model.note import Diagnostic
from upright_bolt.model.sensor import Sensor, index_of


@dataclass(frozen=True, slots=True)
class Identity:
    """Who a machine is. Texts are empty where the machine does not say."""

    name: str
    vendor: str
    processor: str
    cores: int | None
    threads: int | None
    kernel: str
    driver: str
    virtual: bool = False
    microcode: str = ""
    chip_vendor: str = ""
    stepping: str = ""
    board: str = ""
    firmware: str = ""


@dataclass(frozen=True, slots=True)
class Topology:
    """Logical processors that are online, and the physical core of each as ``(package, core)``.

    ``kinds`` names kinds of cores with the processors of each, where a chip has several; else it is empty.
    """

    cpus: tuple[int, ...]
    core_of: dict[int, tuple[int, int]]
    kinds: tuple[tuple[str, tuple[int, ...]], ...] = ()

    @property
    def cores(self) -> int | None:
        """Number of physical cores, or None if the kernel does not tell."""
        return len(set(self.core_of.values())) or None


@dataclass(frozen=True, slots=True)
class About:
    """What does not change about a machine while its parts are the same.

    Attributes:
        gaps: what this machine does not offer, and files that could not be understood.
        sensors: what the numbers of a sample mean, in their order.
        ceiling_c: temperature at which the processor throttles; None if unknown.
        base_mhz, highest_mhz: base clock and highest turbo clock; None if unknown.
        turbo_table_mhz: highest clock by number of active cores; empty if unknown.
        chips: graphics chips, by their place on the bus.
        survey: how often graphics chips or processors that were not known have come or gone.
    """

    identity: Identity
    topology: Topology
    gaps: tuple[Diagnostic, ...]
    sensors: tuple[Sensor, ...]
    ceiling_c: float | None
    base_mhz: float | None
    highest_mhz: float | None
    turbo_table_mhz: tuple[float, ...]
    chips: tuple[Gpu, ...] = ()
    survey: int = 0

    @property
    def index(self) -> dict[str, int]:
        """Sensor name to its index in a sample."""
        return index_of(self.sensors)
