"""Evidence: what past runs proved, and what broke, at the values that settings had."""

from collections.abc import Iterable
from dataclasses import dataclass

from upright_bolt.model.run import RunRecord, RunState


@dataclass(frozen=True, slots=True)
class Evidence:
    """What happened at one value of one control.

    Attributes:
        value: in the control's unit.
        passed_s: seconds under load of runs that ended well there.
        broke: runs there with wrong results or dead workers.
    """

    value: float
    passed_s: float
    broke: int


def evidence(runs: Iterable[RunRecord], machine: str) -> dict[str, tuple[Evidence, ...]]:
    """Return by control name what runs on ``machine`` showed, values rising."""
    gathered: dict[str, dict[float, Evidence]] = {}
    for run in runs:
        if run.head.machine != machine or run.end.state is RunState.RUNNING:
            continue
        broke = bool(run.errors)
        for name, value in run.head.settings.items():
            if isinstance(value, str):
                continue
            place = gathered.setdefault(name, {})
            before = place.get(value, Evidence(value, 0.0, 0))
            passed = 0.0 if broke else run.end.duration_s
            place[value] = Evidence(value, before.passed_s + passed, before.broke + broke)
    return {name: tuple(place[value] for value in sorted(place)) for name, place in gathered.items()}
