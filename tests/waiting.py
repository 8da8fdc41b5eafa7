"""Waiting in tests: for a condition, with a deadline that grows with what else this computer has to do."""

import os
import time
from collections.abc import Callable

HANGS_S = 120.0
"""On a quiet computer nothing that a test waits for takes a tenth of this: only what hangs reaches it."""


def slowness() -> float:
    """Return how much slower things may be than on a quiet computer: 1, and runnable processes per processor."""
    return 1.0 + os.getloadavg()[0] / (os.cpu_count() or 1)


def within(seconds: float) -> float:
    """Return a span that stands for ``seconds`` on a quiet computer."""
    return seconds * slowness()


def until(
    condition: Callable[[], object],
    seconds: float = HANGS_S,
    *,
    what: str = "the condition",
    pause: Callable[[], object] = lambda: time.sleep(0.02),
) -> None:
    """Return once ``condition`` holds; fail after ``seconds``, longer on a busy computer."""
    begun = time.monotonic()
    while not condition():
        assert time.monotonic() - begun < within(seconds), f"waited in vain for {what}"
        pause()
