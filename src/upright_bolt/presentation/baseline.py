"""Which run others are compared with unless a person chooses another one."""

from collections.abc import Mapping, Sequence

from upright_bolt.analysis.comparison.run_spread import counts
from upright_bolt.analysis.validation.proofs import no_part
from upright_bolt.model.control import Control
from upright_bolt.model.run import RunRecord


def newest_at_stock(
    runs: Sequence[RunRecord], machine: str, workload: str, controls: Mapping[str, Control], last: int | None
) -> int | None:
    """Return the newest run of a workload at stock settings; None if there is none.

    Args:
        runs: newest first.
        machine: its word.
        workload: of the runs looked for.
        controls: the machine's, as they stand.
        last: the run that was made last: compared with itself it would tell nothing, so it is taken only if there is
            no other.
    """
    stock = {name: control.stock for name, control in controls.items() if control.stock is not None}
    alike = [
        run
        for run in runs
        if run.head.machine == machine and run.head.workload == workload and counts(run) and _at(run, stock)
    ]
    return next((run.id for run in alike if run.id != last), alike[0].id if alike else None)


def _at(run: RunRecord, stock: Mapping[str, object]) -> bool:
    """Tell whether a run had these settings; of graphics chips, those that had a part in it."""
    had = run.head.settings
    return all(had.get(name) == value or no_part(name, had) for name, value in stock.items())
