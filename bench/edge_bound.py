"""The least that any search for the edge could give away on average, if it freezes no more often than steps by hand.

What is kept lies eleven slopes from the edge, so what is not known of the slope has to be kept away from. Only errors
tell of it, and each carries the risk of a freeze. The search looked at here is better off than any: it is told where
the edge lies, its tests cost no time to begin, and its errors come where each tells most. The information that errors
give adds to the prior's (Fisher's, for the logarithm of the slope: an expected error u slopes from the edge gives u²).
To share errors out unevenly over chips costs more than it brings, since what is given away is convex in them.
"""

from math import log

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import brentq

from upright_bolt.analysis.edge_choice import EIGHT_HOURS_S
from upright_bolt.twin.chip import tern
from upright_bolt.twin.individuals import SLOPE_SPREAD, individual
from upright_bolt.twin.rails import BEND, EDGE_S

CHIPS = 4000
SHORTEST_S = 1.0
"""No test on a real machine ends sooner after its first error."""
FLATTER = 1.4
MOST_SLOPES = 80.0


def least_given_away(freezes: float, minutes: float, accepted: float) -> tuple[float, float]:
    """Return the mV given away on average, and the standard deviation left of the logarithm of the slope.

    Args:
        freezes: that a search may have on average.
        minutes: that it may take.
        accepted: part of eight-hour loads that may fail on average, also where the tail is flatter.
    """
    chips = [individual(tern(), number).chip for number in range(CHIPS)]
    slopes = np.array([chip.slope_mv for chip in chips])
    errors = freezes / float(np.mean(np.exp(-np.array([chip.freeze_beyond_mv for chip in chips]) / slopes)))
    apart = max(log(EDGE_S / SHORTEST_S), log(60.0 * minutes / EDGE_S / errors))
    left = (SLOPE_SPREAD**-2 + errors * apart**2) ** -0.5
    return _given_away(left, float(np.mean(slopes)), accepted), left


def _given_away(left: float, slope_mv: float, accepted: float) -> float:
    """Return what is given away where the slope is known but for a standard deviation of its logarithm."""
    bells = np.linspace(-5.0, 5.0, 4001)
    weights = np.exp(-0.5 * bells**2) / np.exp(-0.5 * bells**2).sum()
    slopes = np.exp(left * bells - 0.5 * left**2)  # of mean 1

    def too_many(slopes_from_edge: float) -> float:
        return float(weights @ _failing(slopes_from_edge / slopes, FLATTER)) - accepted

    kept = brentq(too_many, 1.0, MOST_SLOPES)
    ideal = brentq(lambda u: float(_failing(np.array([u]), 1.0)[0]) - accepted, 1.0, MOST_SLOPES)
    return slope_mv * float(kept - ideal)


def _failing(slopes_from_edge: NDArray[np.float64], flatter: float) -> NDArray[np.float64]:
    """Return what part of eight-hour loads fail so many slopes from the edge, with a tail so much flatter."""
    logs = -log(EDGE_S) - slopes_from_edge
    logs = np.where(logs < BEND, BEND + (logs - BEND) / flatter, logs)
    return -np.expm1(-EIGHT_HOURS_S * np.exp(logs))
