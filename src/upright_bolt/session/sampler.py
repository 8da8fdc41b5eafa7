"""Sampling: every channel read once, one vector of numbers per sample.

Files are opened once. This is the loop whose cost ``make bench`` compares with bare ``pread`` calls, so it is laid
out flat: all files that hold a number are read and decoded in one sweep. If any of them fails, the sweep is done
again file by file, and what fails is "not measured" in that sample.
"""

from collections.abc import Iterable
from dataclasses import dataclass
from operator import call, mul

from upright_bolt.analysis.holding import BUSY_SHARE, held_by
from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel import registers as reg
from upright_bolt.kernel.channels import (
    Asked,
    BusyTable,
    Channel,
    Counter,
    Gauge,
    Guarded,
    LowestOf,
    RegisterField,
    Supplies,
)
from upright_bolt.kernel.ports import KernelFiles, Read, Registers
from upright_bolt.kernel.survey import Surveyed
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.quantity import CLOCK, SHARE
from upright_bolt.model.sensor import Sensor
from upright_bolt.session.busy import ROW_BYTES, BusyShares
from upright_bolt.session.clock import Clock
from upright_bolt.session.supplies import Supply

Numbers = list[float | None]
NUMBER_SIZE = 64
"""Bytes read of a file that holds one number or word."""
CLOCK_MEAN = Sensor("clock.mean", CLOCK, "Clock, mean over busy processors")
BUSY_MEAN = Sensor("busy.mean", SHARE, "Busy share, mean over all processors")
_REASONS = tuple((Constraint(word), bits) for word, bits in reg.REASON_BITS.items())
_STATUS = tuple((Constraint(word), bits) for word, bits in reg.STATUS_BITS.items())
_FAILED = b""
NOTHING_SAID: frozenset[Constraint] = frozenset()
_NO_NUMBER = (OSError, ValueError, OverflowError)
"""A file that cannot be read, a text that is no number, and a number too long to be one."""


@dataclass(slots=True)
class Sample:
    """One moment: time on the machine's clock, a number per sensor, and what held the clock back.

    Attributes:
        kinds: what held each kind of core, in the topology's order; empty where all are of one kind.
    """

    time_s: float
    values: Numbers
    constraint: Constraint
    kinds: tuple[Constraint, ...] = ()


class Sampler:
    """Reads all channels of a surveyed machine.

    Attributes:
        sensors: what the numbers of a sample mean, in their order.
        place: sensor name to its place in a sample.
    """

    def __init__(self, files: KernelFiles, registers: Registers, surveyed: Surveyed, clock: Clock) -> None:
        self._files = files
        self._registers = registers
        self._clock = clock
        self._surveyed = surveyed
        self._reads: list[Read] = []
        self._scales: list[float] = []
        self._voids: list[tuple[int, float]] = []
        # a number that is a file's own comes first, at the file's place in the sweep; what is made of several follows
        self.sensors = self._add_own(surveyed.channels)
        self._own = len(self.sensors)
        self._counters: list[tuple[int, int, int, float]] = []
        self._supply: Supply | None = None
        self._asked: list[tuple[int, Asked]] = []
        self._lowest: list[tuple[int, int, int]] = []
        self._fields: list[tuple[int, RegisterField]] = []
        self._guarded: list[tuple[bytes, Read, list[tuple[int, Read, float]]]] = []
        self._busy: BusyShares | None = None
        for channel in surveyed.channels:
            self._add_made(channel)
        self._cap_place = self._add_cap()
        self.sensors += [CLOCK_MEAN, BUSY_MEAN]
        for kind, _ in surveyed.topology.kinds:
            word = kind.lower()
            self.sensors.append(Sensor(f"clock.{word}", CLOCK, f"Clock, mean over busy {kind}"))
            self.sensors.append(Sensor(f"busy.{word}", SHARE, f"Busy share, mean over all {kind}"))
        self.place = {sensor.name: i for i, sensor in enumerate(self.sensors)}
        self._rest: Numbers = [None] * (len(self.sensors) - self._own)
        self._last_counts: Numbers = []
        self._counted_s = 0.0
        self._limit_span = slice(self._lowest[0][1], self._lowest[-1][2]) if self._lowest else slice(0, 0)
        self._last_limits: Numbers = []
        self._lowest_now: Numbers = [None] * len(self._lowest)
        self._last_throttle: list[float | None] = []
        self._throttling = False
        self._said = NOTHING_SAID
        self._find_places()

    def use(self, surveyed: Surveyed) -> None:
        """Take over fixed numbers that have moved: ceiling and turbo table."""
        self._surveyed = surveyed

    def _find_places(self) -> None:
        place = self.place
        self._clock_span = _span([i for name, i in place.items() if name.startswith("clock.cpu")])
        self._busy_span = _span([i for name, i in place.items() if name.startswith("busy.cpu")])
        self._pairs = [
            (i, place[f"busy.{name[6:]}"])
            for name, i in place.items()
            if name.startswith("clock.cpu") and f"busy.{name[6:]}" in place
        ]
        clocks, shares = self._clock_span, self._busy_span
        self._aligned = self._pairs == list(
            zip(range(clocks.start, clocks.stop), range(shares.start, shares.stop), strict=False)
        )
        self._kinds = [
            (
                place[f"clock.{kind.lower()}"],
                place[f"busy.{kind.lower()}"],
                [pair for pair in self._pairs if self.sensors[pair[0]].name[9:] in {str(cpu) for cpu in cpus}],
                [place[f"busy.cpu{cpu}"] for cpu in cpus if f"busy.cpu{cpu}" in place],
            )
            for kind, cpus in self._surveyed.topology.kinds
        ]
        self._kind_tops = [self._tops_of(cpus) for _, cpus in self._surveyed.topology.kinds]
        self._throttle_span = _span([i for name, i in place.items() if name.startswith("throttle.")])
        core_of = self._surveyed.topology.core_of
        self._core_busy = [
            (core_of.get(int(n[8:]), (0, int(n[8:]))), i) for n, i in place.items() if n[:8] == "busy.cpu"
        ]
        names = ("power.package", "limit.sustained", "limit.burst", "temperature.package")
        self._known = tuple(place.get(name) for name in names)
        self._bit_places = tuple(place.get(name) for name in ("limit.reasons", "limit.log", "limit.status"))
        self._has_bits = any(i is not None for i in self._bit_places)
        self._last_log: int | None = None
        self._mean_places = place[CLOCK_MEAN.name], place[BUSY_MEAN.name]

    def _open(self, path: str, scale: float) -> int | None:
        """Add a file to the sweep; return its place there, or None if it cannot be opened."""
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

    def _add_cap(self) -> int | None:
        control = self._surveyed.controls.get("clock-max")
        return self._open(control.files[0], 1e-3) if control is not None and control.files else None

    def _tops_of(self, cpus: tuple[int, ...]) -> tuple[Read, float | None]:
        """Return what reads the cap of one kind of core, and the highest clock of that kind in MHz if it is told."""
        policy = min(cpus)
        try:
            highest = _number(self._files.read(paths.policy(policy, "cpuinfo_max_freq")), 1e-3)
        except FileFault:
            highest = None
        return self._open_word(paths.policy(policy, "scaling_max_freq")), highest

    def _add_own(self, channels: Iterable[Channel]) -> list[Sensor]:
        sensors = []
        for channel in channels:
            if isinstance(channel, Gauge) and (place := self._open(channel.path, channel.scale)) is not None:
                sensors.append(channel.sensor)
                if channel.void is not None:
                    self._voids.append((place, channel.void * channel.scale))
        return sensors

    def _add_made(self, channel: Channel) -> None:
        place = len(self.sensors)
        match channel:
            case BusyTable():
                self._add_busy(channel)
            case Counter(sensor, path, span, scale):
                slot = self._open(path, 1.0)
                if slot is not None:
                    self._counters.append((place, slot, span, scale))
                    self.sensors.append(sensor)
            case LowestOf(sensor, limits, scale):
                slots = [slot for path in limits if (slot := self._open(path, scale)) is not None]
                if slots:
                    self._lowest.append((place, slots[0], slots[-1] + 1))
                    self.sensors.append(sensor)
            case Supplies():
                places = {name: place + i for i, name in enumerate(channel.sensors)}
                self._supply = Supply(channel, self._open, self._open_word, places)
                self.sensors += channel.sensors.values()
            case Asked():
                self._asked.append((place, channel))
                self.sensors += channel.sensors
            case Guarded():
                self._add_guarded(channel)
            case RegisterField():
                self._fields.append((place, channel))
                self.sensors.append(channel.sensor)

    def _add_busy(self, channel: BusyTable) -> None:
        try:
            read = self._files.opener(channel.path, ROW_BYTES * (len(channel.sensors) + 1))
        except FileFault:
            return
        place = len(self.sensors)
        self._busy = BusyShares(read, {cpu: place + i for i, cpu in enumerate(channel.sensors)})
        self.sensors += channel.sensors.values()

    def _add_guarded(self, channel: Guarded) -> None:
        gauges = []
        try:
            guard = self._files.opener(channel.guard, NUMBER_SIZE)
            for gauge in channel.gauges:
                gauges.append((len(self.sensors), self._files.opener(gauge.path, NUMBER_SIZE), gauge.scale))
                self.sensors.append(gauge.sensor)
        except FileFault:
            return
        self._guarded.append((channel.asleep.encode(), guard, gauges))

    def sample(self) -> Sample:
        """Read everything once. Rates (watts, busy shares) are None in the first sample."""
        now = self._clock.now_s()
        decoded = self._decoded()
        values = decoded[: self._own] + self._rest
        limits = decoded[self._limit_span]
        if limits != self._last_limits:
            self._take_limits(decoded, limits)
        for (place, _, _), limit in zip(self._lowest, self._lowest_now, strict=True):
            values[place] = limit
        if self._supply is not None:
            self._supply.take(now, decoded, values)
        for place, channel in self._asked:
            values[place : place + len(channel.sensors)] = channel.ask()
        for place, field in self._fields:
            values[place] = self._field(field)
        self._take_counters(now, decoded, values)
        for asleep, guard, gauges in self._guarded:
            if _read_or_nothing(guard).strip() != asleep:
                for place, read, scale in gauges:
                    values[place] = _number(_read_or_nothing(read), scale)
        if self._busy is not None:
            self._busy.take(now, values)
        cap = None if self._cap_place is None else decoded[self._cap_place]
        held = self._held(values, self._take_means(values), cap)
        return Sample(now, values, held, self._kinds_held(values, held) if self._kinds else ())

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
        for place, void in self._voids:
            if decoded[place] == void:
                decoded[place] = None
        return decoded

    def _take_counters(self, now: float, decoded: Numbers, values: Numbers) -> None:
        passed = now - self._counted_s
        last, self._counted_s = self._last_counts, now
        self._last_counts = counts = [decoded[slot] for _, slot, _, _ in self._counters]
        if not last or passed <= 0.0:
            return
        for (place, _, span, scale), count, before in zip(self._counters, counts, last, strict=True):
            if count is not None and before is not None:
                grown = count - before
                values[place] = (grown + span if grown < 0 else grown) * scale / passed

    def _field(self, field: RegisterField) -> float | None:
        try:
            raw = self._registers.read(field.cpu, field.register)
        except FileFault:
            return None
        return reg.bits(raw, field.high, field.low) * field.scale

    def _take_means(self, values: Numbers) -> float | None:
        """Fill in the means, and return the share of the busiest processor."""
        shares = [share for share in values[self._busy_span] if share is not None]
        clocks = values[self._clock_span]
        mean_place, busy_place = self._mean_places
        busiest = max(shares, default=None)
        total = sum(shares)
        if shares:
            values[busy_place] = total / len(shares)
        if total and self._aligned and len(shares) == len(clocks) and None not in clocks:
            values[mean_place] = sum(map(mul, clocks, shares)) / total
        else:
            values[mean_place] = self._clock_mean(values, clocks, self._pairs)
        for clock_place, share_place, pairs, places in self._kinds:
            values[clock_place] = self._clock_mean(values, [values[clock] for clock, _ in pairs], pairs)
            known = [share for i in places if (share := values[i]) is not None]
            values[share_place] = sum(known) / len(known) if known else None
        return busiest

    def _clock_mean(self, values: Numbers, clocks: Numbers, pairs: list[tuple[int, int]]) -> float | None:
        """Return the mean clock where clocks and shares do not stand side by side, or some are missing."""
        weight = total = 0.0
        for clock_place, share_place in pairs:
            clock, share = values[clock_place], values[share_place]
            if clock is not None and share is not None:
                weight += share
                total += clock * share
        known = [clock for clock in clocks if clock is not None]
        if weight > 0:
            return total / weight
        return sum(known) / len(known) if known else None

    def _throttled(self, values: Numbers) -> bool:
        counts = values[self._throttle_span]
        last, self._last_throttle = self._last_throttle, counts
        if counts == last or not last:
            return False
        return any(n is not None and o is not None and n > o for n, o in zip(counts, last, strict=True))

    def _held(self, values: Numbers, busiest: float | None, cap_mhz: float | None) -> Constraint:
        self._throttling = self._throttled(values)
        if busiest is None or busiest < BUSY_SHARE:
            return held_by(busiest)
        surveyed = self._surveyed
        cores = 0
        if surveyed.turbo_table_mhz:
            cores = len({core for core, i in self._core_busy if (values[i] or 0.0) >= BUSY_SHARE})
        self._said = self._reasons(values)
        clock = values[self._mean_places[0]]
        return self._held_at(values, busiest, clock, cap_mhz, surveyed.turbo_table_mhz, cores, surveyed.highest_mhz)

    def _held_at(
        self,
        values: Numbers,
        busiest: float | None,
        clock_mhz: float | None,
        cap_mhz: float | None,
        table_mhz: tuple[float, ...],
        cores: int,
        highest_mhz: float | None,
    ) -> Constraint:
        power, sustained, burst, temperature = [None if i is None else values[i] for i in self._known]
        return held_by(
            busiest,
            busy_cores=cores,
            clock_mhz=clock_mhz,
            power_w=power,
            sustained_w=sustained,
            burst_w=burst,
            temp_c=temperature,
            ceiling_c=self._surveyed.ceiling_c,
            throttled=self._throttling,
            cap_mhz=cap_mhz,
            turbo_table_mhz=table_mhz,
            highest_mhz=highest_mhz,
            reasons=self._said,
        )

    def _kinds_held(self, values: Numbers, held: Constraint) -> tuple[Constraint, ...]:
        """Return what holds each kind: watts, heat and signals hold all that work, clocks each kind by itself."""
        found = []
        for (clock_place, _, _, places), (read_cap, highest) in zip(self._kinds, self._kind_tops, strict=True):
            busiest = max((share for i in places if (share := values[i]) is not None), default=None)
            if held is Constraint.NO_WORK or busiest is None or busiest < BUSY_SHARE:
                found.append(held_by(busiest))
                continue
            cap = _number(_read_or_nothing(read_cap), 1e-3)
            found.append(self._held_at(values, busiest, values[clock_place], cap, (), 0, highest))
        return tuple(found)

    def _reasons(self, values: Numbers) -> frozenset[Constraint]:
        """Return what the processor's bits say: those that are live, and those that were set since the last sample."""
        if not self._has_bits:
            return NOTHING_SAID
        live, log, status = [0 if i is None else int(values[i] or 0) for i in self._bit_places]
        fresh = log & ~self._last_log if self._last_log is not None else 0
        self._last_log = log
        if not (live or fresh or status):
            return NOTHING_SAID
        said = {c for c, bits in _REASONS if (live | fresh) & bits}
        return frozenset(said | {c for c, bits in _STATUS if status & bits})


def _span(places: list[int]) -> slice:
    """Return the places as a slice: sensors of one kind stand side by side."""
    return slice(places[0], places[-1] + 1) if places else slice(0, 0)


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
