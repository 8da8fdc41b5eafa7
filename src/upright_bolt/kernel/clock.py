"""The clock port: seconds that only go forward, and waiting."""

import threading
import time
from dataclasses import dataclass
from typing import Protocol

LEAST_SLEEP_S = 0.02
"""However short a sleep is, registers are the firmware's afterwards. The two clocks differ by nothing but sleep."""
MOST_READS = 10
LEAST_SETTING_S = 2.0
"""Clocks are corrected by fractions of a second all the time; that does not count as setting the clock."""


@dataclass(frozen=True, slots=True)
class ClockJump:
    """Time that the monotonic clock does not show.

    Attributes:
        slept: the machine was suspended; otherwise its date and time were set.
        seconds: for how long, or by how much (below zero: back).
    """

    slept: bool
    seconds: float


class Clock(Protocol):
    """A machine's own time."""

    def now_s(self) -> float:
        """Return seconds since some fixed moment."""
        ...

    def wait_until(self, time_s: float, woken: threading.Event | None = None) -> None:
        """Return when the clock shows at least ``time_s``, or earlier once ``woken`` is set."""
        ...

    def jumps(self) -> tuple[ClockJump, ...]:
        """Return what has happened to time since the last call."""
        ...

    def asleep_s(self) -> float:
        """Return for how long the machine has been suspended in this boot, all together."""
        ...


class RealClock:
    """This computer's monotonic clock, the one that worker processes stamp their blocks with."""

    def __init__(self) -> None:
        self._offsets = _offsets()

    def now_s(self) -> float:
        """Return the monotonic time in s."""
        return time.monotonic()

    def wait_until(self, time_s: float, woken: threading.Event | None = None) -> None:
        """Sleep until then, or until ``woken`` is set."""
        sleep_real(time_s - time.monotonic(), woken)

    def jumps(self) -> tuple[ClockJump, ...]:
        """Compare the monotonic clock with the one since boot, which counts sleep, and with date and time.

        Waking up moves date and time against the monotonic clock by as much: that does not count as setting the clock.
        """
        slept, date = (now - before for now, before in zip(_offsets(), self._offsets, strict=True))
        found = []
        if slept > LEAST_SLEEP_S:
            found.append(ClockJump(slept=True, seconds=slept))
        if abs(date - slept) > LEAST_SETTING_S:
            found.append(ClockJump(slept=False, seconds=date - slept))
        if found:
            self._offsets = _offsets()
        return tuple(found)

    def asleep_s(self) -> float:
        """Return by how much the clock since boot, which counts sleep, is ahead of the monotonic clock."""
        return _offsets()[0]


def sleep_real(seconds: float, woken: threading.Event | None = None) -> None:
    """Sleep, or return earlier once ``woken`` is set; at once for 0 or less."""
    if seconds <= 0.0:
        return
    if woken is None:
        time.sleep(seconds)
    else:
        woken.wait(seconds)


def _offsets() -> tuple[float, float]:
    """Return by how many seconds the clock since boot, and date and time, are ahead of the monotonic clock.

    The clocks are read one after another, so they are read again if something came in between.
    """
    for _ in range(MOST_READS):
        now = time.clock_gettime(time.CLOCK_MONOTONIC)
        boot, date = time.clock_gettime(time.CLOCK_BOOTTIME), time.clock_gettime(time.CLOCK_REALTIME)
        # A busy machine may stop this process between two clocks, which would look like sleep.
        if time.clock_gettime(time.CLOCK_MONOTONIC) - now < LEAST_SLEEP_S / 4.0:
            break
    return boot - now, date - now
