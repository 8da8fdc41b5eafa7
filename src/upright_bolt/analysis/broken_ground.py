"""Voltage offsets that have failed on a chip: nothing at or beyond them is put in force unasked."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from upright_bolt.analysis.chip import chip_of_run
from upright_bolt.analysis.evidence import offsets_of
from upright_bolt.model.control import Value
from upright_bolt.model.run import RunRecord, RunState
from upright_bolt.model.search import FAILED, Outcome, Search


@dataclass(frozen=True, slots=True)
class Broken:
    """Offsets that failed together, in mV by control.

    Attributes:
        offsets: the offsets.
        froze: whether the machine froze; otherwise results were wrong or workers died.
        run_id: the run in which it happened; None for a freeze whose run was lost.
    """

    offsets: dict[str, float]
    froze: bool
    run_id: int | None


def broken(runs: Iterable[RunRecord], searches: Iterable[Search], machine: str, chip: str) -> list[Broken]:
    """Return what has failed on this chip: in runs, and in rungs that took their run with them."""
    found = []
    for run in runs:
        froze = run.end.state is RunState.RESTARTED
        if run.head.machine != machine or chip_of_run(run) != chip or not (run.errors or froze):
            continue
        if offsets := offsets_of(run.head.settings):
            found.append(Broken(offsets, froze and not run.errors, run.id))
    for search in searches:
        for rung, end in search.ended if search.asked.chip == chip else ():
            if end.outcome in FAILED and (offsets := offsets_of(rung.settings)):
                found.append(Broken(offsets, end.outcome is Outcome.FROZE, end.run_id))
    return found


def over(known: Sequence[Broken], settings: Mapping[str, Value], in_force: Mapping[str, Value]) -> Broken | None:
    """Return what has failed at or before ``settings``, put in force beside ``in_force``; None if nothing has.

    What failed together counts only where all of it is asked for, or further: one offset of several may be innocent.
    """
    after = {**in_force, **settings}
    for one in known:
        if settings.keys() & one.offsets.keys() and all(
            isinstance(value := after.get(name), float | int) and value <= failed
            for name, failed in one.offsets.items()
        ):
            return one
    return None
