"""Several runs under the same conditions, one after another.

Each run with settings of its own is a trial that is put back when the run ends. A series goes on with the session's
ticks, so that the command line and the window carry it out alike. All its runs begin in the same state: after a run
that is not counted, each waits as its work's start says.
"""

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model.catalogue import title_of
from upright_bolt.model.control import Control
from upright_bolt.model.event import Event
from upright_bolt.model.quantity import TEMPERATURE
from upright_bolt.model.run import RunRole, RunState
from upright_bolt.model.sample import Sample
from upright_bolt.model.start import Start, Waiting
from upright_bolt.model.work import Work
from upright_bolt.model.workloads import Mode, workload
from upright_bolt.session.active_run import ActiveRun
from upright_bolt.session.activity import BY_USER, Activity
from upright_bolt.session.chip_wake import wake_for
from upright_bolt.session.run_progress import RunSink
from upright_bolt.session.session import Session
from upright_bolt.session.start import LONGEST_WAIT_S, NEAR_C, PAUSE_WINDOWS, Goal, StartCondition
from upright_bolt.session.starting import start_run, try_or_raise
from upright_bolt.session.steps import More, Outcome, Step, with_warm_up
from upright_bolt.text.notes import about

LONGEST_COOLING_S = 3600.0


@dataclass(frozen=True, slots=True)
class SeriesRequest:
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


class ActiveSeries(Activity):
    """Makes runs one after another.

    Args:
        session: where it is made.
        asked: what it is made of.
        sink: where the runs are kept.

    Attributes:
        name: the word that its runs share.
        outcomes: of the runs that have ended, the warm-up among them.

    Raises BadInput or Denied, as ``start_series``.
    """

    def __init__(self, session: Session, asked: SeriesRequest, sink: RunSink) -> None:
        tried = {name for step in asked.steps for name in step.settings}
        self._tries = bool(tried)
        if self._tries and session.status().trial is not None:
            raise BadInput(
                "A trial is running already; “keep” or “put-back” it before runs with settings of their own."
            )
        if asked.cool_c is not None and "temperature.package" not in session.index:
            raise BadInput("cool-to: this machine's temperature is not measured, so it cannot be waited for.")
        if workload(asked.work.workload).mode is Mode.HOLD:
            raise BadInput("repeat: “cooling” moves the limits itself and knows of its earlier runs; run it alone.")
        wake_for(session, tried)
        check_steps(asked.steps, session.controls())
        self._session = session
        self._asked = asked
        self._steps = with_warm_up(asked.steps, asked.work)
        self._sink = sink
        self._gate: StartCondition | None = None
        self._first_start_c: float | None = None
        self.name = uuid.uuid4().hex[:12]
        self.outcomes: list[Outcome] = []
        if tried:
            session.access.begin_series(tried)

    @property
    def needs(self) -> str:
        """See ``Activity``."""
        return "A series of runs is in progress"

    def on_sample(self, sample: Sample, _events: Sequence[Event]) -> None:
        """Begin the next run once the machine is ready for it."""
        if self.ended or self._session.run is not None:
            return
        step = self._steps[len(self.outcomes)]
        try:
            gate = self._gate = self._gate or StartCondition(self._goal(step), self._session.rest)
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

    def _check_cool(self, gate: StartCondition) -> None:
        """Raise BoltError if the machine did not become as cool as a person asked."""
        asked_c, now_c = self._asked.cool_c, self._session.rest.temp_c()
        if gate.gave_up and asked_c is not None and now_c is not None and now_c > asked_c:
            raise BoltError(
                f"The machine did not cool down to {TEMPERATURE.show(asked_c)} within an hour; "
                f"it is at {TEMPERATURE.show(now_c)}."
            )

    def _begin(self, step: Step, gate: StartCondition) -> None:
        if step.role is not RunRole.WARM_UP and self._first_start_c is None:
            now_c = self._session.rest.temp_c()
            self._first_start_c = None if now_c is None else now_c + NEAR_C
        if step.settings:
            try_or_raise(self._session, step.settings)
        start_run(
            self._session, step.work or self._asked.work, step.label, self._sink, self.name, step.role, gate
        )  # fmt: skip

    def skip_waiting(self) -> None:
        """Begin the next run now, whatever it waits for."""
        if self._gate is not None:
            self._gate.skip()

    def on_run_end(self, run: ActiveRun) -> None:
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
            self._session.revert("the run ended")

    def stop(self, _why: str = BY_USER) -> None:
        """Make no more runs."""
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


def start_series(session: Session, asked: SeriesRequest, sink: RunSink) -> ActiveSeries:
    """Begin several runs, one after another; the session's ticks carry them on.

    Raises:
        BadInput: something else goes on, a trial is running, a setting lies outside what the machine allows, or the
            temperature to wait for is not measured.
        InUse: another process holds the machine.
        Denied: the rights of the person do not allow what the series tries.
    """
    session.check_alone()
    series = ActiveSeries(session, asked, sink)
    session.begin(series)
    return series


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
