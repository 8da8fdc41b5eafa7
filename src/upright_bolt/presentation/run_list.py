"""The runs that are kept, which of them is the baseline, and which ended last."""

from collections.abc import Callable, Mapping, Sequence

from upright_bolt.analysis.comparison.compare import Compared, compare
from upright_bolt.analysis.numbers import values_of
from upright_bolt.analysis.validation.proofs import no_part
from upright_bolt.model.control import Control
from upright_bolt.model.run import RunEnd, RunRecord, RunState
from upright_bolt.presentation.observable import Observable
from upright_bolt.presentation.ports import BackgroundWork
from upright_bolt.reports.details import telemetry_of
from upright_bolt.session.run_progress import RunProgress
from upright_bolt.store.runs import RunStore
from upright_bolt.text.comparison import verdict_with_conditions

Say = Callable[[str], None]


class RunList:
    """All runs of the store, as the window shows them.

    Args:
        background: does the reading and writing.
        store: where runs are kept.
        machine: the present machine's spec.
        controls: returns the machine's controls, as they stand.
        say: tells the person what went wrong.
        tell_damage: tells what in the store is damaged.

    Attributes:
        all: all runs, newest first.
        baseline_id: the run that others are compared with; None for none.
        last: the run that ended last in this window.

    Topics:
        changed: the list, the baseline or the last run has changed.
    """

    def __init__(
        self,
        background: BackgroundWork,
        store: RunStore,
        machine: str,
        controls: Callable[[], Mapping[str, Control]],
        say: Say,
        tell_damage: Say,
    ) -> None:
        self.all: list[RunRecord] = []
        self.baseline_id: int | None = None
        self.last: RunRecord | None = None
        self.changed: Observable[None] = Observable()
        self._background = background
        self._store = store
        self._machine = machine
        self._controls = controls
        self._say = say
        self._tell_damage = tell_damage
        self._damaged: dict[int, str] = {}
        self._chosen = False

    def load(self) -> None:
        """Read the list of runs anew."""
        self._background.run(self._store.all, self._take, self._say)

    def take_ended(self, run_id: int, then: Callable[[RunRecord], None]) -> None:
        """Take over a run that has ended, and hand it on once it is read."""

        def show(runs: list[RunRecord]) -> None:
            self.last = next((run for run in runs if run.id == run_id), None)
            self._take(runs)
            if self.last is not None:
                then(self.last)

        self._background.run(self._store.all, show, self._say)

    def _take(self, runs: list[RunRecord]) -> None:
        self.all = runs
        if self._store.damaged and self._store.damaged != self._damaged:
            self._tell_damage(" ".join(self._store.damaged.values()))
        self._damaged = self._store.damaged
        if not self._chosen or all(run.id != self.baseline_id for run in runs):
            last = self.last
            workload = last.head.workload if last else "steady"
            self.baseline_id = _newest_at_stock(
                runs, self._machine, workload, self._controls(), last.id if last else None
            )
        self.changed(None)

    def choose_baseline(self, run_id: int | None) -> None:
        """Choose what runs are compared with."""
        self.baseline_id = run_id
        self._chosen = True
        self.changed(None)

    @property
    def baseline(self) -> RunRecord | None:
        """The baseline run."""
        return next((run for run in self.all if run.id == self.baseline_id), None)

    def against_baseline(self, progress: RunProgress | None) -> tuple[Compared | None, str]:
        """Return the run in progress, or the last one, beside the baseline, and the finding in words."""
        run = self._shown(progress)
        baseline = self.baseline
        if run is None:
            return None, ""
        if baseline is None or baseline.id == run.id:
            return Compared(run, values_of(run)), ""
        row = compare([run], baseline, self.all)[0]
        return row, "" if progress is not None else verdict_with_conditions(row, baseline)

    def _shown(self, progress: RunProgress | None) -> RunRecord | None:
        if progress is None or (self.last is not None and self.last.id == progress.run_id):
            return self.last
        end = RunEnd(RunState.RUNNING, "", progress.elapsed_s, progress.score, progress.numbers)
        return RunRecord(progress.run_id, progress.head, end)

    def telemetry(self, run_ids: list[int], on_result: Callable[[object], None]) -> None:
        """Read the telemetry of runs in the background."""
        store = self._store
        self._background.run(
            lambda: {run_id: telemetry_of(store, store.get(run_id)) for run_id in run_ids}, on_result, self._say
        )

    def delete(self, run_id: int) -> None:
        """Delete a run."""

        def work() -> list[RunRecord]:
            self._store.delete(run_id)
            return self._store.all()

        self._background.run(work, self._take, self._say)


def _newest_at_stock(
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
        if run.head.machine == machine and run.head.workload == workload and run.usable and _at(run, stock)
    ]
    return next((run.id for run in alike if run.id != last), alike[0].id if alike else None)


def _at(run: RunRecord, stock: Mapping[str, object]) -> bool:
    """Tell whether a run had these settings; of graphics chips, those that had a part in it."""
    had = run.head.settings
    return all(had.get(name) == value or no_part(name, had) for name, value in stock.items())
