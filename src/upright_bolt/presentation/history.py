"""What the charts show of the last day: columns of numbers that grow, and thinning for the eye."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from upright_bolt.analysis.limits.gpu_limits import NO_CAP, held_by
from upright_bolt.model.constraint import CODE, ORDER, Constraint
from upright_bolt.model.event import Event
from upright_bolt.model.sample import Sample, value_of
from upright_bolt.model.sensor import FAN, Sensor, SensorKind, by_processor, index_of

Floats = NDArray[np.float64]
COLUMNS = (
    "time", "clock_mean", "clock_low", "clock_high", "power", "sustained", "burst", "temperature", "fan", "busy",
    "held", "chip_clock", "chip_power", "chip_temperature", "chip_held", "board",
)  # fmt: skip
OF_CHIP = ("clock", "power", "temperature")
KEEP_S = 24 * 3600.0
STRETCH = 2048
"""Rows looked at in one go when searching backwards."""


class History:
    """The last day of one machine.

    Args:
        sensors: what the numbers of a sample mean.

    Attributes:
        events: what happened, in order.
        measured: names of the sensors.
        highest: highest power and temperature since this window was opened.
        chip: the graphics chip whose numbers stand beside the processor's: one that tells its watts; empty for none.
        chip_cap: what settings keep that chip's clock at; may be set.
    """

    def __init__(self, sensors: Sequence[Sensor]) -> None:
        self.update_machine(sensors)
        self.chip_cap = NO_CAP
        self._table = np.full((4096, len(COLUMNS)), np.nan)
        self._start = 0
        self._end = 0
        self.events: list[Event] = []
        self.highest: dict[str, float] = {}

    def update_machine(self, sensors: Sequence[Sensor]) -> None:
        """Read samples from now on by these sensors."""
        self._index = index_of(sensors)
        self.measured = frozenset(self._index)
        self._clocks = list(by_processor(sensors, SensorKind.CLOCK).values())
        self.chip = next((part for sensor in sensors if (part := _chip_of(sensor))), "")
        self._of_chip = [self._index.get(f"{self.chip}.{kind}") for kind in OF_CHIP]

    def __len__(self) -> int:
        return self._end - self._start

    def add(self, samples: list[Sample], events: list[Event]) -> None:
        """Take new samples and events."""
        for sample in samples:
            self._add(sample)
        self.events += events
        if samples:
            oldest = samples[-1].time_s - KEEP_S
            self.events = [event for event in self.events if event.time_s >= oldest]
            # Old rows are left behind by moving the start, and dropped when the table is made anew.
            while self._start < self._end and self._table[self._start, 0] < oldest:
                self._start += 1

    def _add(self, sample: Sample) -> None:
        if self._end == len(self._table):
            self._make_room()
        values = sample.values
        clocks = [c for i in self._clocks if (c := values[i]) is not None]
        row = (
            sample.time_s,
            value_of(sample, self._index, "clock.mean"),
            min(clocks, default=None),
            max(clocks, default=None),
            value_of(sample, self._index, "power.package"),
            value_of(sample, self._index, "limit.sustained"),
            value_of(sample, self._index, "limit.burst"),
            value_of(sample, self._index, "temperature.package"),
            value_of(sample, self._index, FAN),
            value_of(sample, self._index, "busy.mean"),
            CODE[sample.constraint],
            *(None if index is None else values[index] for index in self._of_chip),
            self._chip_held(sample),
            value_of(sample, self._index, "limit.board"),
        )
        self._table[self._end] = [np.nan if value is None else value for value in row]
        for name, value in (("power", row[4]), ("temperature", row[7])):
            if value is not None:
                self.highest[name] = max(value, self.highest.get(name, value))
        self._end += 1

    def _chip_held(self, sample: Sample) -> float | None:
        """Return the number of what holds the chip; None while it sleeps, or without one."""
        if not self.chip:
            return None
        held = held_by(lambda name: value_of(sample, self._index, name), self.chip, self.chip_cap)
        return None if held is None else CODE[held]

    @property
    def chip_words(self) -> str:
        """What holds the graphics chip now, in words; empty while it sleeps or has no work."""
        code = self.last("chip_held")
        held = None if code is None else ORDER[int(code)]
        return "" if held in (None, Constraint.NO_WORK) else f"{self.chip}: {held}"

    def _make_room(self) -> None:
        live = self._table[self._start : self._end]
        size = max(4096, 2 * len(live))
        table = np.full((size, len(COLUMNS)), np.nan)
        table[: len(live)] = live
        self._table, self._start, self._end = table, 0, len(live)

    def column(self, name: str) -> Floats:
        """Return a whole column (a view)."""
        return self._table[self._start : self._end, COLUMNS.index(name)]

    def seen(self, from_s: float, to_s: float) -> dict[str, Floats]:
        """Return all columns between two times (views), with one row more on either side."""
        times = self.column("time")
        first = max(0, int(np.searchsorted(times, from_s)) - 1)
        rows = slice(first, int(np.searchsorted(times, to_s, "right")) + 1)
        return {name: self.column(name)[rows] for name in COLUMNS}

    def held_since_s(self) -> float:
        """Return for how many seconds the constraint of the moment has held without a break."""
        held, times = self.column("held"), self.column("time")
        end = len(held)
        while end:  # a day is long: the newest stretch first
            begin = max(0, end - STRETCH)
            other = np.flatnonzero(held[begin:end] != held[-1])
            if other.size:
                return float(times[-1] - times[begin + other[-1] + 1])
            end = begin
        return float(times[-1] - times[0]) if len(times) else 0.0

    def last(self, name: str) -> float | None:
        """Return the newest number of a column; None if it was not measured."""
        if not len(self):
            return None
        value = float(self.column(name)[-1])
        return None if np.isnan(value) else value


def _chip_of(sensor: Sensor) -> str:
    """Return the graphics chip whose watts a sensor tells; empty if it tells something else."""
    part, _, what = sensor.name.rpartition(".")
    return part if sensor.kind is SensorKind.GRAPHICS and what == "power" else ""


def thinned(time_s: Floats, values: Floats, most: int = 1500) -> tuple[Floats, Floats]:
    """Return at most about ``most`` points that look the same: the lowest and highest of each stretch.

    Args:
        time_s: shape (n,), rising.
        values: shape (n,), may hold NaN.
        most: points wanted at most.
    """
    count = len(time_s)
    if count <= most:
        return time_s, values
    stretch = -(-2 * count // most)
    whole = count // stretch * stretch
    block = values[:whole].reshape(-1, stretch)
    # argmin and argmax take NaN for the lowest and the highest; a gap must not win.
    filled_low = np.where(np.isnan(block), np.inf, block)
    filled_high = np.where(np.isnan(block), -np.inf, block)
    rows = np.arange(len(block))
    indices = np.sort(np.stack([filled_low.argmin(1), filled_high.argmax(1)], axis=1), axis=1)
    picked = (rows[:, None] * stretch + indices).ravel()
    picked = np.concatenate([picked, np.arange(whole, count)])
    return time_s[picked], values[picked]


def spans_of(time_s: Floats, held: Floats) -> dict[int, list[tuple[float, float]]]:
    """Return by code the stretches (from, to) of time during which it held; each sample holds until the next.

    Args:
        time_s: shape (n,), rising.
        held: shape (n,), codes; NaN where nobody knows.
    """
    spans: dict[int, list[tuple[float, float]]] = {}
    if not len(held):
        return spans
    begins = np.concatenate([[0], np.flatnonzero(np.diff(held)) + 1])
    ends = np.append(begins[1:], len(held) - 1)
    for code, begin, end in zip(held[begins].tolist(), time_s[begins].tolist(), time_s[ends].tolist(), strict=True):
        if not np.isnan(code):
            spans.setdefault(int(code), []).append((begin, end))
    return spans
