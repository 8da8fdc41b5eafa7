"""Readings of a device that may sleep: taken while it is awake, and with pauses while it does nothing."""

from upright_bolt.kernel.gpu.memory import Autosuspend
from upright_bolt.kernel.ports import Read
from upright_bolt.kernel.sensors.channels import Gauge, SleepGuardedGauges
from upright_bolt.kernel.sensors.number_sweep import NumberSweep
from upright_bolt.model.sample import Numbers

IDLE_S = 4.0
"""A device that has done nothing for so long is left alone."""
PAUSE_S = 12.0
"""For so long: drivers of graphics chips wait five seconds after the last use before they let a chip sleep."""
TELLS_IDLE = (".busy", ".clock")
"""Ends of the names of readings that are 0 while a device does nothing, the first that it has counts."""


class GuardedGauges:
    """The gauges of one device.

    Args:
        channel: what is read.
        reads: reads each gauge's file.
        first: index of the first gauge in a sample.
    """

    def __init__(self, channel: SleepGuardedGauges, reads: list[Read], first: int) -> None:
        self._sleeps = False
        self._asleep = channel.asleep.encode()
        self._sweep = NumberSweep()
        for read, gauge in zip(reads, channel.gauges, strict=True):
            self._sweep.add(read, gauge.scale, gauge.void)
        self._span = slice(first, first + len(reads))
        self._tells = _telling(channel.gauges)
        known = channel.autosuspend if self._tells is not None else None
        self._autosuspend = known or Autosuspend()
        self._pauses = known is not None
        self._idle_since: float | None = None
        self._paused_s = 0.0

    def take_word(self, word: bytes) -> None:
        """Take what the file says that tells whether it sleeps."""
        self._sleeps = word.strip() == self._asleep

    def read(self, now: float, values: Numbers) -> None:
        """Fill in what the device shows at time ``now``; nothing while it sleeps or is left alone."""
        autosuspend = self._autosuspend
        if self._sleeps:
            autosuspend.paused, self._idle_since = False, None
            autosuspend.texts.clear()
            return
        if autosuspend.paused and not autosuspend.worked and now - self._paused_s < PAUSE_S:
            return
        values[self._span] = found = self._sweep.read()
        if self._pauses and self._tells is not None:
            self._look(now, idle=found[self._tells] == 0.0)

    def _look(self, now: float, *, idle: bool) -> None:
        """Begin a pause, or end it."""
        if not idle or self._autosuspend.worked:
            self._autosuspend.paused, self._idle_since = False, None
            return
        if self._idle_since is None:
            self._idle_since = now
        self._autosuspend.paused = now - self._idle_since >= IDLE_S
        self._paused_s = now


def _telling(gauges: tuple[Gauge, ...]) -> int | None:
    """Return the place of the gauge that tells whether a device does nothing."""
    for end in TELLS_IDLE:
        for place, gauge in enumerate(gauges):
            if gauge.sensor.name.endswith(end):
                return place
    return None
