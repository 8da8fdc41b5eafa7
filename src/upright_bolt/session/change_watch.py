"""Watching samples for what happens to a machine from outside: plugging, settings changed by others, processors."""

from collections.abc import Sequence

from upright_bolt.model.event import ChargerChanged, ChipsChanged, Event, LimitsReset, ProcessorsChanged
from upright_bolt.model.graphics import Gpu
from upright_bolt.model.sample import Sample
from upright_bolt.model.sensor import Sensor, SensorKind, by_processor, index_of

CHARGER = "charger"
_LIMITS = {"limit.sustained": "sustained", "limit.burst": "burst", "limit.window": "window"}


def chips_changed(time_s: float, before: Sequence[Gpu], now: Sequence[Gpu]) -> list[Event]:
    """Return that graphics chips have come or gone, if so."""
    old, new = ({chip.part for chip in chips} for chips in (before, now))
    return [ChipsChanged(time_s, tuple(sorted(new - old)), tuple(sorted(old - new)))] if old != new else []


class ChangeWatch:
    """Turns changes between samples into events.

    Args:
        sensors: what the numbers of a sample mean.
    """

    def __init__(self, sensors: Sequence[Sensor]) -> None:
        index = index_of(sensors)
        self._index = {name: index[name] for name in (CHARGER, *_LIMITS) if name in index}
        self._busy = by_processor(sensors, SensorKind.BUSY)
        self._last: dict[str, float] = {}
        self._online: frozenset[int] | None = None

    def forget_limits(self) -> None:
        """Take the next sample's limits as they are: this program has just changed them."""
        for name in _LIMITS:
            self._last.pop(name, None)

    def observe(self, sample: Sample) -> list[Event]:
        """Return what has changed since the last sample."""
        events: list[Event] = []
        for name, i in self._index.items():
            now, before = sample.values[i], self._last.get(name)
            if now is not None:
                self._last[name] = now
            if before is None or now is None or now == before:
                continue
            if name == CHARGER:
                events.append(ChargerChanged(sample.time_s, plugged=bool(now)))
            else:
                events.append(LimitsReset(sample.time_s, _LIMITS[name], before, now))
        return events + self._processors(sample)

    def _processors(self, sample: Sample) -> list[Event]:
        """Return which processors have gone or come back; a sample without any busy share says nothing of them."""
        online = frozenset(cpu for cpu, i in self._busy.items() if sample.values[i] is not None)
        before = self._online
        if not online or online == before:
            return []
        self._online = online
        if before is None:
            return []
        return [ProcessorsChanged(sample.time_s, tuple(sorted(before - online)), tuple(sorted(online - before)))]
