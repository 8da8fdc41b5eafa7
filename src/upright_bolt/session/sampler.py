"""Sampling: every channel read once, one vector of numbers per sample.

Files are opened once. This is the loop whose cost ``make bench`` compares with bare ``pread`` calls, so it builds
no objects per channel. A file that fails during sampling is "not measured" in that sample.
"""

from dataclasses import dataclass

from upright_bolt.analysis.holding import Evidence, held_by
from upright_bolt.errors import FileFault
from upright_bolt.kernel import registers as reg
from upright_bolt.kernel.channels import BusyTable, EnergyCounter, Gauge, LowestOf, RegisterField, Word
from upright_bolt.kernel.ports import TEXT_SIZE, KernelFiles, Read, Registers
from upright_bolt.kernel.survey import Surveyed
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.quantity import CLOCK, SHARE
from upright_bolt.model.sensor import Sensor
from upright_bolt.session.clock import Clock

Numbers = list[float | None]
_NO_NUMBER = (OSError, ValueError, OverflowError)
"""A read that fails, a text that is no number, and a number too long to be one."""
CLOCK_MEAN = Sensor("clock.mean", CLOCK, "Clock, mean over busy processors")
BUSY_MEAN = Sensor("busy.mean", SHARE, "Busy share, mean over all processors")
_REASONS = {Constraint(word): 1 << bit for word, bit in reg.REASON_BITS.items()}


@dataclass(frozen=True, slots=True)
class Sample:
    """One moment: time on the machine's clock, a number per sensor, and what held the clock back."""

    time_s: float
    values: Numbers
    constraint: Constraint


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
        self.sensors: list[Sensor] = []
        self._gauges: list[tuple[int, Read, float, int | None]] = []
        self._words: list[tuple[int, Read, dict[bytes, float]]] = []
        self._energies: list[tuple[int, Read, int]] = []
        self._lowest: list[tuple[int, list[Read], float]] = []
        self._fields: list[tuple[int, RegisterField]] = []
        self._busy_read: Read | None = None
        self._busy_places: list[tuple[int, int]] = []
        for channel in surveyed.channels:
            self._add(channel)
        self.sensors += [CLOCK_MEAN, BUSY_MEAN]
        self.place = {sensor.name: i for i, sensor in enumerate(self.sensors)}
        self._clock_places = [i for s, i in self.place.items() if s.startswith("clock.cpu")]
        self._pairs = [
            (i, self.place[f"busy.{sensor.name[6:]}"])
            for i, sensor in enumerate(self.sensors)
            if sensor.name.startswith("clock.cpu") and f"busy.{sensor.name[6:]}" in self.place
        ]
        self._throttle_places = [i for s, i in self.place.items() if s.startswith("throttle.")]
        self._cap = self._opened(self._cap_path())
        self._cap_mhz: float | None = None
        self._last_energy: list[tuple[float, int] | None] = [None] * len(self._energies)
        self._last_times: dict[int, tuple[int, int]] = {}
        self._last_throttle: list[float | None] = [None] * len(self._throttle_places)

    def _cap_path(self) -> str | None:
        control = self._surveyed.controls.get("clock-max")
        return control.files[0] if control is not None and control.files else None

    def _opened(self, path: str | None, size: int = 4096) -> Read | None:
        if path is None:
            return None
        try:
            return self._files.opener(path, size)
        except FileFault:
            return None

    def _add(self, channel: object) -> None:
        place = len(self.sensors)
        match channel:
            case BusyTable(sensors, path):
                self._busy_read = self._opened(path, TEXT_SIZE)
                for cpu, sensor in sensors.items():
                    self._busy_places.append((cpu, len(self.sensors)))
                    self.sensors.append(sensor)
            case Gauge(sensor, path, scale, void) if read := self._opened(path):
                self._gauges.append((place, read, scale, void))
                self.sensors.append(sensor)
            case Word(sensor, path, meanings) if read := self._opened(path):
                self._words.append((place, read, {word.encode(): n for word, n in meanings.items()}))
                self.sensors.append(sensor)
            case EnergyCounter(sensor, path, span) if read := self._opened(path):
                self._energies.append((place, read, span))
                self.sensors.append(sensor)
            case LowestOf(sensor, paths, scale):
                reads = [read for path in paths if (read := self._opened(path))]
                self._lowest.append((place, reads, scale))
                self.sensors.append(sensor)
            case RegisterField():
                self._fields.append((place, channel))
                self.sensors.append(channel.sensor)

    def sample(self) -> Sample:
        """Read everything once. Rates (watts, busy shares) are None in the first sample."""
        now = self._clock.now_s()
        values: Numbers = [None] * len(self.sensors)
        for place, read, scale, void in self._gauges:
            try:
                number = int(read())
                if number != void:
                    values[place] = number * scale
            except _NO_NUMBER:
                continue
        for place, reads, scale in self._lowest:
            try:
                values[place] = min([int(read()) for read in reads]) * scale
            except _NO_NUMBER:
                continue
        self._read_energies(now, values)
        self._read_rest(values)
        self._read_busy(values)
        throttled = self._derive(values)
        return Sample(now, values, self._held(values, throttled=throttled))

    def _read_energies(self, now: float, values: Numbers) -> None:
        for i, (place, read, span) in enumerate(self._energies):
            try:
                microjoules = int(read())
            except _NO_NUMBER:
                self._last_energy[i] = None
                continue
            last = self._last_energy[i]
            self._last_energy[i] = (now, microjoules)
            if last is not None and now > last[0]:
                grown = microjoules - last[1]
                values[place] = (grown + span if grown < 0 else grown) * 1e-6 / (now - last[0])

    def _read_rest(self, values: Numbers) -> None:
        for place, read, meanings in self._words:
            try:
                values[place] = meanings.get(read().strip())
            except OSError:
                continue
        for place, field in self._fields:
            try:
                raw = self._registers.read(field.cpu, field.register)
            except FileFault:
                continue
            values[place] = reg.bits(raw, field.high, field.low) * field.scale
        if self._cap is not None:
            try:
                self._cap_mhz = int(self._cap()) / 1000.0
            except _NO_NUMBER:
                self._cap_mhz = None

    def _read_busy(self, values: Numbers) -> None:
        if self._busy_read is None:
            return
        try:
            rows = self._busy_read().split(b"\n", len(self._busy_places) + 1)
        except OSError:
            return
        last = self._last_times
        for row, (cpu, place) in zip(rows[1:], self._busy_places, strict=False):
            fields = row.split()
            try:
                times = list(map(int, fields[1:9]))
                idle = times[3] + times[4]
            except (ValueError, IndexError):
                continue
            if fields[0][3:] != b"%d" % cpu:
                self._find_rows()
                return
            total = sum(times)
            before = last.get(cpu)
            last[cpu] = (total, idle)
            if before is not None and total > before[0]:
                values[place] = min(100.0, max(0.0, 100.0 - 100.0 * (idle - before[1]) / (total - before[0])))

    def _find_rows(self) -> None:
        """A processor went on- or offline: forget the times, and match rows to processors again."""
        self._last_times.clear()
        rows = self._busy_read().split(b"\n") if self._busy_read else []
        online = [int(row.split()[0][3:]) for row in rows if row.startswith(b"cpu") and row[3:4].isdigit()]
        places = dict(self._busy_places)
        known = [(cpu, places[cpu]) for cpu in online if cpu in places]
        gone = [(cpu, place) for cpu, place in self._busy_places if cpu not in online]
        self._busy_places = known + gone

    def _derive(self, values: Numbers) -> bool:
        """Fill in the means; return whether a throttle counter has grown."""
        weight = total = 0.0
        for clock_place, busy_place in self._pairs:
            clock, busy = values[clock_place], values[busy_place]
            if clock is not None and busy is not None:
                weight += busy
                total += clock * busy
        if weight > 0:
            values[self.place["clock.mean"]] = total / weight
        elif clocks := [c for i in self._clock_places if (c := values[i]) is not None]:
            values[self.place["clock.mean"]] = sum(clocks) / len(clocks)
        shares = [share for _, i in self._busy_places if (share := values[i]) is not None]
        if shares:
            values[self.place["busy.mean"]] = sum(shares) / len(shares)
        counts = [values[i] for i in self._throttle_places]
        grown = any(
            new is not None and old is not None and new > old
            for new, old in zip(counts, self._last_throttle, strict=True)
        )
        self._last_throttle = counts
        return grown

    def _held(self, values: Numbers, *, throttled: bool) -> Constraint:
        place = self.place
        shares = [share for _, i in self._busy_places if (share := values[i]) is not None]
        surveyed = self._surveyed
        bits = values[place["limit.reasons"]] if "limit.reasons" in place else None
        reasons = None if bits is None else frozenset(c for c, bit in _REASONS.items() if int(bits) & bit)
        cores = surveyed.topology.core_of
        busy = {cores.get(cpu, (0, cpu)) for cpu, i in self._busy_places if (values[i] or 0.0) >= 30.0}
        return held_by(
            Evidence(
                busiest=max(shares) if shares else None,
                busy_cores=len(busy),
                clock_mhz=values[place["clock.mean"]],
                power_w=self._value(values, "power.package"),
                sustained_w=self._value(values, "limit.sustained"),
                burst_w=self._value(values, "limit.burst"),
                temp_c=self._value(values, "temperature.package"),
                ceiling_c=surveyed.ceiling_c,
                throttled=throttled,
                cap_mhz=self._cap_mhz,
                turbo_table_mhz=surveyed.turbo_table_mhz,
                highest_mhz=surveyed.highest_mhz,
                reasons=reasons,
            )
        )

    def _value(self, values: Numbers, name: str) -> float | None:
        place = self.place.get(name)
        return None if place is None else values[place]
