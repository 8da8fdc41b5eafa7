"""Reading samples: every channel read once, one vector of numbers per sample.

Files are opened once. Those that hold a number are read in two sweeps: what moves from sample to sample, and what
stands until something happens (limits, counts of throttling); words are a third (a lid, whether a chip sleeps). What is
made of the last two is kept from sample to sample and only made anew when one of their files has changed.
"""

from itertools import repeat, zip_longest
from operator import mul, sub

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths, registers
from upright_bolt.kernel.clock import Clock
from upright_bolt.kernel.gpu.guarded_gauges import GuardedGauges
from upright_bolt.kernel.ports import KernelFiles, Read, Registers
from upright_bolt.kernel.sensors.busy_shares import ROW_BYTES, BusyShares
from upright_bolt.kernel.sensors.channels import (
    BusyTable,
    Channel,
    Counter,
    Gauge,
    LibraryReadings,
    LowestOf,
    RegisterField,
    SleepGuardedGauges,
    Supplies,
    WordSwitch,
)
from upright_bolt.kernel.sensors.number_sweep import NumberSweep, TextSweep
from upright_bolt.kernel.sensors.supply_reader import SupplyReader
from upright_bolt.kernel.survey import Surveyed
from upright_bolt.model.quantity import CLOCK, SHARE
from upright_bolt.model.sample import Numbers
from upright_bolt.model.sensor import Sensor, SensorKind, by_processor, index_of, span_of


class CounterRates:
    """Makes rates of counts, side by side as they are in their sweep.

    Laid out for the case that every counter gives a number and none begins anew, as all that every sample costs.
    """

    def __init__(self) -> None:
        self._spans: list[int] = []
        self._scales: list[float] = []
        self._last: Numbers = []
        self._last_s = 0.0

    def add(self, span: int, scale: float) -> None:
        """Add a counter that begins anew after ``span`` and counts in units of ``scale``."""
        self._spans.append(span)
        self._scales.append(scale)

    def take(self, now_s: float, counts: Numbers) -> Numbers:
        """Return a rate per counter since the last call; none at the first. A counter begins anew once at most.

        Args:
            now_s: time in s.
            counts: of each counter, None where it gave none.
        """
        seconds, self._last_s = now_s - self._last_s, now_s
        last, self._last = self._last, counts
        if not last or seconds <= 0.0:
            return []
        per_s = 1.0 / seconds
        try:
            rates: Numbers = list(map(mul, map(mul, map(sub, counts, last), self._scales), repeat(per_s)))
        except TypeError:  # some are missing
            rates = []
        if rates and min(rates) >= 0.0:  # type: ignore[type-var,operator]
            return rates
        return [
            None if now is None or was is None else (now - was if now >= was else now - was + span) * scale * per_s
            for now, was, span, scale in zip(counts, last, self._spans, self._scales, strict=True)
        ]


NUMBER_SIZE = 64
"""Bytes read of a file that holds one number or word."""
LAST_PLACE = 2
CLOCK_MEAN = Sensor("clock.mean", CLOCK, "Clock, mean over busy processors", SensorKind.CLOCK)
BUSY_MEAN = Sensor("busy.mean", SHARE, "Busy share, mean over all processors", SensorKind.BUSY)


class SampleReader:
    """Reads all channels of a surveyed machine.

    Attributes:
        sensors: what the numbers of a sample mean, in their order.
    """

    def __init__(self, files: KernelFiles, register_port: Registers, surveyed: Surveyed, clock: Clock) -> None:
        self._files = files
        self._registers = register_port
        self._clock = clock
        self._moving, self._standing, self._words = NumberSweep(), NumberSweep(), TextSweep()
        # the gauges that move come first, at their file's place in their sweep; what is made of several follows
        self.sensors: list[Sensor] = []
        self._gauges: list[tuple[int, int]] = []
        self._counters = CounterRates()
        self._supply: SupplyReader | None = None
        self._libraries: list[tuple[int, LibraryReadings]] = []
        self._lowest: list[tuple[int, int, int]] = []
        self._fields: list[tuple[int, RegisterField]] = []
        self._switches: list[tuple[int, int, bytes]] = []
        self._guarded: list[tuple[GuardedGauges, int]] = []
        self._busy: BusyShares | None = None
        # Channels are added in the order in which they stand in the sweep, so that a sample is filled by two slices
        # instead of one assignment for each sensor: twice a second, with hundreds of files.
        ends = []
        for place in range(LAST_PLACE + 1):
            for channel in surveyed.channels:
                if _place(channel) == place:
                    self._add(channel)
            ends.append(len(self._moving))
        self._own, self._rates = ends[0], slice(ends[0], ends[1])
        self._caps = self._add_caps(surveyed)
        self.sensors += [CLOCK_MEAN, BUSY_MEAN]
        for kind, _ in surveyed.topology.kinds:
            word = kind.lower()
            self.sensors.append(Sensor(f"clock.{word}", CLOCK, f"Clock, mean over busy {kind}", SensorKind.CLOCK))
            self.sensors.append(Sensor(f"busy.{word}", SHARE, f"Busy share, mean over all {kind}", SensorKind.BUSY))
        self._kept: Numbers = [None] * len(self.sensors)
        self._last_standing: Numbers = []
        self._last_words: list[bytes] = []
        self._caps_mhz: Numbers = [None] * len(self._caps)
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
        side_by_side = zip_longest(_range(self._clock_span), _range(self._busy_span))
        self._aligned = bool(clocks) and self._pairs == list(side_by_side)
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

    def _open(self, sweep: NumberSweep, path: str, scale: float, void: int | None = None) -> int | None:
        """Add a file to a sweep; return its place there, or None if it cannot be opened."""
        try:
            return sweep.add(self._files.opener(path, NUMBER_SIZE), scale, void)
        except FileFault:
            return None

    def _open_moving(self, path: str, scale: float) -> int | None:
        return self._open(self._moving, path, scale)

    def _open_standing(self, path: str, scale: float) -> int | None:
        return self._open(self._standing, path, scale)

    def _open_word(self, path: str) -> Read:
        try:
            return self._files.opener(path, NUMBER_SIZE)
        except FileFault:
            return bytes

    def _add_caps(self, surveyed: Surveyed) -> list[int | None]:
        """Add the files that hold the highest clock by settings: of all cores, then of each kind."""
        driver = surveyed.controls.get("clock-max")
        whole = self._open_standing(driver.files[0], 1e-3) if driver is not None and driver.files else None
        policies = [paths.policy(min(cpus), "scaling_max_freq") for _, cpus in surveyed.topology.kinds]
        kinds = [self._open_standing(path, 1e-3) for path in policies]
        return [whole, *kinds]

    def _add(self, channel: Channel) -> None:
        index = len(self.sensors)
        match channel:
            case Gauge():
                self._add_gauge(channel)
            case Counter():
                self._add_counter(channel)
            case LowestOf():
                self._add_lowest(channel)
            case BusyTable():
                self._add_busy(channel)
            case Supplies():
                indices = {name: index + i for i, name in enumerate(channel.sensors)}
                self._supply = SupplyReader(channel, self._open_moving, self._open_word, indices)
                self.sensors += channel.sensors.values()
            case LibraryReadings():
                self._libraries.append((index, channel))
                self.sensors += channel.sensors
            case SleepGuardedGauges():
                self._add_guarded(channel)
            case WordSwitch(sensor, path, on):
                self._switches.append((index, self._words.add(self._open_word(path)), on.encode()))
                self.sensors.append(sensor)
            case RegisterField():
                self._fields.append((index, channel))
                self.sensors.append(channel.sensor)

    def _add_gauge(self, gauge: Gauge) -> None:
        stands = _stands(gauge)
        place = self._open(self._standing if stands else self._moving, gauge.path, gauge.scale, gauge.void)
        if place is None:
            return
        if stands:
            self._gauges.append((len(self.sensors), place))
        self.sensors.append(gauge.sensor)

    def _add_counter(self, counter: Counter) -> None:
        if self._open_moving(counter.path, 1.0) is not None:
            self._counters.add(counter.span, counter.scale)
            self.sensors.append(counter.sensor)

    def _add_lowest(self, channel: LowestOf) -> None:
        places = [place for path in channel.paths if (place := self._open_standing(path, channel.scale)) is not None]
        if places:
            self._lowest.append((len(self.sensors), places[0], places[-1] + 1))
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
        try:
            guard = self._files.opener(channel.guard, NUMBER_SIZE)
            reads = [self._files.opener(gauge.path, NUMBER_SIZE) for gauge in channel.gauges]
        except FileFault:
            return
        self._guarded.append((GuardedGauges(channel, reads, len(self.sensors)), self._words.add(guard)))
        self.sensors += [gauge.sensor for gauge in channel.gauges]

    def read(self) -> tuple[float, Numbers, Numbers]:
        """Read everything once. Rates (watts, busy shares) are None in the first sample.

        Returns:
            Time in s, a number per sensor, and the highest clock by settings in MHz: of all cores, then of each kind.
        """
        now = self._clock.now_s()
        moving, standing = self._moving.read(), self._standing.read()
        words = self._words.read()
        if standing is not self._last_standing:
            self._take_standing(standing)
        if words is not self._last_words:
            self._take_words(words)
        if self._supply is not None:
            self._supply.take(now, moving, self._kept)
        # Whoever has got the sample before keeps it, so it must not change under them.
        values = self._kept.copy()
        values[: self._own] = moving[: self._own]
        for index, channel in self._libraries:
            values[index : index + len(channel.sensors)] = channel.read()
        for index, field in self._fields:
            values[index] = self._field(field)
        rates = self._counters.take(now, moving[self._rates])
        # The first call has nothing to compare with, so there is no rate yet.
        if rates:
            values[self._rates] = rates
        for device, _ in self._guarded:
            device.read(now, values)
        if self._busy is not None:
            self._busy.take(now, values)
        self._take_means(values)
        return now, values, self._caps_mhz

    def _take_standing(self, standing: Numbers) -> None:
        """Keep what is made of the files that stand."""
        self._last_standing = standing
        for index, place in self._gauges:
            self._kept[index] = standing[place]
        for index, first, end in self._lowest:
            copies = standing[first:end]
            # One copy that cannot be read may be the lower one.
            self._kept[index] = None if None in copies else min(copies)  # type: ignore[type-var]
        self._caps_mhz = [None if place is None else standing[place] for place in self._caps]

    def _take_words(self, words: list[bytes]) -> None:
        """Keep what words say: switches, and which devices sleep."""
        self._last_words = words
        for index, place, on in self._switches:
            said = words[place].split()
            self._kept[index] = float(said[-1] == on) if said else None
        for device, place in self._guarded:
            device.take_word(words[place])

    def _field(self, field: RegisterField) -> float | None:
        try:
            raw = self._registers.read(field.cpu, field.register)
        except FileFault:
            return None
        return registers.bits(raw, field.high, field.low) * field.scale

    def _take_means(self, values: Numbers) -> None:
        """Fill in the means."""
        clocks, shares = values[self._clock_span], values[self._busy_span]
        clock_index, share_index = self._mean_indices
        try:
            total: float = sum(shares)  # type: ignore[arg-type]
            weighted: float = sum(map(mul, clocks, shares))
        except TypeError:  # something is missing
            total = weighted = 0.0
        # Clocks and shares stand side by side on nearly every machine; the slow way is for processors that have one of
        # the two only.
        if total and self._aligned:
            values[clock_index], values[share_index] = weighted / total, total / len(shares)
        else:
            values[clock_index] = self._clock_mean(values, clocks, self._pairs)
            values[share_index] = _mean(shares)
        for clock_index, share_index, pairs, indices in self._kinds:
            values[clock_index] = self._clock_mean(values, [values[clock] for clock, _ in pairs], pairs)
            values[share_index] = _mean([values[i] for i in indices])

    def _clock_mean(self, values: Numbers, clocks: Numbers, pairs: list[tuple[int, int]]) -> float | None:
        """Return the mean clock where clocks and shares do not stand side by side, or some are missing."""
        weight = total = 0.0
        for clock_index, share_index in pairs:
            clock, share = values[clock_index], values[share_index]
            if clock is not None and share is not None:
                weight += share
                total += clock * share
        return total / weight if weight > 0 else _mean(clocks)


def _range(span: slice) -> range:
    return range(span.start, span.stop)


def _mean(numbers: Numbers) -> float | None:
    known = [number for number in numbers if number is not None]
    return sum(known) / len(known) if known else None


def _stands(gauge: Gauge) -> bool:
    return gauge.sensor.kind is SensorKind.THROTTLE


def _place(channel: Channel) -> int:
    """Gauges that move come first, then counters: their numbers stand in a sample as in their sweep."""
    if isinstance(channel, Gauge) and not _stands(channel):
        return 0
    return 1 if isinstance(channel, Counter) else LAST_PLACE
