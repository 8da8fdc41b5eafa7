"""The signals that end a program in order, and having them handled for a while."""

import signal
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from types import FrameType


def ending_signals() -> list[signal.Signals]:
    """Return the signals that end a program: an interrupt, told to end, its terminal is gone.

    One that is ignored stays so: ``nohup`` has it for a terminal that goes, a shell's script for the interrupt of what
    it starts in the background.
    """
    ending = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
    return [number for number in ending if signal.getsignal(number) is not signal.SIG_IGN]


@contextmanager
def handled(handler: Callable[[int, FrameType | None], None], numbers: Iterable[signal.Signals]) -> Iterator[None]:
    """Have signals handled within, and do afterwards what they did before."""
    before = {number: signal.getsignal(number) for number in numbers}
    try:
        for number in before:
            signal.signal(number, handler)
        yield
    finally:
        for number, earlier in before.items():
            signal.signal(number, earlier)
