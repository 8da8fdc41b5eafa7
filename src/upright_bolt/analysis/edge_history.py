"""What earlier searches and runs of a machine tell of an axis: the same chip, firmware and controls alone."""

from collections.abc import Iterable

from upright_bolt.analysis.edge_belief import Observed
from upright_bolt.analysis.edge_plan import tested_in
from upright_bolt.analysis.evidence import PROVING
from upright_bolt.model.machine import Identity
from upright_bolt.model.run import RunRecord, RunRole, RunState
from upright_bolt.model.search import Asked, Search

FULL_PART = {"steady": 1.0, "proof": 0.53, "edge": 0.8}
"""Part of a run of checked work on all processors that is full load."""


def chip_of(identity: Identity) -> str:
    """Return what a result is bound to: the processor and its microcode, as the machine names them."""
    return f"{identity.processor}, microcode {identity.microcode}" if identity.microcode else identity.processor


def chip_of_run(run: RunRecord) -> str:
    """Return the chip of a run, as ``chip_of`` names it."""
    processor, microcode = (str(run.head.identity.get(key) or "") for key in ("processor", "microcode"))
    return f"{processor}, microcode {microcode}" if microcode else processor


def known(runs: Iterable[RunRecord], searches: Iterable[Search], machine: str, asked: Asked) -> list[Observed]:
    """Return what was seen of a search's axis on its chip, by other searches and by runs that were not theirs.

    Args:
        runs: all runs that are kept.
        searches: all searches of the machine; the one itself is left out.
        machine: the machine's word.
        asked: what was asked of the search.
    """
    chip, controls = asked.chip, asked.controls
    found = [
        one
        for search in searches
        if search.asked.id != asked.id and search.asked.chip == chip and set(search.asked.controls) == set(controls)
        for one in tested_in(search)
    ]
    for run in runs:
        head = run.head
        part = FULL_PART.get(head.workload)
        if part is None or head.machine != machine or head.role is RunRole.RUNG or head.conditions.core_kind:
            continue
        if chip_of_run(run) != chip:
            continue
        values = {head.settings.get(name) for name in controls}
        value = values.pop() if len(values) == 1 else None
        froze = run.end.state is RunState.RESTARTED
        if isinstance(value, str) or not value or value >= 0.0 or not (froze or run.errors or run.end.state in PROVING):
            continue
        if run.end.duration_s > 0.0:
            found.append(Observed(-float(value), run.end.duration_s * part, len(run.errors), froze))
    return found
