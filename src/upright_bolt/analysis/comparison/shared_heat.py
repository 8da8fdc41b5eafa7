"""Who gets the heat: what a graphics chip gains as the processor is held lower, against what the processor loses."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from statistics import fmean

from upright_bolt.analysis.numbers import value_of
from upright_bolt.model.run import RunRecord

LEAST_GAIN = 0.5
"""A gain of fewer percent is none: runs differ by as much by themselves."""


@dataclass(frozen=True, slots=True)
class Exchange:
    """The step of a ladder that gave the graphics chip most for what it took from the processor.

    Attributes:
        control: that was changed.
        above, below: its values on the two rungs.
        gained: frames, in % of those on the upper rung.
        lost: of the processor's score, in %.
    """

    control: str
    above: float
    below: float
    gained: float
    lost: float


def best_exchange(runs: Sequence[RunRecord]) -> Exchange | None:
    """Return the best step between neighbouring rungs of one ladder of ``both``; None if none gave anything.

    Args:
        runs: of the ladder, all of the same work.
    """
    control = _ladder_of(runs)
    rungs = sorted(((value, *_scores(runs, control, value)) for value in _values(runs, control)), reverse=True)
    steps = []
    for (above, frames, score), (below, more, less) in pairwise(rungs):
        gained, lost = 100.0 * (more / frames - 1.0), 100.0 * (1.0 - less / score)
        if gained >= LEAST_GAIN and lost > 0.0:
            steps.append(Exchange(control, above, below, gained, lost))
    return max(steps, key=lambda step: step.gained / step.lost, default=None)


def _ladder_of(runs: Sequence[RunRecord]) -> str:
    """Return the control whose numbers differ most among what was tried; empty if there is none."""
    names = dict.fromkeys(name for run in runs for name in run.head.tried)
    counted = [(len(_values(runs, name)), name) for name in names]
    return max(counted, key=lambda entry: entry[0], default=(0, ""))[1]


def _values(runs: Sequence[RunRecord], control: str) -> set[float]:
    found = (run.head.tried.get(control) for run in runs if _counts(run))
    return {value for value in found if isinstance(value, float)}


def _counts(run: RunRecord) -> bool:
    return not run.errors and bool(value_of(run, "processor_score")) and bool(run.end.score)


def _scores(runs: Sequence[RunRecord], control: str, value: float) -> tuple[float, float]:
    """Return mean frames, settled where that is known, and mean score of the processor at one value."""
    own = [run for run in runs if _counts(run) and run.head.tried.get(control) == value]
    frames = fmean(value_of(run, "score_settled") or run.end.score or 0.0 for run in own)
    return frames, fmean(value_of(run, "processor_score") or 0.0 for run in own)
