"""What a search does next: another test, the soak, or its end, from all that is known of the chip.

Two ways of choosing share everything else: the one that weighs what a test tells against its cost, and plain steps of
one size for people who want to drive.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from upright_bolt.analysis.stability.belief import EdgeBelief, EdgePrior, Estimate, Observed
from upright_bolt.analysis.stability.test_choice import (
    BOLDNESS,
    EIGHT_HOURS_S,
    AxisScale,
    NextTest,
    failed_position,
    furthest_kept,
    next_test,
    proven_position,
)
from upright_bolt.model.axis import Axis
from upright_bolt.model.quantity import OFFSET
from upright_bolt.model.search import Asked

VOLTAGE = EdgePrior(edge=100.0, edge_sd=28.0, slope=3.5, slope_log_sd=0.26, gap=18.0, gap_sd=9.0)
"""What is expected of a voltage offset of the processor, in mV below stock."""
CHIP_VOLTAGE = EdgePrior(edge=140.0, edge_sd=40.0, slope=4.0, slope_log_sd=0.26, gap=28.0, gap_sd=10.0)
"""The same of a graphics chip, whose driver resets it before the machine freezes: wide, since chips differ much."""
CLOCK_OFFSET = EdgePrior(edge=250.0, edge_sd=85.0, slope=8.0, slope_log_sd=0.35, gap=50.0, gap_sd=18.0)
"""Of a graphics chip's clock offset, in MHz above stock: at a locked clock its voltage falls instead, by some half mV
with each, so this is what is expected of its voltage in other words. Wider, since curves differ as well."""
MEMORY_OFFSET = EdgePrior(edge=900.0, edge_sd=320.0, slope=20.0, slope_log_sd=0.35, gap=250.0, gap_sd=90.0)
"""Of a memory clock offset, in MHz as its driver counts them."""
MEMORY_PARTS = EdgePrior(edge=0.13, edge_sd=0.05, slope=0.004, slope_log_sd=0.3, gap=0.06, gap_sd=0.02)
"""Of a graphics chip's memory clock, in parts of its stock clock above it."""
PLAIN_S = 60.0
"""Length of a test in plain steps."""
TURNED_PART = 0.01
"""A score that falls by more than this part of the best one, at two positions beyond it, has turned."""


def prior_of(axis: Axis) -> EdgePrior:
    """Return what is expected of an axis before anything was tested, in its unit."""
    if axis.quantity is OFFSET:
        return CHIP_VOLTAGE if axis.part else VOLTAGE
    if not axis.stock:
        return MEMORY_OFFSET if axis.controls[0].endswith("memory-offset") else CLOCK_OFFSET
    of, stock = MEMORY_PARTS, axis.stock
    return EdgePrior(
        of.edge * stock, of.edge_sd * stock, of.slope * stock, of.slope_log_sd, of.gap * stock, of.gap_sd * stock
    )


@dataclass(frozen=True, slots=True)
class Gain:
    """What a position brought: its score at full load."""

    position: float
    score: float


@dataclass(frozen=True, slots=True)
class Outlook:
    """What is known at a moment.

    Attributes:
        edge, slope: estimates in the axis's unit.
        final: the position that would be kept now; 0 for stock.
        predicted: how likely an eight-hour load there fails.
        proven: the furthest position that passed before all that failed.
        failed: the first position that failed; None if none did.
        spread: standard deviation of the position sought.
    """

    edge: Estimate
    slope: Estimate
    final: float
    predicted: Estimate
    proven: float
    failed: float | None
    spread: float


def outlook(scale: AxisScale, tested: Sequence[Observed], accepted: float) -> Outlook:
    """Return what is known after ``tested``."""
    belief = EdgeBelief(scale.prior, tested)
    final = furthest_kept(belief, scale, tested, accepted)
    failed = failed_position(tested)
    ideal = belief.ideal - belief.mean(belief.ideal)
    return Outlook(
        belief.estimate(belief.edge),
        belief.estimate(belief.slope),
        final,
        belief.predicted(final, EIGHT_HOURS_S),
        proven_position(tested),
        failed if failed < float("inf") else None,
        belief.mean(ideal**2) ** 0.5,
    )


def next_of(scale: AxisScale, asked: Asked, tested: Sequence[Observed], gains: Sequence[Gain]) -> NextTest | None:
    """Return the next test; None when the search has found what it can."""
    if turned_at(gains) is not None or not worth_more(scale, asked, tested, gains):
        return None
    if asked.plain_step:
        return _plain(scale, asked.plain_step, tested)
    bold = BOLDNESS[asked.bold.value]
    # The least gain is meant in mV; another axis has its own unit, and slopes tell how the two compare.
    bold = replace(bold, least_gain=bold.least_gain * scale.prior.slope / VOLTAGE.slope)
    if asked.reach:
        bold = replace(bold, reach=asked.reach / scale.prior.slope)
    return next_test(scale, bold, tested)


def _plain(scale: AxisScale, step: float, tested: Sequence[Observed]) -> NextTest | None:
    """Return the next of steps of one size, until one fails or the axis ends."""
    position = proven_position(tested) + step
    if failed_position(tested) <= position or position > scale.furthest + 1e-9:
        return None
    belief = EdgeBelief(scale.prior, tested)
    fails, freezes = (belief.mean(-np.expm1(-np.exp(rate) * PLAIN_S)) for rate in belief.log_rates(position))
    return NextTest(position, PLAIN_S, 1, fails, freezes, 0.0, 0.0, PLAIN_S / 60.0)


def worth_more(scale: AxisScale, asked: Asked, tested: Sequence[Observed], gains: Sequence[Gain]) -> bool:
    """Tell whether going on to where the value sought lies at the furthest could bring what a person asks for.

    What it could bring is the mean gain per unit so far, over the way from what may be kept now to there.
    """
    per_unit = gain_per_unit(gains)
    if not asked.least_gain or per_unit is None:
        return True
    belief = EdgeBelief(scale.prior, tested)
    left = min(scale.furthest, belief.estimate(belief.ideal).high) - furthest_kept(belief, scale, tested, asked.fails)
    return left * per_unit >= asked.least_gain


def gain_per_unit(gains: Sequence[Gain]) -> float | None:
    """Return the part of the score at stock that a unit of the axis has brought on average; None if not known yet.

    A straight line through the first position's score: the rungs' mean, weighted by how far they lie from it.
    """
    by_position = sorted(gains, key=lambda gain: gain.position)
    if len(by_position) < 3 or by_position[0].score <= 0.0:
        return None
    # Through the first point, which is measured best: the baseline lasts longest.
    first, *others = by_position
    ways = [(gain.position - first.position, gain.score / first.score - 1.0) for gain in others]
    weight = sum(way**2 for way, _ in ways)
    return sum(way * gained for way, gained in ways) / weight if weight else None


def turned_at(gains: Sequence[Gain]) -> float | None:
    """Return the position beyond which more of the same brings less, though nothing errs; None if there is none yet."""
    by_position = sorted(gains, key=lambda gain: gain.position)
    best = max(by_position, key=lambda gain: gain.score, default=None)
    if best is None:
        return None
    beyond = [gain for gain in by_position if gain.position > best.position]
    low = [gain for gain in beyond if gain.score < best.score * (1.0 - TURNED_PART)]
    return best.position if len(low) >= 2 and low == beyond[-len(low) :] else None
