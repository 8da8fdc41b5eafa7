"""Signals that end a command in order, and never in the middle of loading a module.

Python turns an interrupt into an exception wherever it happens to be. While a module is loaded that may be in a place
where the exception is swallowed or becomes another one, so such an interrupt waits until the module is there.
"""

import signal
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

from upright_bolt.signal_handling import ending_signals, handled

AGAIN_S = 0.002
"""How soon an interrupt that waits looks again whether the module is there."""
IMPORT_SYSTEM = "<frozen importlib._bootstrap>"


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


def interrupt(_number: int, frame: FrameType | None) -> None:
    """Raise KeyboardInterrupt, now or as soon as no module is being loaded. To be a signal's handler."""
    while frame is not None:
        if frame.f_code.co_filename == IMPORT_SYSTEM:
            signal.setitimer(signal.ITIMER_REAL, AGAIN_S)
            return
        frame = frame.f_back
    raise KeyboardInterrupt
