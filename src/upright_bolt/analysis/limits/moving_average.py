"""The moving average by which a power limiter decides: exponential, over the window of its limit."""

from math import exp

USUAL_WINDOW_S = 28.0
"""Averaging time of limiters that do not tell theirs."""


def averaged(before_w: float, watts: float, seconds: float, window_s: float) -> float:
    """Return the average after ``watts`` were drawn for ``seconds``.

    An exponential average of time constant ``window_s``, as in the kernel's Documentation/power/powercap on constraints
    with a time window.
    """
    kept = exp(-max(0.0, seconds) / window_s)
    return before_w * kept + watts * (1.0 - kept)
