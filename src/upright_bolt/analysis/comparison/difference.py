"""Whether two results differ, and by how much: estimates with their errors, and intervals of 95 %.

Ratios (scores, watts, clocks) are compared as differences of logarithms, so that they are the same from either side;
temperatures and counts as plain differences in their own unit.

Three ways to know the error of a mean. *Repeats*: the standard error over runs (Student's t), pooled over both sides
where both have as many runs, else after Welch and Satterthwaite. *One run with slices*: the scatter of its slices
around their own straight line over time, and in quadrature the spread from run to run of its machine, which no single
run tells of itself (``run_spread``). n slices with lag-one autocorrelation r count as n·(1−r)/(1+r), r taken
as r + 1.28·√((1−r²)/n): the upper end of what so few slices leave open (Fisher's large-sample error of a correlation
coefficient, one-sided 90 %). *One run without slices*: the spread from run to run alone.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from math import exp, hypot, log, sqrt

import numpy as np
from scipy.special import stdtrit

LEAST_SLICES = 6
LEVEL = 0.05
MOST_CORRELATION = 0.95
LEAST_COUNTED = 1.5
HIGHER, LOWER, UNDECIDED = "higher", "lower", "undecided"


class Doubt(StrEnum):
    """Why a difference is not to be believed, whatever its interval."""

    NONE = ""
    STARTS = "unlike starts"
    CONDITIONS = "unlike conditions"
    LENGTHS = "unlike lengths"


@dataclass(frozen=True, slots=True)
class Spread:
    """How far runs of one setting lie apart: a standard deviation, and on how many degrees of freedom it rests.

    Relative to the mean for ratios, in the number's own unit for the others.
    """

    deviation: float
    degrees_of_freedom: float


@dataclass(frozen=True, slots=True)
class Estimate:
    """A mean and its standard error, relative for a ratio (``ratio``), with its degrees of freedom.

    ``repeats`` is from how many runs the error comes; 1 where it is not told by repeats.
    """

    mean: float
    error: float
    degrees_of_freedom: float
    repeats: int = 1
    ratio: bool = True


@dataclass(frozen=True, slots=True)
class Difference:
    """A difference against the baseline with its interval, and in a word what the runs can show.

    Attributes:
        change: in % for a ratio, else in the number's own unit.
        low, high: the interval; None where the runs do not tell their error.
        verdict: higher, lower or undecided.
        doubt: why it is undecided although the interval may say otherwise.
        level: the chance of a false verdict that the interval stands for.
    """

    change: float
    low: float | None = None
    high: float | None = None
    verdict: str = UNDECIDED
    doubt: Doubt = Doubt.NONE
    level: float = LEVEL


def from_repeats(values: Sequence[float], *, ratio: bool = True) -> Estimate | None:
    """Return the estimate from one value per run; None for fewer than two runs, or a ratio not above zero."""
    if len(values) < 2 or (ratio and min(values) <= 0):
        return None
    # Ratios are compared by their logarithms: +10 % and −9.1 % are the same step.
    known = np.log(values) if ratio else np.asarray(values, dtype=float)
    middle = float(known.mean())
    error = float(known.std(ddof=1)) / sqrt(len(values))
    return Estimate(exp(middle) if ratio else middle, error, len(values) - 1.0, len(values), ratio)


def from_one(value: float, spread: Spread | None, slices: Sequence[float], part: float = 1.0, *,
             ratio: bool = True) -> Estimate | None:  # fmt: skip
    """Return the estimate for one run; None if nothing tells its error.

    Args:
        value: the run's own number, whose error is wanted.
        spread: from run to run on this machine; None if not known.
        slices: of equal length after the burst, in their order; may be empty.
        part: of the slices that the number is the mean of, 0 to 1.
        ratio: whether errors are relative.
    """
    if spread is None or (ratio and value <= 0):
        return None
    between, between_freedom = spread.deviation, spread.degrees_of_freedom
    if len(slices) < LEAST_SLICES:
        return Estimate(value, between, between_freedom, ratio=ratio)
    scatter, autocorrelation = scatter_of(slices)
    # Slices that follow each other are alike, so they count for fewer than they are (see the head of this file).
    counted = max(LEAST_COUNTED, part * len(slices) * (1.0 - autocorrelation) / (1.0 + autocorrelation))
    within = scatter / sqrt(counted) / (value if ratio else 1.0)
    error = hypot(within, between)
    if error == 0.0:
        return Estimate(value, 0.0, between_freedom, ratio=ratio)
    # Welch and Satterthwaite: the parts of the error have degrees of freedom of their own.
    parts = within**4 / (counted - 1.0) + between**4 / between_freedom
    return Estimate(value, error, error**4 / parts, ratio=ratio)


def scatter_of(values: Sequence[float]) -> tuple[float, float]:
    """Return the standard deviation around the straight line over time, and a cautious lag-1 autocorrelation."""
    n = len(values)
    x = np.arange(n) - (n - 1) / 2.0
    y = np.asarray(values, dtype=float)
    rest = y - y.mean() - x * float(x @ y) / float(x @ x)
    whole = float(rest @ rest)
    if whole <= 0.0:
        return 0.0, 0.0
    raw = float(rest[1:] @ rest[:-1]) / whole
    lifted = raw + 1.28 * sqrt(max(0.0, 1.0 - raw * raw) / n)
    return sqrt(whole / (n - 2)), min(MOST_CORRELATION, max(0.0, lifted))


def difference(of: Estimate, against: Estimate, level: float = LEVEL) -> Difference:
    """Return the difference of two estimates of one kind, with its interval at ``1 − level``."""
    ratio = of.ratio
    step = log(of.mean / against.mean) if ratio else of.mean - against.mean
    error = hypot(of.error, against.error)
    half_width = 0.0
    if error > 0.0:
        half_width = float(stdtrit(_degrees_of_freedom(of, against, error), 1.0 - level / 2.0)) * error
    change, low, high = (_shown(value, ratio=ratio) for value in (step, step - half_width, step + half_width))
    return Difference(change, low, high, _verdict(low, high), level=level)


def _degrees_of_freedom(of: Estimate, against: Estimate, error: float) -> float:
    if of.repeats == against.repeats > 1:
        return of.degrees_of_freedom + against.degrees_of_freedom  # pooled
    parts = of.error**4 / of.degrees_of_freedom + against.error**4 / against.degrees_of_freedom
    return error**4 / parts


def _shown(step: float, *, ratio: bool) -> float:
    return 100.0 * (exp(step) - 1.0) if ratio else step


def _verdict(low: float, high: float) -> str:
    if low > 0.0:
        return HIGHER
    return LOWER if high < 0.0 else UNDECIDED
