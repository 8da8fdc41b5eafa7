"""Voltage offsets and memory clocks that have failed on a chip: nothing at or beyond them is put in force unasked."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from upright_bolt.analysis.chip import chip_of_run
from upright_bolt.analysis.evidence import offsets_of
from upright_bolt.model.catalogue import danger_of
from upright_bolt.model.control import Value
from upright_bolt.model.run import RunRecord, RunState
from upright_bolt.model.search import FAILED, Outcome, Search


@dataclass(frozen=True, slots=True)
class Broken:
    """Values that failed together.

    Attributes:
        values: by control, in its unit.
        froze: whether the machine froze; otherwise results were wrong or workers died.
        run_id: the run in which it happened; None for a freeze whose run was lost.
    """

    values: dict[str, float]
    froze: bool
    run_id: int | None


def broken(runs: Iterable[RunRecord], searches: Iterable[Search], machine: str, chip: str) -> list[Broken]:
    """Return what has failed on this chip: in runs, and in rungs that took their run with them."""
    found = []
    for run in runs:
        froze = run.end.state is RunState.RESTARTED
        if run.head.machine != machine or chip_of_run(run) != chip or not (run.errors or froze):
            continue
        if values := _risks(run.head.settings, run.head.tried):
            found.append(Broken(values, froze and not run.errors, run.id))
    for search in searches:
        for rung, end in search.ended if search.asked.chip == chip else ():
            if end.outcome in FAILED and (values := _risks(rung.settings, search.asked.axis.moved(rung.settings))):
                found.append(Broken(values, end.outcome is Outcome.FROZE, end.run_id))
    return found


def _risks(settings: Mapping[str, Value], moved: Mapping[str, Value]) -> dict[str, float]:
    """Return what of settings can have made work fail: voltages below stock, and clocks that were moved above it."""
    above = {name: value for name, value in moved.items() if not isinstance(value, str) and danger_of(name) > 0.0}
    return offsets_of(settings) | above


def over(known: Sequence[Broken], settings: Mapping[str, Value], in_force: Mapping[str, Value]) -> Broken | None:
    """Return what has failed at or before ``settings``, put in force beside ``in_force``; None if nothing has.

    What failed together counts only where all of it is asked for, or further: one offset of several may be innocent.
    """
    after = {**in_force, **settings}
    for one in known:
        if settings.keys() & one.values.keys() and all(
            isinstance(value := after.get(name), float | int) and danger_of(name) * (value - failed) >= 0.0
            for name, failed in one.values.items()
        ):
            return one
    return None
