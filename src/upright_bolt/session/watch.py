"""Watching samples for what happens to a machine from outside: plugging, and settings changed by somebody else."""

from upright_bolt.model.control import show_value
from upright_bolt.model.run import RunEvent
from upright_bolt.session.sampler import Sample

_LIMITS = {"limit.sustained": "sustained", "limit.burst": "burst", "limit.window": "window"}


class Watcher:
    """Turns changes between samples into events.

    Args:
        place: sensor name to its place in a sample.
    """

    def __init__(self, place: dict[str, int]) -> None:
        self._place = {name: place[name] for name in ("charger", *_LIMITS) if name in place}
        self._last: dict[str, float | None] = {}

    def forget_limits(self) -> None:
        """Take the next sample's limits as they are: this program has just changed them."""
        for name in _LIMITS:
            self._last.pop(name, None)

    def observe(self, sample: Sample) -> list[RunEvent]:
        """Return what has changed since the last sample."""
        events = []
        for name, place in self._place.items():
            now = sample.values[place]
            before = self._last.get(name)
            if now is not None:
                self._last[name] = now
            if before is None or now is None or now == before:
                continue
            if name == "charger":
                events.append(RunEvent(sample.time_s, "source", "Charger plugged in" if now else "Charger unplugged"))
            else:
                control = _LIMITS[name]
                change = f"{control} {show_value(control, before)} → {show_value(control, now)}"
                events.append(RunEvent(sample.time_s, "reset", f"Changed by firmware or another program: {change}"))
        return events
