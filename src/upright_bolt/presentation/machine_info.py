"""What does not change about the machine while the window is open, and the numbers of its cores at a moment."""

from dataclasses import dataclass

from upright_bolt.model.machine import About, Identity
from upright_bolt.model.sample import Sample
from upright_bolt.model.sensor import Sensor, SensorKind, by_processor
from upright_bolt.session.session import Session


@dataclass(slots=True)
class Outline:
    """The machine, for the window; it changes only when graphics chips come or go.

    Attributes:
        cores: name and logical processors of each core.
        index: sensor name to its index in a sample.
        renders_itself: its processor can stand in for a graphics chip.
    """

    spec: str
    described: str
    about: About
    sensors: tuple[Sensor, ...]
    index: dict[str, int]
    cores: tuple[tuple[str, tuple[int, ...]], ...]
    ceiling_c: float | None
    highest_mhz: float | None
    no_load: str
    has_pace: bool
    can_plug: bool
    recovered: str
    renders_itself: bool

    @property
    def identity(self) -> Identity:
        """Who the machine is."""
        return self.about.identity

    def update_machine(self, about: About) -> None:
        """Tell of what is there now; sensors keep their places."""
        self.about, self.sensors, self.index = about, about.sensors, about.index


def outline_of(session: Session) -> Outline:
    """Read the outline; call it before the thread has the session."""
    about, machine = session.about, session.machine
    by_core: dict[tuple[int, int], list[int]] = {}
    for cpu, core in about.topology.core_of.items():
        by_core.setdefault(core, []).append(cpu)
    if not by_core:
        by_core = {(0, cpu): [cpu] for cpu in about.topology.cpus}
    return Outline(
        spec=machine.spec,
        described=machine.described,
        about=about,
        sensors=about.sensors,
        index=session.index,
        cores=tuple((str(core[1]), tuple(cpus)) for core, cpus in sorted(by_core.items())),
        ceiling_c=about.ceiling_c,
        highest_mhz=about.highest_mhz,
        no_load=machine.no_load,
        has_pace=machine.set_pace is not None,
        can_plug=machine.plug is not None,
        recovered=session.recovered,
        renders_itself=machine.spec == "host",
    )


@dataclass(frozen=True, slots=True)
class CoreNow:
    """One core's numbers; None where not measured."""

    name: str
    clock_mhz: float | None
    busy: float | None
    temp_c: float | None


class CoreReader:
    """Finds each core's numbers in a sample."""

    def __init__(self, outline: Outline) -> None:
        clocks = by_processor(outline.sensors, SensorKind.CLOCK)
        shares = by_processor(outline.sensors, SensorKind.BUSY)
        self._cores = [
            (
                name,
                [clocks[cpu] for cpu in cpus if cpu in clocks],
                [shares[cpu] for cpu in cpus if cpu in shares],
                outline.index.get(f"temperature.core{name}"),
            )
            for name, cpus in outline.cores
        ]

    def cores(self, sample: Sample) -> tuple[CoreNow, ...]:
        """Return every core's numbers."""
        values = sample.values

        def mean(indices: list[int]) -> float | None:
            known = [v for i in indices if (v := values[i]) is not None]
            return sum(known) / len(known) if known else None

        return tuple(
            CoreNow(name, mean(clocks), mean(shares), None if warm is None else values[warm])
            for name, clocks, shares, warm in self._cores
        )
