"""The least that any search for the edge could give away on average, if it freezes no more often than steps by hand.

What is kept lies eleven slopes from the edge, so what is not known of the slope has to be kept away from. Only errors
tell of it, and each carries the risk of a freeze. The search looked at here is better off than any: it is told where
the edge lies, its tests cost no time to begin, and its errors come where each tells most. The information that errors
give adds to the prior's (Fisher's, for the logarithm of the slope: an expected error u slopes from the edge gives u²).
To share errors out unevenly over chips costs more than it brings, since what is given away is convex in them.
"""

from math import log, log1p

import numpy as np
from scipy.optimize import brentq

from upright_bolt.analysis.stability.belief import EDGE_S, bent
from upright_bolt.analysis.stability.test_choice import EIGHT_HOURS_S
from upright_bolt.simulator.chip import tern
from upright_bolt.simulator.samples import SLOPE_SPREAD, individual

CHIPS = 4000
SHORTEST_S = 1.0
"""No test on a real machine ends sooner after its first error."""
MOST_SLOPES = 80.0


def least_given_away(freezes: float, minutes: float, accepted: float, flatter: float) -> tuple[float, float]:
    """Return the mV given away on average, and the standard deviation left of the logarithm of the slope.

    Args:
        freezes: that a search may have on average.
        minutes: that it may take.
        accepted: part of eight-hour loads that may fail on average.
        flatter: by which factor the tail may be flatter, where as few may fail.
    """
    chips = [individual(tern(), number).chip for number in range(CHIPS)]
    slopes = np.array([chip.slope_mv for chip in chips])
    errors = freezes / float(np.mean(np.exp(-np.array([chip.freeze_beyond_mv for chip in chips]) / slopes)))
    apart = max(log(EDGE_S / SHORTEST_S), log(60.0 * minutes / EDGE_S / errors))
    left = (SLOPE_SPREAD**-2 + errors * apart**2) ** -0.5
    return float(np.mean(slopes)) * _slopes_given_away(left, accepted, flatter), left


def _slopes_given_away(left: float, accepted: float, flatter: float) -> float:
    """Return how many slopes are given away where the slope is known but for a standard deviation of its logarithm."""
    bells = np.linspace(-5.0, 5.0, 4001)
    weights = np.exp(-0.5 * bells**2) / np.exp(-0.5 * bells**2).sum()
    slopes = np.exp(left * bells - 0.5 * left**2)  # of mean 1

    def too_many(from_edge: float) -> float:
        rates = np.exp(bent(-log(EDGE_S) - from_edge / slopes, flatter))
        return float(weights @ -np.expm1(-EIGHT_HOURS_S * rates)) - accepted

    ideal = log(EIGHT_HOURS_S / EDGE_S / -log1p(-accepted))
    return float(brentq(too_many, 1.0, MOST_SLOPES)) - ideal
