"""The clock port: seconds that only go forward, and waiting."""

import time
from typing import Protocol


class Clock(Protocol):
    """A machine's own time."""

    def now_s(self) -> float:
        """Return seconds since some fixed moment."""
        ...

    def wait_until(self, time_s: float) -> None:
        """Return when the clock shows at least ``time_s``."""
        ...


class RealClock:
    """This computer's monotonic clock, the one that worker processes stamp their blocks with."""

    def now_s(self) -> float:
        """Return the monotonic time in s."""
        return time.monotonic()

    def wait_until(self, time_s: float) -> None:
        """Sleep until then."""
        ahead = time_s - time.monotonic()
        if ahead > 0:
            time.sleep(ahead)
