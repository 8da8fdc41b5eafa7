"""Sampling a machine whose parts may come and go: a sensor keeps its place in samples once it has one."""

from dataclasses import replace

from upright_bolt.analysis.limits.judge import ConstraintJudge, FixedLimits
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.sensors.sample_reader import SampleReader
from upright_bolt.kernel.survey import Surveyed
from upright_bolt.model.sample import Numbers, Sample
from upright_bolt.model.sensor import Sensor


class Sensing:
    """Reads every sensor of a machine; its files are opened at first use.

    Args:
        ports: the machine's.
        surveyed: as it was found.

    Attributes:
        surveyed: as it was found last with all that is there to be read.
    """

    def __init__(self, ports: MachinePorts, surveyed: Surveyed) -> None:
        self._ports = ports
        self.surveyed = surveyed
        self._limits = surveyed.limits
        self._opened: tuple[SampleReader, ConstraintJudge] | None = None
        self._sensors: dict[str, Sensor] = {}
        self._places: list[int] | None = None
        """Of the reader's numbers in a sample; None while they are in the same order."""
        self._read_cpus = set(surveyed.topology.cpus)

    @property
    def sensors(self) -> tuple[Sensor, ...]:
        """What the numbers of a sample mean, in their order: new ones come at the end."""
        self._open()
        return tuple(self._sensors.values())

    @property
    def limits(self) -> FixedLimits:
        """What tells what holds the clock back, as far as it does not change from sample to sample."""
        return self._limits

    @limits.setter
    def limits(self, limits: FixedLimits) -> None:
        self._limits = limits
        if self._opened is not None:
            self._opened[1].limits = limits

    def sample(self) -> Sample:
        """Read every sensor once; what has gone is not measured."""
        self._ports.keep_up()
        reader, judge = self._open()
        time_s, values, caps_mhz = reader.read()
        held, kinds = judge.judge(time_s, values, caps_mhz)
        return Sample(time_s, self._in_place(values), held, kinds)

    def update_machine(self, found: Surveyed) -> bool:
        """Read from now on what a later survey has found, if there is more to read or a graphics chip has gone.

        A processor that is offline for a while keeps its place: nothing is opened anew for that.
        """
        before = self.surveyed
        processors = set(found.topology.cpus)
        chips, chips_before = ({chip.part for chip in each.chips} for each in (found, before))
        if chips == chips_before and processors <= self._read_cpus:
            return False
        if self._opened is not None:
            self._ports.files.close()  # what the reader before has open
            self._opened = None
        whole = set(before.topology.cpus)
        self.surveyed = found if whole <= processors else replace(found, topology=before.topology)
        self._read_cpus = processors
        return True

    def _open(self) -> tuple[SampleReader, ConstraintJudge]:
        if self._opened is None:
            found, ports = self.surveyed, self._ports
            reader = SampleReader(ports.files, found.registers, found, ports.clock)
            for sensor in reader.sensors:
                self._sensors.setdefault(sensor.name, sensor)
            index = {name: place for place, name in enumerate(self._sensors)}
            places = [index[sensor.name] for sensor in reader.sensors]
            self._places = None if places == list(index.values()) else places
            self._opened = reader, ConstraintJudge(reader.sensors, found.topology, self._limits)
        return self._opened

    def _in_place(self, values: Numbers) -> Numbers:
        if self._places is None:
            return values
        found: Numbers = [None] * len(self._sensors)
        for place, value in zip(self._places, values, strict=True):
            found[place] = value
        return found
