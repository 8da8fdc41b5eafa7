"""The first steps on a machine: what can be set, a rested baseline, a first change, the comparison."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from upright_bolt.model.control import Control
from upright_bolt.model.run import RunRecord, RunRole
from upright_bolt.model.start import Start
from upright_bolt.model.trial import Status

LOOK, BASELINE, CHANGE, COMPARE = range(4)
STEPS = (
    ("See what can be set here", "Open the Machine view"),
    ("Measure a rested baseline", "Measure now: 10 min, rested"),
    ("Draft one change, and try it", "Go to the settings"),
    ("Run again, and compare", "Measure again"),
)
"""What is to be done in each step, and the words on the button that leads there."""


@dataclass(frozen=True, slots=True)
class Progress:
    """Which steps are done; ``next`` is the first that is not, None when all are."""

    done: tuple[bool, ...]

    @property
    def next(self) -> int | None:
        """The step to be taken now."""
        return next((step for step, done in enumerate(self.done) if not done), None)


def progress(
    runs: Sequence[RunRecord], controls: Mapping[str, Control], status: Status, machine: str, *, looked: bool
) -> Progress | None:
    """Return how far a person has come on a machine; None where there is nothing to lead through.

    Args:
        runs: all runs.
        controls: as they stand.
        status: the trial, and what is kept.
        machine: the machine's spec.
        looked: whether the Machine view has been opened.
    """
    if not any(control.settable for control in controls.values()):
        return None
    mine = [run for run in runs if run.head.machine == machine and run.usable and run.head.role is not RunRole.RUNG]
    baseline = any(run.head.conditions.start != Start.AT_ONCE for run in mine)
    changed = status.trial is not None or bool(status.kept)
    compared = any(run.head.settings != mine[0].head.settings for run in mine)
    return Progress((looked or bool(mine), baseline, changed or compared, compared))
