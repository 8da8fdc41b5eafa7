"""Whether two results differ, and by how much: estimates with their errors, and intervals of 95 %.

Two ways to know the error of a mean. *Repeats*: the standard error over runs (Student's t). *One run each*: the
scatter of its slices around their own straight line over time, with lag-1 autocorrelation taken into account:
n slices with lag-one correlation r count as n·(1−r)/(1+r), r lifted by (1+3r)/n against its known bias in short series
(Kendall 1954). One run says nothing of how runs differ among themselves, so ``RUN_TO_RUN`` is added in quadrature.
Degrees of freedom after Welch and
Satterthwaite. A difference is that of logarithms, so that it is the same from either
side.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from math import exp, log

import numpy as np
from scipy.special import stdtrit

RUN_TO_RUN = 0.004
"""Relative spread between runs of one setting under good conditions; what a single run cannot tell of itself."""
RUN_TO_RUN_DEGREES = 30.0
LEAST_SLICES = 6
SURE = 0.975
HIGHER, LOWER, UNDECIDED = "higher", "lower", "undecided"


@dataclass(frozen=True, slots=True)
class Estimate:
    """A mean, its relative standard error with degrees of degrees_of_freedom, and from how many values it comes."""

    mean: float
    error: float
    degrees_of_freedom: float
    count: int


@dataclass(frozen=True, slots=True)
class Difference:
    """A difference against the baseline in %, its interval, and in a word what the runs can show.

    ``low`` and ``high`` are None where the runs do not tell their error; then the verdict is "undecided".
    """

    percent: float
    low: float | None = None
    high: float | None = None
    verdict: str = UNDECIDED


def from_repeats(values: Sequence[float]) -> Estimate | None:
    """Return the estimate from one value per run; None for fewer than two runs, or a mean that is not above zero."""
    if len(values) < 2:
        return None
    mean = float(np.mean(values))
    if mean <= 0:
        return None
    error = float(np.std(values, ddof=1)) / np.sqrt(len(values)) / mean
    return Estimate(mean, float(error), len(values) - 1.0, len(values))


def from_slices(values: Sequence[float], mean: float) -> Estimate | None:
    """Return the estimate for one run from its slices; None if there are too few or the mean is not above zero.

    Args:
        values: slices of equal length after the burst, in their order.
        mean: the run's own number, whose error is wanted.
    """
    n = len(values)
    if n < LEAST_SLICES or mean <= 0:
        return None
    scatter, autocorrelation = scatter_of(values)
    counted = max(2.0, n * (1.0 - autocorrelation) / (1.0 + autocorrelation))
    within = scatter / mean / np.sqrt(counted)
    error = float(np.hypot(within, RUN_TO_RUN))
    parts = within**4 / (counted - 1.0) + RUN_TO_RUN**4 / RUN_TO_RUN_DEGREES
    return Estimate(mean, error, float(error**4 / parts), 1)


def scatter_of(values: Sequence[float]) -> tuple[float, float]:
    """Return the standard deviation around the straight line over time, and the lag-1 autocorrelation (0 to 0.9)."""
    n = len(values)
    x = np.arange(n) - (n - 1) / 2.0
    y = np.asarray(values, dtype=float)
    rest = y - y.mean() - x * float(x @ y) / float(x @ x)
    whole = float(rest @ rest)
    if whole <= 0.0:
        return 0.0, 0.0
    raw = float(rest[1:] @ rest[:-1]) / whole
    return float(np.sqrt(whole / (n - 2))), float(np.clip(raw + (1.0 + 3.0 * raw) / n, 0.0, 0.9))


def difference(of: Estimate, against: Estimate) -> Difference:
    """Return the difference of two estimates with its interval of 95 %."""
    step = log(of.mean / against.mean)
    error = float(np.hypot(of.error, against.error))
    if error == 0.0:
        percent = 100.0 * (exp(step) - 1.0)
        return Difference(percent, percent, percent, _verdict(percent, percent))
    degrees_of_freedom = error**4 / (
        of.error**4 / of.degrees_of_freedom + against.error**4 / against.degrees_of_freedom
    )
    half_width = float(stdtrit(degrees_of_freedom, SURE)) * error
    low, high = (100.0 * (exp(step + way * half_width) - 1.0) for way in (-1.0, 1.0))
    return Difference(100.0 * (exp(step) - 1.0), low, high, _verdict(low, high))


def _verdict(low: float, high: float) -> str:
    if low > 0.0:
        return HIGHER
    return LOWER if high < 0.0 else UNDECIDED
