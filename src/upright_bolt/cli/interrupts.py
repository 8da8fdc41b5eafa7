"""Signals that end a command in order, and never in the middle of loading a module.

Python turns an interrupt into an exception wherever it happens to be. While a module is loaded that may be in a place
where the exception is swallowed or becomes another one, so such an interrupt waits until the module is there.
"""

import signal
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from types import FrameType

AGAIN_S = 0.002
"""How soon an interrupt that waits looks again whether the module is there."""
IMPORT_SYSTEM = "<frozen importlib._bootstrap>"


def ending_signals() -> list[signal.Signals]:
    """Return the signals that end a command: an interrupt, told to end, its terminal is gone.

    One of the last two that is ignored stays so, as nohup has it.
    """
    others = (signal.SIGTERM, signal.SIGHUP)
    return [signal.SIGINT, *(number for number in others if signal.getsignal(number) is not signal.SIG_IGN)]


@contextmanager
def ending_in_order() -> Iterator[None]:
    """Have signals raise KeyboardInterrupt within, and do afterwards what they did before.

    Raises:
        KeyboardInterrupt: one of the signals came.
    """
    with handled(interrupt, [signal.SIGALRM, *ending_signals()]):
        try:
            yield
        finally:
            signal.setitimer(signal.ITIMER_REAL, 0.0)


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


def interrupt(_number: int, frame: FrameType | None) -> None:
    """Raise KeyboardInterrupt, now or as soon as no module is being loaded. To be a signal's handler."""
    while frame is not None:
        if frame.f_code.co_filename == IMPORT_SYSTEM:
            signal.setitimer(signal.ITIMER_REAL, AGAIN_S)
            return
        frame = frame.f_back
    raise KeyboardInterrupt
