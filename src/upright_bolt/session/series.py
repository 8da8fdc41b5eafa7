"""Several runs under the same conditions, one after another.

Each run with settings of its own is a trial that is put back when the run ends. A series goes on with the session's
ticks, so that the command line and the window carry it out alike. All its runs begin in the same state: after a run
that is not counted, each waits as its work's start says.
"""

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model.catalogue import title_of
from upright_bolt.model.control import Control
from upright_bolt.model.quantity import TEMPERATURE
from upright_bolt.model.run import RunRole, RunState
from upright_bolt.model.sample import Sample
from upright_bolt.model.settings import Settings
from upright_bolt.model.start import Start, Waiting
from upright_bolt.model.trial import ApplyReport, Status, Trial
from upright_bolt.model.work import Work
from upright_bolt.model.workloads import Way, workload
from upright_bolt.session.active_run import ActiveRun
from upright_bolt.session.chip_wake import wake_for, woken_and_tried
from upright_bolt.session.machine import Machine
from upright_bolt.session.run_progress import RunSink
from upright_bolt.session.start import LONGEST_WAIT_S, NEAR_C, PAUSE_WINDOWS, Gate, Goal, RestWatch
from upright_bolt.session.steps import More, Outcome, Step, with_warm_up
from upright_bolt.settings.access import MachineAccess
from upright_bolt.wording.notes import about
from upright_bolt.wording.trials import as_error

LONGEST_COOLING_S = 3600.0


class RunningSession(Protocol):
    """What a series needs of the session in which it is made."""

    run: ActiveRun | None
    index: dict[str, int]
    rest: RestWatch
    machine: Machine

    @property
    def now_s(self) -> float:
        """The present moment on the machine's clock."""
        ...

    @property
    def boot_id(self) -> str:
        """The name of the machine's present boot."""
        ...

    @property
    def access(self) -> MachineAccess:
        """The way to the machine."""
        ...

    def controls(self) -> dict[str, Control]:
        """Return every control as it stands."""
        ...

    def status(self) -> Status:
        """Return the trial that is running, if any."""
        ...

    def try_settings(self, settings: Settings, *, standing: bool) -> ApplyReport:
        """Put settings in force as a trial."""
        ...

    def put_back(self, why: str = "asked for") -> Trial:
        """End the trial."""
        ...

    def start_run(
        self,
        work: Work,
        label: str,
        sink: RunSink,
        series: str = "",
        role: RunRole = RunRole.COUNTED,
        gate: Gate | None = None,
    ) -> ActiveRun:
        """Begin a run."""
        ...


@dataclass(frozen=True, slots=True)
class SeriesAsked:
    """What a series is made of.

    Attributes:
        steps: the runs to be made.
        work: what each executes, unless a step says otherwise.
        cool_c: each waits until the package is at most so warm; None for no such wait.
        stops_at_errors: whether it ends with the first run that gives wrong results.
        more: asked for further runs when all are made; None if there are none.
    """

    steps: Sequence[Step]
    work: Work
    cool_c: float | None = None
    stops_at_errors: bool = False
    more: More | None = None


@dataclass(frozen=True, slots=True)
class SeriesProgress:
    """What a series in progress shows: which run it is at, of how many, its label, and what it waits for."""

    number: int
    count: int
    label: str
    waiting: Waiting | None


class ActiveSeries:
    """Makes runs one after another. Give it every sample, and every run that has ended.

    Args:
        session: where it is made.
        asked: what it is made of.
        sink: where the runs are kept.

    Attributes:
        name: the word that its runs share.
        outcomes: of the runs that have ended, the warm-up among them.
        ended: whether it is over.
        fault: why it ended before its time; None if it did not.

    Raises:
        BadInput: a trial is running, a setting lies outside what the machine allows, or the temperature to wait for is
            not measured.
        Denied: the rights of the person do not allow what the series tries.
    """

    def __init__(self, session: RunningSession, asked: SeriesAsked, sink: RunSink) -> None:
        tried = {name for step in asked.steps for name in step.settings}
        self._tries = bool(tried)
        if self._tries and session.status().trial is not None:
            raise BadInput(
                "A trial is running already; “keep” or “put-back” it before runs with settings of their own."
            )
        if asked.cool_c is not None and "temperature.package" not in session.index:
            raise BadInput("cool-to: this machine's temperature is not measured, so it cannot be waited for.")
        if workload(asked.work.workload).way is Way.HOLD:
            raise BadInput("repeat: “cooling” moves the limits itself and knows of its earlier runs; run it alone.")
        wake_for(session, tried)
        check_steps(asked.steps, session.controls())
        self._session = session
        self._asked = asked
        self._steps = with_warm_up(asked.steps, asked.work)
        self._sink = sink
        self._gate: Gate | None = None
        self._first_start_c: float | None = None
        self.name = uuid.uuid4().hex[:12]
        self.outcomes: list[Outcome] = []
        self.ended = False
        self.fault: BoltError | None = None
        if tried:
            session.access.begin_series(tried)

    def take(self, sample: Sample) -> None:
        """Go on: begin the next run once the machine is ready for it."""
        if self.ended or self._session.run is not None:
            return
        step = self._steps[len(self.outcomes)]
        try:
            gate = self._gate = self._gate or Gate(self._goal(step), self._session.rest)
            if gate.look(sample.time_s):
                self._check_cool(gate)
                self._begin(step, gate)
        except BoltError as fault:
            self._end(fault)

    def _goal(self, step: Step) -> Goal:
        """Return what has to be so before a run: the same for all but the warm-up."""
        asked = self._asked
        if step.role is RunRole.WARM_UP:
            return Goal()
        at_most_s = LONGEST_WAIT_S if asked.cool_c is None else LONGEST_COOLING_S
        if asked.work.begins is not Start.RESTED:
            return Goal(below_c=asked.cool_c, at_most_s=at_most_s)
        if len(asked.steps) < 2 or workload(asked.work.workload).rests:
            return Goal(settles=True, whole=True, below_c=asked.cool_c, at_most_s=at_most_s)
        known = [c for c in (asked.cool_c, self._first_start_c) if c is not None]
        pause_s = PAUSE_WINDOWS * self._session.rest.window_s
        return Goal(whole=True, below_c=min(known, default=None), pause_s=pause_s, at_most_s=at_most_s)

    def _check_cool(self, gate: Gate) -> None:
        """Raise BoltError if the machine did not become as cool as a person asked."""
        asked_c, now_c = self._asked.cool_c, self._session.rest.temp_c()
        if gate.gave_up and asked_c is not None and now_c is not None and now_c > asked_c:
            raise BoltError(
                f"The machine did not cool down to {TEMPERATURE.show(asked_c)} within an hour; "
                f"it is at {TEMPERATURE.show(now_c)}."
            )

    def _begin(self, step: Step, gate: Gate) -> None:
        if step.role is not RunRole.WARM_UP and self._first_start_c is None:
            now_c = self._session.rest.temp_c()
            self._first_start_c = None if now_c is None else now_c + NEAR_C
        if step.settings:
            try_or_raise(self._session, step.settings)
        self._session.start_run(step.work or self._asked.work, step.label, self._sink, self.name, step.role, gate)

    def skip_waiting(self) -> None:
        """Begin the next run now, whatever it waits for."""
        if self._gate is not None:
            self._gate.skip()

    def take_ended(self, run: ActiveRun) -> None:
        """Put back what was tried for a run that has ended, and go on to the next, or end."""
        step = self._steps[len(self.outcomes)]
        errors = run.progress().errors
        self.outcomes.append(Outcome(step, run.id, run.end.score if run.end is not None else None, errors))
        self._gate = None
        fault: BoltError | None = None
        if run.end is None or run.end.state is not RunState.FINISHED:
            fault = BoltError(f"Run {run.id} is kept as {run.end.how if run.end else 'unfinished'}.")
        elif errors and self._asked.stops_at_errors:
            fault = BoltError(f"Run {run.id} “{step.label}” gave {errors} wrong results; the ladder ends there.")
        if run.unsaved:
            fault = BoltError(f"Run {run.id} could not be kept to its end. {run.unsaved}")
        try:
            self._put_back()
        except BoltError as stuck:
            fault = fault or stuck
        if fault is None and len(self.outcomes) == len(self._steps) and self._asked.more is not None:
            self._steps += self._asked.more([o for o in self.outcomes if o.step.role is not RunRole.WARM_UP])
        if fault is not None or len(self.outcomes) == len(self._steps):
            self._end(fault)

    def _put_back(self) -> None:
        if self._tries and self._session.status().trial is not None:
            self._session.put_back("the run ended")

    def stop(self) -> None:
        """Make no more runs; a run in progress has to be stopped by itself."""
        self._steps = self._steps[: len(self.outcomes) + (self._session.run is not None)]
        self._asked = replace(self._asked, more=None)
        if self._session.run is None:
            self._end(None)

    def _end(self, fault: BoltError | None) -> None:
        if self.ended:
            return
        self.ended = True
        self.fault = fault
        for step in (self._put_back, self._take_leave):  # what was announced ends, whatever becomes of putting back
            try:
                step()
            except BoltError as second:
                self.fault = self.fault or second

    def _take_leave(self) -> None:
        if self._tries:
            self._session.access.end_series()

    def progress(self) -> SeriesProgress:
        """Return where it stands."""
        number = min(len(self.outcomes), len(self._steps) - 1)
        label = self._steps[number].label if self._steps else ""
        waiting = self._gate.waiting if self._gate is not None and self._session.run is None else None
        return SeriesProgress(number + 1, len(self._steps), label, waiting)


def check_steps(steps: Sequence[Step], controls: Mapping[str, Control]) -> None:
    """Raise BadInput, all faults at once, unless every setting of every step lies within what the machine allows."""
    faults = []
    for name in dict.fromkeys(name for step in steps for name in step.settings):
        control = controls.get(name)
        if control is None or not control.settable:
            why = control.note if control is not None else None
            faults.append(about(name, why) if why is not None else f"{title_of(name)} cannot be set on this machine.")
            continue
        for value in dict.fromkeys(step.settings[name] for step in steps if name in step.settings):
            try:
                control.check(value)
            except BadInput as fault:
                faults.append(str(fault))
                break
    if faults:
        raise BadInput(" ".join(dict.fromkeys(faults)))


def try_or_raise(session: RunningSession, settings: Settings) -> None:
    """Put settings in force as a trial of this process; a graphics chip that sleeps is woken for its own.

    Raises BadInput or Refused if they are not in force.
    """
    report = woken_and_tried(session, settings)  # closing the session puts it back
    if not report.ok:
        raise as_error(report)
