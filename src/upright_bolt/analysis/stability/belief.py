"""What is known of the edge of a setting's safe range: a grid posterior over where it lies and how steep it is.

Positions are counted along an *axis*, in its unit, growing towards danger: for a voltage offset the millivolts below
stock. At a position p a machine under the checked load gives wrong results at the rate

    errors:  exp((p − edge) / slope) / EDGE_S        per second
    freezes: the same with the edge moved on by ``gap``

so the edge is where it errs once in ``EDGE_S``. The likelihood of k errors in t seconds is k·ln λ − λt, and of a freeze
the same with its own rate (a Poisson process observed until it is stopped). Of a freeze whose moment is lost only
that it came within t is known: 1 − exp(−λt).

Far from the edge nobody can measure in an afternoon. What is predicted there rests on the *tail rule*: below one error
in ``TAIL_S`` the slope is taken to be flatter, by a factor of 1.25 ± 0.2.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from math import log

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

EDGE_S = 40.0
"""At its edge a machine under the checked load errs once in so many seconds."""
TAIL_S = 2000.0
TAIL_FLATTER = ((1.0, 0.15), (1.1, 0.15), (1.2, 0.2), (1.3, 0.2), (1.4, 0.15), (1.5, 0.1), (1.6, 0.05))
"""How much flatter the slope may be in the tail, and how likely: near 1.25 ± 0.2."""
HIGHEST_LOG_RATE = 6.0
"""Rates are bounded: so far beyond the edge everything fails at once."""
EDGE_POINTS, SLOPE_POINTS, GAP_POINTS = 113, 9, 8
SPREAD = 3.5
"""How many standard deviations of the prior the grid reaches to either side."""
DEPTH = log(8 * 3600.0 / 0.01 / EDGE_S)
"""Slopes between the edge and where 1 % of eight-hour loads fail: 11.2."""


@dataclass(frozen=True, slots=True)
class EdgePrior:
    """What is expected of an axis before anything was tested, in its unit.

    Attributes:
        edge, edge_sd: where the edge lies (normal).
        slope, slope_log_sd: over which way errors grow by a factor of e (log-normal).
        gap, gap_sd: how far beyond the edge freezes are as frequent (normal, above zero).
    """

    edge: float
    edge_sd: float
    slope: float
    slope_log_sd: float
    gap: float
    gap_sd: float


@dataclass(frozen=True, slots=True)
class Observed:
    """What a checked load at one position showed.

    Attributes:
        position: along the axis, towards danger.
        load_s: seconds of checked load, up to the moment at which it was stopped.
        errors: wrong results and dead workers in that time.
        froze: whether it ended with the machine.
        lost: whether the freeze took its moment with it: it came within ``load_s``, and errors before it may be lost.
        shared: whether another part moved along as far, so that what failed may have been the other.
    """

    position: float
    load_s: float
    errors: int = 0
    froze: bool = False
    shared: bool = False
    lost: bool = False

    @property
    def passed(self) -> bool:
        """Whether nothing went wrong."""
        return not self.errors and not self.froze


@dataclass(frozen=True, slots=True)
class Estimate:
    """A number with the bounds between which it lies in 95 of 100 cases."""

    value: float
    low: float
    high: float


class EdgeBelief:
    """A posterior over edge, slope and gap.

    Args:
        prior: what was expected before.
        tested: all that was seen on this chip.

    Attributes:
        edge, slope, gap: the grid, one entry per cell.
        weight: of each cell; they sum to 1.
    """

    def __init__(self, prior: EdgePrior, tested: Iterable[Observed] = ()) -> None:
        edges = np.linspace(-SPREAD, SPREAD, EDGE_POINTS) * prior.edge_sd + prior.edge
        # Over the logarithm, since slopes spread by factors; the range leaves out 1.6 % of what the prior expects.
        logs = np.linspace(-2.4, 2.4, SLOPE_POINTS) * prior.slope_log_sd + log(prior.slope)
        gaps = np.linspace(-2.0, 2.2, GAP_POINTS) * prior.gap_sd + prior.gap
        # A machine that froze before it erred would have no edge to find: negative gaps are left out.
        grid = np.meshgrid(edges, logs, gaps[gaps > 0.0], indexing="ij")
        self.edge, log_slope, self.gap = (part.ravel() for part in grid)
        self.slope = np.exp(log_slope)
        score = -0.5 * (
            ((self.edge - prior.edge) / prior.edge_sd) ** 2
            + ((log_slope - log(prior.slope)) / prior.slope_log_sd) ** 2
            + ((self.gap - prior.gap) / prior.gap_sd) ** 2
        )
        known = list(tested)
        own = [one for one in known if not one.shared]
        # All shared ones at once: it is one part or the other that is weaker, not a new draw for each test.
        weight = self._weighed(score, [one for one in known if one.shared])
        for one in own:
            weight = weight + self._log_likelihood(one)
        # Likelihoods of a long search are too small for a float; only their ratios count.
        weight = np.exp(weight - weight.max())
        self.weight: Array = weight / weight.sum()

    def _weighed(self, score: Array, shared: Sequence[Observed]) -> Array:
        """Return logarithms of weights after what was seen while another part moved along.

        With equal odds this part is the weaker one, and all of it is its own, or the other is, and only what passed
        tells of this one.
        """
        passes = sum((self._log_likelihood(one) for one in shared if one.passed), start=score)
        if all(one.passed for one in shared):
            return passes
        own = sum((self._log_likelihood(one) for one in shared if not one.passed), start=passes)
        # Each of the two stories is scaled to itself first: the odds between them are even, however unlikely either
        # made what was seen.
        return np.logaddexp(_scaled(own), _scaled(passes))

    def _log_likelihood(self, one: Observed) -> Array:
        log_error, log_freeze = self.log_rates(one.position)
        if one.lost:
            # What is known is that it froze within that time, and not when; errors before it were lost with it.
            within: Array = np.log(-np.expm1(-np.exp(log_freeze) * one.load_s))
            return within
        found: Array = one.errors * log_error - (np.exp(log_error) + np.exp(log_freeze)) * one.load_s
        # The moment of a freeze is known here, so its density counts, beside having survived until then.
        return found + log_freeze if one.froze else found

    def log_rates(self, position: float) -> tuple[Array, Array]:
        """Return the logarithms of the rates of errors and of freezes at a position, per second, in every cell."""
        return log_rates_of(position, self.edge, self.slope, self.gap)

    def mean(self, of: Array) -> float:
        """Return the mean of a number given for every cell."""
        return float(self.weight @ of)

    def estimate(self, of: Array) -> Estimate:
        """Return the median of a number given for every cell, and the bounds of the middle 95 %."""
        low, middle, high = quantiles(of, self.weight, (0.025, 0.5, 0.975))
        return Estimate(middle, low, high)

    @property
    def ideal(self) -> Array:
        """Where 1 % of eight-hour loads fail by the slope alone, in every cell."""
        return self.edge - DEPTH * self.slope

    def failing(self, position: float, load_s: float) -> Array:
        """Return how likely a load of ``load_s`` seconds at a position fails, in every cell, by the tail rule."""
        log_error, log_freeze = self.log_rates(position)
        failing = np.zeros_like(log_error)
        for flatter, share in TAIL_FLATTER:
            rate = np.exp(bent(log_error, flatter)) + np.exp(bent(log_freeze, flatter))
            failing += share * -np.expm1(-rate * load_s)
        return failing

    def predicted(self, position: float, load_s: float) -> Estimate:
        """Return how likely a load at a position fails: the mean over all cells, and its bounds."""
        failing = self.failing(position, load_s)
        found = self.estimate(failing)
        return Estimate(self.mean(failing), found.low, found.high)


def log_rates_of(position: float, edge: Array, slope: Array, gap: Array) -> tuple[Array, Array]:
    """Return the logarithms of the rates of errors and of freezes at a position, per second, of chips."""
    beyond = (position - edge) / slope
    top = HIGHEST_LOG_RATE
    # Bounded: far beyond the edge every test fails at once, and larger rates would only overflow.
    error = np.minimum(beyond, top) - log(EDGE_S)
    freeze = np.minimum(beyond - gap / slope, top) - log(EDGE_S)
    return error, freeze


def _scaled(score: Array) -> Array:
    """Return logarithms of weights that sum to 1."""
    top = score.max()
    scaled: Array = score - top - np.log(np.exp(score - top).sum())
    return scaled


def bent(log_rate: Array, flatter: float) -> Array:
    """Return logarithms of rates per second where the slope is so much flatter below one error in ``TAIL_S``."""
    bend = -log(TAIL_S)
    return np.where(log_rate < bend, bend + (log_rate - bend) / flatter, log_rate)


def quantiles(of: Array, weight: Array, shares: Sequence[float]) -> list[float]:
    """Return below what so large shares of the weight lie."""
    order = np.argsort(of)
    reached = np.cumsum(weight[order])
    return [float(of[order[min(int(np.searchsorted(reached, share)), len(of) - 1)]]) for share in shares]
