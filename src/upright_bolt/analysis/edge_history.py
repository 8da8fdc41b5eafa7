"""What searches and runs of a machine tell of an axis: the same chip and firmware alone."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from upright_bolt.analysis.chip import chip_of_run
from upright_bolt.analysis.edge_belief import Observed
from upright_bolt.analysis.evidence import FULL_PART, PROVING, offsets_of
from upright_bolt.model.control import Value
from upright_bolt.model.run import RunRecord, RunRole, RunState
from upright_bolt.model.search import Outcome, Search

LATE_S = 10.0
"""What a run had measured may be so much older than the freeze that ended it."""


@dataclass(frozen=True, slots=True)
class Seen:
    """What a checked load at offsets showed.

    Attributes:
        depths: how far below stock each offset was, in mV, by control; those at stock are left out.
        load_s: seconds of full load.
        errors, froze: what went wrong.
        lost: whether the freeze took its moment with it; ``load_s`` is how long the load would have lasted then.
    """

    depths: dict[str, float]
    load_s: float
    errors: int = 0
    froze: bool = False
    lost: bool = False


def seen_in(search: Search) -> list[Seen]:
    """Return what the rungs of a search have shown; what was refused, or cut off at once, shows nothing."""
    found = []
    for rung, end in search.ended:
        froze = end.outcome is Outcome.FROZE
        lost = froze and not end.full_load_s
        load_s = rung.load_s * FULL_PART["edge"] if lost else end.full_load_s
        if rung.settings and load_s:
            found.append(Seen(_depths(rung.settings), load_s, len(end.errors), froze, lost))
    return found


def known(runs: Iterable[RunRecord], searches: Iterable[Search], machine: str, chip: str, without: int) -> list[Seen]:
    """Return what was seen on a chip by searches, and by runs that were not theirs.

    Args:
        runs: all runs that are kept.
        searches: all searches of the machine.
        machine: the machine's word.
        chip: as ``chip_of`` names it.
        without: the number of a search to leave out.
    """
    found = [
        one
        for search in searches
        if search.asked.id != without and search.asked.chip == chip
        for one in seen_in(search)
    ]
    for run in runs:
        head = run.head
        part = FULL_PART.get(head.workload)
        if part is None or head.machine != machine or head.role is RunRole.RUNG or head.conditions.core_kind:
            continue
        froze = run.end.state is RunState.RESTARTED
        if chip_of_run(run) != chip or not (froze or run.errors or run.end.state in PROVING):
            continue
        depths = _depths(head.settings)
        lost = froze and not run.errors
        lasted_s = (run.end.duration_s + (LATE_S if lost else 0.0)) * part
        if depths and lasted_s > 0.0:
            found.append(Seen(depths, lasted_s, len(run.errors), froze, lost))
    return found


def on_axis(seen: Iterable[Seen], controls: Sequence[str]) -> list[Observed]:
    """Return what was seen of an axis.

    Where its controls differed, what passed proves the shallowest of them; what failed tells nothing. Where another
    offset lay as deep, what failed may have been the other; where it lay deeper, it is taken to have been.
    """
    found = []
    for one in seen:
        depths = [one.depths.get(name, 0.0) for name in controls]
        position = min(depths)
        passed = not one.errors and not one.froze
        beside = max((depth for name, depth in one.depths.items() if name not in controls), default=0.0)
        if not position or (not passed and (position != max(depths) or beside > position)):
            continue
        shared = beside >= position
        found.append(Observed(position, one.load_s, one.errors, one.froze, shared=shared, lost=one.lost))
    return found


def _depths(settings: Mapping[str, Value]) -> dict[str, float]:
    return {name: -value for name, value in offsets_of(settings).items()}
