"""Evidence: what past runs proved, and what broke, at the values that settings had."""

from collections.abc import Iterable
from dataclasses import dataclass

from upright_bolt.model.catalogue import find_declaration
from upright_bolt.model.quantity import OFFSET
from upright_bolt.model.run import RunRecord, RunState

PROVING = (RunState.FINISHED, RunState.STOPPED)
"""Runs that ended by themselves, or because a person ended them: up to there all went well."""


@dataclass(frozen=True, slots=True)
class Evidence:
    """What happened at one value of one control.

    Attributes:
        value: in the control's unit.
        passed_s: seconds under load of runs that ended well there.
        broke: runs there with wrong results or dead workers, or that ended with the machine.
    """

    value: float
    passed_s: float
    broke: int


def evidence(runs: Iterable[RunRecord], machine: str) -> dict[str, tuple[Evidence, ...]]:
    """Return by control name what runs on ``machine`` showed, values rising.

    A run that failed for another reason, or was cut off when its program ended, shows nothing and is left out. What
    broke with voltages changed is put down to them alone: it shows nothing of the other settings.
    """
    gathered: dict[str, dict[float, Evidence]] = {}
    for run in runs:
        broke = bool(run.errors) or run.end.state is RunState.RESTARTED
        if run.head.machine != machine or not (broke or run.end.state in PROVING):
            continue
        passed = 0.0 if broke else run.end.duration_s
        settings = {name: value for name, value in run.head.settings.items() if not isinstance(value, str)}
        offsets = {name: value for name, value in settings.items() if value and is_offset(name)}
        for name, value in (offsets if broke and offsets else settings).items():
            at_values = gathered.setdefault(name, {})
            before = at_values.get(value, Evidence(value, 0.0, 0))
            at_values[value] = Evidence(value, before.passed_s + passed, before.broke + broke)
    return {name: tuple(found[value] for value in sorted(found)) for name, found in gathered.items()}


def is_offset(name: str) -> bool:
    """Tell whether a control sets a voltage offset; a run from elsewhere may name controls that are unknown here."""
    declared = find_declaration(name)
    return declared is not None and declared.quantity is OFFSET
