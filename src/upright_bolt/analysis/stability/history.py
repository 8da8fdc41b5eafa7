"""What searches and runs of a machine tell of an axis: the same chip and firmware alone."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from upright_bolt.analysis.chip import board_of_run, boards_differ, chip_of_run
from upright_bolt.analysis.stability.belief import Observed
from upright_bolt.analysis.validation.evidence import PROVING, offsets_of
from upright_bolt.model.axis import Axis
from upright_bolt.model.catalogue import part_of
from upright_bolt.model.control import Value
from upright_bolt.model.run import GRAPHICS, RunHead, RunRecord, RunRole, RunState
from upright_bolt.model.search import Asked, Outcome, Search
from upright_bolt.model.work import FULL_WORTH
from upright_bolt.model.workloads import Mode, workload

LATE_S = 10.0
"""What a run had measured may be so much older than the freeze that ended it."""


@dataclass(frozen=True, slots=True)
class Seen:
    """What a checked load at offsets showed.

    Attributes:
        depths: how far from stock towards danger each control was, in its unit; those at stock are left out.
        load_s: seconds of full load.
        errors, froze: what went wrong.
        lost: whether the freeze took its moment with it; ``load_s`` is how long the load would have lasted then.
    """

    depths: dict[str, float]
    load_s: float
    errors: int = 0
    froze: bool = False
    lost: bool = False

    @property
    def passed(self) -> bool:
        """Whether nothing went wrong."""
        return not self.errors and not self.froze


def seen_in(search: Search) -> list[Seen]:
    """Return what the rungs of a search have shown; what was refused, or cut off at once, shows nothing."""
    found = []
    for rung, end in search.ended:
        froze = end.outcome is Outcome.FROZE
        lost = froze and not end.full_load_s
        load_s = rung.load_s * _full_worth(rung.load) if lost else end.full_load_s
        depths = _away(search.asked.axis.positions(rung.settings))
        if depths and load_s:
            found.append(Seen(depths, load_s, len(end.errors), froze, lost))
    return found


def known(runs: Iterable[RunRecord], searches: Iterable[Search], machine: str, asked: Asked) -> list[Seen]:
    """Return what was seen on a chip before a search of it, by others and by runs that were not theirs.

    What passed under another firmware, or on a graphics chip with other clocks than those held, proves nothing; what
    failed counts.

    Args:
        runs: all runs that are kept.
        searches: all searches of the machine.
        machine: the machine's spec.
        asked: the search.
    """
    found = [
        one
        for search in searches
        if search.asked.id != asked.id and search.asked.chip == asked.chip and _alike(search.asked, asked)
        for one in seen_in(search)
        if not one.passed
        or not (boards_differ(search.asked.board, asked.board) or search.asked.machine not in ("", machine))
    ]
    for run in runs:
        head = run.head
        part = _full_part(head, asked.axis)
        if not part or head.machine != machine or head.role is RunRole.RUNG or head.conditions.core_kind:
            continue
        if asked.axis.part and head.identity.get(GRAPHICS, asked.graphics) != asked.graphics:
            continue
        froze = run.end.state is RunState.RESTARTED
        broke = froze or bool(run.errors)
        if chip_of_run(run) != asked.chip or not (broke or run.end.state in PROVING):
            continue
        depths = _depths(head.settings, asked.axis)
        elsewhere = asked.axis.part and not _held(head.settings, asked.held)
        if not broke and (elsewhere or boards_differ(board_of_run(run), asked.board)):
            continue
        lost = froze and not run.errors
        # The last telemetry before a freeze is up to a flush old.
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
        beside = max((depth for name, depth in one.depths.items() if name not in controls), default=0.0)
        # What failed where another control lay deeper was most likely the other's failure.
        if not position or (not one.passed and (position != max(depths) or beside > position)):
            continue
        shared = beside >= position
        found.append(Observed(position, one.load_s, one.errors, one.froze, shared=shared, lost=one.lost))
    return found


def _alike(other: Asked, asked: Asked) -> bool:
    """Tell whether another search moved what this one moves, with the same held."""
    mine, theirs = asked.axis, other.axis
    same = (mine.part, mine.quantity, mine.stock) == (theirs.part, theirs.quantity, theirs.stock)
    return same and (asked.held, asked.graphics) == (other.held, other.graphics)


def _full_worth(load: str) -> float:
    """Return what a second of a test's load is worth in full load: a workload's, a GPU scene's, or own use's."""
    return FULL_WORTH[load] if load in FULL_WORTH else workload(load).full_part


def _full_part(head: RunHead, axis: Axis) -> float:
    """Return which part of a run is full load of the chip that an axis is of; 0 if it was none, or not checked."""
    if not axis.part:
        return workload(head.workload).full_part
    here = workload(head.workload).mode is Mode.GPU and head.options.chip == axis.part
    return FULL_WORTH[head.options.weight] if here else 0.0


def _held(settings: Mapping[str, Value], held: Mapping[str, Value]) -> bool:
    return bool(held) and all(settings.get(name) == value for name, value in held.items())


def _depths(settings: Mapping[str, Value], axis: Axis) -> dict[str, float]:
    """Return how far a run was from stock, by control: of the axis, and of other offsets beside it."""
    beside = {} if axis.part else {name: -mv for name, mv in offsets_of(settings).items() if not part_of(name)}
    return beside | _away(axis.positions(settings))


def _away(positions: Mapping[str, float]) -> dict[str, float]:
    return {name: position for name, position in positions.items() if position > 0.0}
