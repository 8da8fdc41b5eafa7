"""Which position along an axis to test next, for how long, and when enough is known.

The test chosen is the one that is expected to lower the uncertainty of the *ideal* position (where 1 % of eight-hour
loads fail) most per expected cost: minutes, and what a freeze costs a person. Nothing is tested whose freeze is
likelier than a bound, nor further beyond what was proven than another one.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from math import ceil, floor, inf

import numpy as np

from upright_bolt.analysis.stability.belief import Array, EdgeBelief, EdgePrior, Observed, quantiles

DURATIONS_S = (20.0, 60.0, 180.0, 420.0)
OVERHEAD_S = 12.0
"""What a test takes beside its load: setting, coming to an equal start, putting back."""
BINS = (0.0, 0.005, 0.03, 0.12, 0.4, 1.0)
"""Parts of a test's time in which its last error is told apart."""
LIGHTEST_CELL = 3e-4
"""Cells of less than so much of the heaviest one's weight are left out of the look ahead."""
KEPT_BELOW = 0.86
"""What is kept is predicted to fail in so much of the share that a person accepts."""
SURELY_PASSES, SURELY_FAILS = 5.0, 3.5
"""Slopes before the edge from which even the longest test tells nothing, and beyond it."""
WIDEST_LADDER = 16
BEYOND_FAILED = 2.0
"""So many slopes beyond a position that failed may still be tested."""
EIGHT_HOURS_S = 8 * 3600.0


@dataclass(frozen=True, slots=True)
class Boldness:
    """How much a search dares.

    Attributes:
        stop_errors: a test ends at so many wrong results.
        freeze_cost_s: what a freeze costs, in seconds of a person's time.
        freeze_cap: nothing is tested that freezes with a likelihood above this.
        least_gain: the search ends when a minute is expected to bring less, in mV of the processor's axes.
        reach: nothing is tested further beyond what was proven, in steps of the prior's slope.
    """

    stop_errors: int
    freeze_cost_s: float
    freeze_cap: float
    least_gain: float
    reach: float = 12.0


BOLDNESS = {
    "careful": Boldness(1, 150_000.0, 0.004, 0.04),
    "quick": Boldness(1, 60_000.0, 0.006, 0.30),
    "thorough": Boldness(1, 150_000.0, 0.003, 0.02),
}


@dataclass(frozen=True, slots=True)
class AxisScale:
    """The positions of an axis that can be set: from 0 (stock) to ``furthest``, in ``step``s, and what is expected."""

    step: float
    furthest: float
    prior: EdgePrior

    def positions(self, least: float, most: float) -> list[float]:
        """Return the positions from ``least`` to ``most`` that can be set, thinned where they are many."""
        first = max(1, ceil(least / self.step - 1e-9))
        last = floor(min(most, self.furthest) / self.step + 1e-9)
        thin = max(1, ceil((last - first + 1) / WIDEST_LADDER))
        return [number * self.step for number in range(last, first - 1, -thin)][::-1]


@dataclass(frozen=True, slots=True)
class NextTest:
    """A test that was chosen, and why.

    Attributes:
        position, load_s: where, and for how long at most.
        stop_errors: it ends at so many wrong results.
        fails, freezes: how likely it is to show an error, and to freeze.
        spread, spread_after: standard deviation of the ideal position now, and expected after it.
        minutes: how long it is expected to take.
    """

    position: float
    load_s: float
    stop_errors: int
    fails: float
    freezes: float
    spread: float
    spread_after: float
    minutes: float


def next_test(scale: AxisScale, bold: Boldness, tested: Sequence[Observed]) -> NextTest | None:
    """Return the test that tells most for its cost; None when none is worth its time any more.

    Where only one further away than the bound allows is worth it, the way there is made in steps of the bound.
    """
    cells = _Cells(EdgeBelief(scale.prior, tested))
    # In slopes: over one of them errors grow e-fold, so reach bounds by which factor a test may be worse than what
    # passed.
    allowed = proven_position(tested) + bold.reach * scale.prior.slope
    most = failed_position(tested) + BEYOND_FAILED * scale.prior.slope
    best = _best(cells, scale, bold, min(allowed, most))
    if best is not None or allowed >= most:
        return best
    # The belief may be so sure of a far edge that nothing near tells anything; then the way there goes in short tests.
    further = _best(cells, scale, bold, most)
    nearest = scale.positions(scale.step, allowed)
    if further is None or not nearest or nearest[-1] <= proven_position(tested):
        return None
    step = cells.look_ahead(nearest[-1], DURATIONS_S[0], bold)
    return step if step.freezes <= bold.freeze_cap else None


def _best(cells: "_Cells", scale: AxisScale, bold: Boldness, furthest: float) -> NextTest | None:
    best: NextTest | None = None
    best_gain = bold.least_gain
    for position in scale.positions(*cells.telling(furthest)):
        for load_s in DURATIONS_S:
            test = cells.look_ahead(position, load_s, bold)
            # Longer tests at the same place freeze more often still.
            if test.freezes > bold.freeze_cap:
                break
            cost = test.minutes + test.freezes * bold.freeze_cost_s / 60.0
            # Certainty for time: what a minute tells. A freeze costs a restart and whatever a person has not saved.
            gain = (test.spread - test.spread_after) / cost
            if gain > best_gain:
                best, best_gain = test, gain
    return best


def proven_position(tested: Iterable[Observed]) -> float:
    """Return the furthest position that passed and lies before all that failed; 0 (stock) if there is none."""
    tests = list(tested)
    failed = failed_position(tests)
    return max((one.position for one in tests if one.passed and one.position < failed), default=0.0)


def failed_position(tested: Iterable[Observed]) -> float:
    """Return the first position on the way to danger that failed by itself; infinite if none did."""
    return min((one.position for one in tested if not one.passed and not one.shared), default=inf)


def final_position(scale: AxisScale, tested: Sequence[Observed], accepted: float) -> float:
    """Return the furthest position that may be kept.

    It is predicted to fail in at most ``accepted`` of eight-hour loads, and lies two steps or more before the first
    position that failed.
    """
    return furthest_kept(EdgeBelief(scale.prior, tested), scale, tested, accepted)


def furthest_kept(belief: EdgeBelief, scale: AxisScale, tested: Sequence[Observed], accepted: float) -> float:
    """Return ``final_position`` from a posterior that is there already; what fails grows all along the axis."""
    # What failed did so within minutes, and eight hours fail sooner: two steps are the least room between them.
    most = min(proven_position(tested), failed_position(tested) - 2.0 * scale.step)
    # How often it fails only grows with the position, so halving finds the furthest that is kept.
    low, high = 0, max(0, floor(most / scale.step + 1e-9))
    while low < high:
        number = (low + high + 1) // 2
        fails = belief.mean(belief.failing(number * scale.step, EIGHT_HOURS_S))
        low, high = (number, high) if fails <= KEPT_BELOW * accepted else (low, number - 1)
    return low * scale.step


class _Cells:
    """The cells of a belief that weigh enough to matter for a look ahead."""

    def __init__(self, belief: EdgeBelief) -> None:
        # Most of the grid carries next to no weight after a few tests, and every choice is tried on every cell.
        kept = belief.weight > LIGHTEST_CELL * belief.weight.max()
        self._belief = belief
        self._kept = kept
        self._weight = belief.weight[kept] / belief.weight[kept].sum()
        self._ideal = belief.ideal[kept]
        # Centred, so that spreads below are differences of small numbers and lose no digits.
        self._ideal -= self._weight @ self._ideal
        self._spread = float(np.sqrt(self._weight @ self._ideal**2))

    def telling(self, most: float) -> tuple[float, float]:
        """Return between which positions, up to ``most``, the longest test neither surely passes nor surely fails."""
        edge, slope = self._belief.edge[self._kept], self._belief.slope[self._kept]
        low, high = quantiles(edge, self._weight, (0.02, 0.98))
        mean = float(self._weight @ slope)
        return low - SURELY_PASSES * mean, min(most, high + SURELY_FAILS * mean)

    def look_ahead(self, position: float, load_s: float, bold: Boldness) -> NextTest:
        """Return what a test would be expected to show."""
        log_error, log_freeze = self._belief.log_rates(position)
        error, freeze = np.exp(log_error[self._kept]), np.exp(log_freeze[self._kept])
        passes = np.exp(-(error + freeze) * load_s)
        chances, froze = _endings(error, freeze, load_s, bold.stop_errors)
        weighted = chances * self._weight
        likely = weighted.sum(axis=1)
        kept = likely > 1e-9
        means = (weighted[kept] @ self._ideal) / likely[kept]
        # Rounding can make a variance a little negative.
        spreads = np.sqrt(np.maximum((weighted[kept] @ self._ideal**2) / likely[kept] - means**2, 0.0))
        # About how fast a test ends: the mean time until the last allowed error, or a freeze.
        ending = error / bold.stop_errors + freeze
        lasts_s = float(self._weight @ np.where(ending * load_s > 1e-6, -np.expm1(-ending * load_s) / ending, load_s))
        return NextTest(
            position,
            load_s,
            bold.stop_errors,
            1.0 - float(self._weight @ passes),
            float(self._weight @ froze),
            self._spread,
            float(likely[kept] @ spreads / likely.sum()),
            (lasts_s + OVERHEAD_S) / 60.0,
        )


def _endings(error: Array, freeze: Array, load_s: float, stop_errors: int) -> tuple[Array, Array]:
    """Return how likely each ending of a test is in every cell, and a freeze in all.

    Errors and freezes are one Poisson process whose events are of either kind by their rates. Endings are: so many
    errors until its time was over, the last allowed error in a part of its time, a freeze after so many errors.
    """
    both = error + freeze
    erring = error / both
    lasting = _counts(error * load_s, stop_errors)[0] * np.exp(-freeze * load_s)
    ends = np.array(BINS)[:, None] * load_s
    stopped = np.diff(_counts(both * ends, stop_errors)[1][-1], axis=0) * erring**stop_errors
    reached = _counts(both * load_s, stop_errors)[1]
    powers = erring ** np.arange(stop_errors)[:, None]
    froze = powers * (1.0 - erring) * reached
    return np.vstack([lasting, stopped, froze]), froze.sum(axis=0)


def _counts(expected: Array, most: int) -> tuple[Array, Array]:
    """Return how likely a Poisson count is 0, 1, … ``most`` − 1, and how likely it is 1, 2, … ``most`` at least."""
    exactly, at_least = [np.exp(-expected)], [-np.expm1(-expected)]
    # By recurrence: factorials of large counts would overflow.
    for count in range(1, most):
        exactly.append(exactly[-1] * expected / count)
        at_least.append(np.maximum(at_least[-1] - exactly[-1], 0.0))
    return np.array(exactly), np.array(at_least)
