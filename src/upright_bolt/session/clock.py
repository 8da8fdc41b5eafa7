"""The clock port: seconds that only go forward, and waiting."""

import time
from dataclasses import dataclass
from typing import Protocol

LEAST_SLEEP_S = 1.0
LEAST_SETTING_S = 2.0
"""Clocks are corrected by fractions of a second all the time; that is no setting."""


@dataclass(frozen=True, slots=True)
class Slip:
    """Time that a clock of going forward knows nothing of.

    Attributes:
        slept: the machine was suspended; otherwise the clock on the wall was set.
        seconds: for how long, or by how much (below zero: back).
    """

    slept: bool
    seconds: float

    def show(self) -> str:
        """Return it as a sentence."""
        if self.slept:
            return f"The machine was suspended for {self.seconds:.0f} s"
        way = "forward" if self.seconds > 0 else "back"
        return f"The computer's clock was set {way} by {abs(self.seconds):.0f} s; times within a run do not go by it"


class Clock(Protocol):
    """A machine's own time."""

    def now_s(self) -> float:
        """Return seconds since some fixed moment."""
        ...

    def wait_until(self, time_s: float) -> None:
        """Return when the clock shows at least ``time_s``."""
        ...

    def slips(self) -> tuple[Slip, ...]:
        """Return what has happened to time since the last call."""
        ...


class RealClock:
    """This computer's monotonic clock, the one that worker processes stamp their blocks with."""

    def __init__(self) -> None:
        self._offsets = _offsets()

    def now_s(self) -> float:
        """Return the monotonic time in s."""
        return time.monotonic()

    def wait_until(self, time_s: float) -> None:
        """Sleep until then."""
        ahead = time_s - time.monotonic()
        if ahead > 0:
            time.sleep(ahead)

    def slips(self) -> tuple[Slip, ...]:
        """Compare the monotonic clock with that of time since boot, which counts sleep, and with the one on the wall.

        Waking up moves the wall's clock against the monotonic one by as much: that is no setting of the clock.
        """
        slept, wall = (now - before for now, before in zip(_offsets(), self._offsets, strict=True))
        found = []
        if slept > LEAST_SLEEP_S:
            found.append(Slip(slept=True, seconds=slept))
        if abs(wall - slept) > LEAST_SETTING_S:
            found.append(Slip(slept=False, seconds=wall - slept))
        if found:
            self._offsets = _offsets()
        return tuple(found)


def _offsets() -> tuple[float, float]:
    """Return by how much the clock since boot, and the one on the wall, are ahead of the monotonic one."""
    now = time.clock_gettime(time.CLOCK_MONOTONIC)
    return time.clock_gettime(time.CLOCK_BOOTTIME) - now, time.clock_gettime(time.CLOCK_REALTIME) - now
