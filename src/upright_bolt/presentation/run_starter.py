"""Starting runs as a person asked for them. Knows no widget and no Qt."""

from dataclasses import dataclass

from upright_bolt.errors import BadInput
from upright_bolt.model.quantity import COUNT, TEMPERATURE, with_unit
from upright_bolt.model.settings import Settings
from upright_bolt.model.start import Start
from upright_bolt.model.work import Options, Work, split_command
from upright_bolt.model.workloads import Mode, workload
from upright_bolt.presentation.ports import SessionWork
from upright_bolt.presentation.records import Records, Say, length_s
from upright_bolt.reports.earlier_cooling import earlier_cooling
from upright_bolt.session.active_run import ActiveRun
from upright_bolt.session.session import Session
from upright_bolt.session.starting import start_run
from upright_bolt.store.runs import RunStore


@dataclass(frozen=True, slots=True)
class RunRequest:
    """A run as a person chose and typed it."""

    workload: str
    length: str
    label: str
    threads: str = ""
    command: str = ""
    pattern: str = ""
    times: int = 1
    until_decided: bool = False
    start: Start | None = None
    below: str = ""
    sure: bool = False
    chip: str = ""
    weight: str = "heavy"


class RunStarter:
    """Starts runs and series.

    Args:
        thread: has the session.
        records: starts series.
        store: where runs are kept.
        say, fail: tell the person an outcome.
    """

    def __init__(self, thread: SessionWork, records: Records, store: RunStore, say: Say, fail: Say) -> None:
        self._thread = thread
        self._records = records
        self._store = store
        self._say = say
        self._fail = fail

    def start(self, asked: RunRequest, draft: Settings) -> None:
        """Start a run, or several one after another; what was typed wrongly is said.

        Args:
            asked: what the person chose.
            draft: what a series that decides compares with what is in force.
        """
        try:
            work = work_of(asked)
            if asked.until_decided:
                self._records.start_until_decided(work, asked.label, draft)
                return
        except BadInput as fault:
            self._fail(str(fault))
            return
        if asked.times > 1:
            self._records.start_repeats(work, asked.label, asked.times)
            return

        def begin(session: Session) -> ActiveRun:
            known = self._store.all() if workload(work.workload).mode is Mode.HOLD else []
            prior = earlier_cooling(self._store, known, session.machine.spec)
            return start_run(session, work, asked.label, self._store, thermal_prior=prior)

        self._thread.ask(begin, lambda run: self._say(f"Run {run.id} has started."), self._fail)

    def skip_waiting(self) -> None:
        """Let the run that waits for rest begin now."""
        self._thread.ask(Session.skip_waiting, lambda _: None, self._fail)

    def stop(self) -> None:
        """Stop the run in progress and keep what is there."""

        def stop(session: Session) -> None:
            if session.run is not None:
                session.run.stop()

        self._thread.ask(stop, lambda _: None, self._fail)


def work_of(asked: RunRequest) -> Work:
    """Return the work that a person asked for. Raises BadInput."""
    known = workload(asked.workload)
    duration_s = length_s(asked.length)
    count = int(COUNT.parse(asked.threads, "Threads")) if asked.threads.strip() else None
    options = Options()
    if known.mode is Mode.COMMAND:
        options = Options(split_command(asked.command), asked.pattern)
    elif known.on_gpu:
        options = Options(chip=asked.chip, weight=asked.weight)
    elif known.mode is Mode.HOLD:
        if not asked.below.strip():
            raise BadInput("Stay below: name the temperature near which the machine is held, e.g. 85 °C.")
        options = Options(below_c=TEMPERATURE.parse(with_unit(asked.below, "°C"), "Stay below"), sure=asked.sure)
    return Work(asked.workload, duration_s, count, options=options, start=asked.start)
