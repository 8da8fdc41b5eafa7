"""Reading samples: every channel read once, one vector of numbers per sample.

Files are opened once. This is the loop whose cost ``make bench`` compares with bare ``pread`` calls, so it is laid
out flat: all files that hold a number are read and decoded in one sweep. If any of them fails, the sweep is done
again file by file, and what fails is "not measured" in that sample.
"""

from collections.abc import Iterable
from operator import call, mul

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths, registers
from upright_bolt.kernel.busy_shares import ROW_BYTES, BusyShares
from upright_bolt.kernel.channels import (
    BusyTable,
    Channel,
    Counter,
    Gauge,
    LibraryReadings,
    LowestOf,
    RegisterField,
    SleepGuardedGauges,
    Supplies,
)
from upright_bolt.kernel.clock import Clock
from upright_bolt.kernel.ports import KernelFiles, Read, Registers
from upright_bolt.kernel.supply_reader import SupplyReader
from upright_bolt.kernel.survey import Surveyed
from upright_bolt.model.quantity import CLOCK, SHARE
from upright_bolt.model.sample import Numbers
from upright_bolt.model.sensor import Sensor, SensorKind, by_processor, index_of, span_of

NUMBER_SIZE = 64
"""Bytes read of a file that holds one number or word."""
CLOCK_MEAN = Sensor("clock.mean", CLOCK, "Clock, mean over busy processors", SensorKind.CLOCK)
BUSY_MEAN = Sensor("busy.mean", SHARE, "Busy share, mean over all processors", SensorKind.BUSY)
_FAILED = b""
_NO_NUMBER = (OSError, ValueError, OverflowError)
"""A file that cannot be read, a text that is not a number, and a number too long to be one."""


class SampleReader:
    """Reads all channels of a surveyed machine.

    Attributes:
        sensors: what the numbers of a sample mean, in their order.
    """

    def __init__(self, files: KernelFiles, register_port: Registers, surveyed: Surveyed, clock: Clock) -> None:
        self._files = files
        self._registers = register_port
        self._clock = clock
        self._reads: list[Read] = []
        self._scales: list[float] = []
        self._voids: list[tuple[int, float]] = []
        # a number that is a file's own comes first, at the file's index in the sweep; what is made of several follows
        self.sensors = self._add_own(surveyed.channels)
        self._own = len(self.sensors)
        self._counters: list[tuple[int, int, int, float]] = []
        self._supply: SupplyReader | None = None
        self._libraries: list[tuple[int, LibraryReadings]] = []
        self._lowest: list[tuple[int, int, int]] = []
        self._fields: list[tuple[int, RegisterField]] = []
        self._guarded: list[tuple[bytes, Read, list[tuple[int, Read, float]]]] = []
        self._busy: BusyShares | None = None
        for channel in surveyed.channels:
            self._add_made(channel)
        self._caps = self._add_caps(surveyed)
        self.sensors += [CLOCK_MEAN, BUSY_MEAN]
        for kind, _ in surveyed.topology.kinds:
            word = kind.lower()
            self.sensors.append(Sensor(f"clock.{word}", CLOCK, f"Clock, mean over busy {kind}", SensorKind.CLOCK))
            self.sensors.append(Sensor(f"busy.{word}", SHARE, f"Busy share, mean over all {kind}", SensorKind.BUSY))
        self._rest: Numbers = [None] * (len(self.sensors) - self._own)
        self._last_counts: Numbers = []
        self._counted_s = 0.0
        self._limit_span = slice(self._lowest[0][1], self._lowest[-1][2]) if self._lowest else slice(0, 0)
        self._last_limits: Numbers = []
        self._lowest_now: Numbers = [None] * len(self._lowest)
        self._find_means(surveyed)

    @property
    def index(self) -> dict[str, int]:
        """Sensor name to its index in a sample."""
        return index_of(self.sensors)

    def _find_means(self, surveyed: Surveyed) -> None:
        """Find what means are made of: clocks weighted by busy shares, of all processors and of each kind."""
        index = self.index
        clocks = by_processor(self.sensors, SensorKind.CLOCK)
        shares = by_processor(self.sensors, SensorKind.BUSY)
        self._clock_span, self._busy_span = span_of(list(clocks.values())), span_of(list(shares.values()))
        self._pairs = [(i, shares[cpu]) for cpu, i in clocks.items() if cpu in shares]
        self._aligned = self._pairs == list(zip(_range(self._clock_span), _range(self._busy_span), strict=False))
        self._kinds = [
            (
                index[f"clock.{kind.lower()}"],
                index[f"busy.{kind.lower()}"],
                [(clocks[cpu], shares[cpu]) for cpu in cpus if cpu in clocks and cpu in shares],
                [shares[cpu] for cpu in cpus if cpu in shares],
            )
            for kind, cpus in surveyed.topology.kinds
        ]
        self._mean_indices = index[CLOCK_MEAN.name], index[BUSY_MEAN.name]

    def _open(self, path: str, scale: float) -> int | None:
        """Add a file to the sweep; return its index there, or None if it cannot be opened."""
        try:
            self._reads.append(self._files.opener(path, NUMBER_SIZE))
        except FileFault:
            return None
        self._scales.append(scale)
        return len(self._reads) - 1

    def _open_word(self, path: str) -> Read:
        try:
            return self._files.opener(path, NUMBER_SIZE)
        except FileFault:
            return bytes

    def _add_caps(self, surveyed: Surveyed) -> list[int | None]:
        """Add the files that hold the highest clock by settings: of all cores, then of each kind."""
        driver = surveyed.controls.get("clock-max")
        whole = self._open(driver.files[0], 1e-3) if driver is not None and driver.files else None
        kinds = [self._open(paths.policy(min(cpus), "scaling_max_freq"), 1e-3) for _, cpus in surveyed.topology.kinds]
        return [whole, *kinds]

    def _add_own(self, channels: Iterable[Channel]) -> list[Sensor]:
        sensors = []
        for channel in channels:
            if isinstance(channel, Gauge) and (index := self._open(channel.path, channel.scale)) is not None:
                sensors.append(channel.sensor)
                if channel.void is not None:
                    self._voids.append((index, channel.void * channel.scale))
        return sensors

    def _add_made(self, channel: Channel) -> None:
        index = len(self.sensors)
        match channel:
            case BusyTable():
                self._add_busy(channel)
            case Counter(sensor, path, span, scale):
                slot = self._open(path, 1.0)
                if slot is not None:
                    self._counters.append((index, slot, span, scale))
                    self.sensors.append(sensor)
            case LowestOf(sensor, limits, scale):
                slots = [slot for path in limits if (slot := self._open(path, scale)) is not None]
                if slots:
                    self._lowest.append((index, slots[0], slots[-1] + 1))
                    self.sensors.append(sensor)
            case Supplies():
                indices = {name: index + i for i, name in enumerate(channel.sensors)}
                self._supply = SupplyReader(channel, self._open, self._open_word, indices)
                self.sensors += channel.sensors.values()
            case LibraryReadings():
                self._libraries.append((index, channel))
                self.sensors += channel.sensors
            case SleepGuardedGauges():
                self._add_guarded(channel)
            case RegisterField():
                self._fields.append((index, channel))
                self.sensors.append(channel.sensor)

    def _add_busy(self, channel: BusyTable) -> None:
        try:
            read = self._files.opener(channel.path, ROW_BYTES * (len(channel.sensors) + 1))
        except FileFault:
            return
        index = len(self.sensors)
        self._busy = BusyShares(read, {cpu: index + i for i, cpu in enumerate(channel.sensors)})
        self.sensors += channel.sensors.values()

    def _add_guarded(self, channel: SleepGuardedGauges) -> None:
        gauges = []
        try:
            guard = self._files.opener(channel.guard, NUMBER_SIZE)
            for gauge in channel.gauges:
                gauges.append((len(self.sensors), self._files.opener(gauge.path, NUMBER_SIZE), gauge.scale))
                self.sensors.append(gauge.sensor)
        except FileFault:
            return
        self._guarded.append((channel.asleep.encode(), guard, gauges))

    def read(self) -> tuple[float, Numbers, Numbers]:
        """Read everything once. Rates (watts, busy shares) are None in the first sample.

        Returns:
            Time in s, a number per sensor, and the highest clock by settings in MHz: of all cores, then of each kind.
        """
        now = self._clock.now_s()
        decoded = self._decoded()
        values = decoded[: self._own] + self._rest
        limits = decoded[self._limit_span]
        if limits != self._last_limits:
            self._take_limits(decoded, limits)
        for (index, _, _), limit in zip(self._lowest, self._lowest_now, strict=True):
            values[index] = limit
        if self._supply is not None:
            self._supply.take(now, decoded, values)
        for index, channel in self._libraries:
            values[index : index + len(channel.sensors)] = channel.read()
        for index, field in self._fields:
            values[index] = self._field(field)
        self._take_counters(now, decoded, values)
        for asleep, guard, gauges in self._guarded:
            if _read_or_nothing(guard).strip() != asleep:
                for index, read, scale in gauges:
                    values[index] = _number(_read_or_nothing(read), scale)
        if self._busy is not None:
            self._busy.take(now, values)
        self._take_means(values)
        return now, values, [None if slot is None else decoded[slot] for slot in self._caps]

    def _take_limits(self, decoded: Numbers, limits: Numbers) -> None:
        self._last_limits = limits
        copies = [decoded[first:end] for _, first, end in self._lowest]
        self._lowest_now = [None if None in some else min(some) for some in copies]  # type: ignore[type-var]

    def _decoded(self) -> Numbers:
        """Read the sweep and return its numbers, scaled; None where a file gave none."""
        try:
            decoded: Numbers = list(map(mul, map(int, map(call, self._reads)), self._scales))
        except _NO_NUMBER:
            decoded = [
                _number(_read_or_nothing(read), scale) for read, scale in zip(self._reads, self._scales, strict=True)
            ]
        for index, void in self._voids:
            if decoded[index] == void:
                decoded[index] = None
        return decoded

    def _take_counters(self, now: float, decoded: Numbers, values: Numbers) -> None:
        passed = now - self._counted_s
        last, self._counted_s = self._last_counts, now
        self._last_counts = counts = [decoded[slot] for _, slot, _, _ in self._counters]
        if not last or passed <= 0.0:
            return
        for (index, _, span, scale), count, before in zip(self._counters, counts, last, strict=True):
            if count is not None and before is not None:
                grown = count - before
                values[index] = (grown + span if grown < 0 else grown) * scale / passed

    def _field(self, field: RegisterField) -> float | None:
        try:
            raw = self._registers.read(field.cpu, field.register)
        except FileFault:
            return None
        return registers.bits(raw, field.high, field.low) * field.scale

    def _take_means(self, values: Numbers) -> None:
        """Fill in the means."""
        shares = [share for share in values[self._busy_span] if share is not None]
        clocks = values[self._clock_span]
        mean_index, busy_index = self._mean_indices
        total = sum(shares)
        if shares:
            values[busy_index] = total / len(shares)
        if total and self._aligned and len(shares) == len(clocks) and None not in clocks:
            values[mean_index] = sum(map(mul, clocks, shares)) / total
        else:
            values[mean_index] = self._clock_mean(values, clocks, self._pairs)
        for clock_index, share_index, pairs, indices in self._kinds:
            values[clock_index] = self._clock_mean(values, [values[clock] for clock, _ in pairs], pairs)
            known = [share for i in indices if (share := values[i]) is not None]
            values[share_index] = sum(known) / len(known) if known else None

    def _clock_mean(self, values: Numbers, clocks: Numbers, pairs: list[tuple[int, int]]) -> float | None:
        """Return the mean clock where clocks and shares do not stand side by side, or some are missing."""
        weight = total = 0.0
        for clock_index, share_index in pairs:
            clock, share = values[clock_index], values[share_index]
            if clock is not None and share is not None:
                weight += share
                total += clock * share
        known = [clock for clock in clocks if clock is not None]
        if weight > 0:
            return total / weight
        return sum(known) / len(known) if known else None


def _range(span: slice) -> range:
    return range(span.start, span.stop)


def _number(data: bytes, scale: float) -> float | None:
    try:
        return int(data) * scale
    except _NO_NUMBER:
        return None


def _read_or_nothing(read: Read) -> bytes:
    try:
        return read()
    except OSError:
        return _FAILED
