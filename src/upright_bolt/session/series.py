"""Several runs under the same conditions: repeats of one setting, two in turn, a ladder of settings.

Each run with settings of its own is a trial that is put back when the run ends. A series goes on with the session's
ticks, so that the command line and the window carry it out alike.
"""

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model.catalogue import Kind, declaration_of
from upright_bolt.model.control import parse_value, show_value
from upright_bolt.model.quantity import TEMPERATURE
from upright_bolt.model.run import RunState
from upright_bolt.model.sample import Sample
from upright_bolt.model.settings import Settings
from upright_bolt.model.trial import ApplyReport, Status, Trial
from upright_bolt.model.work import Work
from upright_bolt.session.active_run import ActiveRun, RunSink
from upright_bolt.settings.access import MachineAccess
from upright_bolt.wording.trials import as_error

MOST_RUNS = 200
LONGEST_COOLING_S = 3600.0


@dataclass(frozen=True, slots=True)
class Step:
    """One run to be made: the settings tried for it (none: what is in force), and its label."""

    settings: Settings
    label: str


def repeats(settings: Settings, count: int, label: str, *, alternate: bool) -> list[Step]:
    """Return ``count`` runs of ``settings``; with ``alternate`` as many without, in the order A B B A A B ….

    Raises:
        BadInput: too few or too many, or nothing to alternate with.
    """
    if not 1 <= count <= MOST_RUNS:
        raise BadInput(f"repeat: from 1 to {MOST_RUNS} runs; {count} is outside that.")
    tried = Step(settings, label)
    if not alternate:
        return [tried] * count
    if not settings:
        raise BadInput("alternate: name the settings to compare with those in force: --with sustained=25W.")
    plain = Step({}, f"{label}, without" if label else "without")
    return [step for i in range(count) for step in ((plain, tried) if i % 2 == 0 else (tried, plain))]


def ladder(text: str, beside: Settings, count: int) -> list[Step]:
    """Return the runs of a ladder typed as ``NAME=FROM..TO/STEP``, each rung ``count`` times.

    Raises:
        BadInput: it has another form, its control has no scale, or it has too many rungs.
    """
    name, sign, span = text.partition("=")
    first, dots, rest = span.partition("..")
    last, slash, step = rest.partition("/")
    if not (sign and dots and slash):
        raise BadInput(f"“{text}” is not a ladder; it is written NAME=FROM..TO/STEP, e.g. sustained=12W..40W/4W.")
    name = name.strip()
    declared = declaration_of(name)
    if declared.kind is not Kind.SCALE:
        raise BadInput(f"{declared.title}: only a control with a scale has a ladder.")
    if name in beside:
        raise BadInput(f"{name} is the ladder's own; leave it out of --with.")
    low, high = (float(parse_value(name, part)) for part in (first, last))
    stride = abs(declared.quantity.parse(step, "step"))
    if stride <= 0:
        raise BadInput("step: it must be more than nothing.")
    rungs = int(abs(high - low) / stride + 1e-9) + 1
    if not count >= 1 or rungs * count > MOST_RUNS:
        raise BadInput(f"That makes {rungs * max(count, 0)} runs; from 1 to {MOST_RUNS} can be made in one go.")
    way = stride if high >= low else -stride
    values = [low + way * i for i in range(rungs)]
    return [
        Step({**beside, name: value}, f"{name} {show_value(name, value)}") for value in values for _ in range(count)
    ]


class RunningSession(Protocol):
    """What a series needs of the session in which it is made."""

    run: ActiveRun | None
    index: dict[str, int]

    @property
    def access(self) -> MachineAccess:
        """The way to the machine."""
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

    def start_run(self, work: Work, label: str, sink: RunSink, series: str = "") -> ActiveRun:
        """Begin a run."""
        ...


@dataclass(frozen=True, slots=True)
class SeriesProgress:
    """What a series in progress shows: which run it is at, of how many, and what it waits for (empty: nothing)."""

    number: int
    count: int
    label: str
    waits: str


class ActiveSeries:
    """Makes runs one after another. Give it every sample, and every run that has ended.

    Args:
        session: where it is made.
        steps: the runs to be made.
        work: what each executes.
        sink: where they are kept.
        cool_c: each waits until the package is at most so warm; None for no waiting.

    Attributes:
        name: the word that its runs share.
        done: ids of the runs that have ended.
        ended: whether it is over.
        fault: why it ended before its time; None if it did not.

    Raises:
        BadInput: a trial is running, or the temperature to wait for is not measured.
        Denied: the rights of the person do not allow what the series tries.
    """

    def __init__(
        self, session: RunningSession, steps: Sequence[Step], work: Work, sink: RunSink, cool_c: float | None
    ) -> None:
        tried = {name for step in steps for name in step.settings}
        self._tries = bool(tried)
        if self._tries and session.status().trial is not None:
            raise BadInput(
                "A trial is running already; “keep” or “put-back” it before runs with settings of their own."
            )
        self._warm = session.index.get("temperature.package")
        if cool_c is not None and self._warm is None:
            raise BadInput("cool-to: this machine's temperature is not measured, so it cannot be waited for.")
        self._session = session
        self._steps = list(steps)
        self._work = work
        self._sink = sink
        self._cool_c = cool_c
        self._waiting_since_s: float | None = None
        self._waits = ""
        self.name = uuid.uuid4().hex[:12]
        self.done: list[int] = []
        self.ended = False
        self.fault: BoltError | None = None
        if tried:
            session.access.begin_series(tried)

    def take(self, sample: Sample) -> None:
        """Go on: begin the next run once the machine is cool enough."""
        if self.ended or self._session.run is not None:
            return
        try:
            if self._is_cool(sample):
                self._begin(self._steps[len(self.done)])
        except BoltError as fault:
            self._end(fault)

    def _is_cool(self, sample: Sample) -> bool:
        if self._cool_c is None or self._warm is None:
            return True
        now = sample.values[self._warm]
        if now is not None and now <= self._cool_c:
            self._waiting_since_s, self._waits = None, ""
            return True
        since = self._waiting_since_s = sample.time_s if self._waiting_since_s is None else self._waiting_since_s
        self._waits = f"cooling down to {TEMPERATURE.show(self._cool_c)}, now {TEMPERATURE.show(now)}"
        if sample.time_s - since > LONGEST_COOLING_S:
            raise BoltError(
                f"The machine did not cool down to {TEMPERATURE.show(self._cool_c)} within an hour; "
                f"it is at {TEMPERATURE.show(now)}."
            )
        return False

    def _begin(self, step: Step) -> None:
        if step.settings:
            try_or_raise(self._session, step.settings)
        self._session.start_run(self._work, step.label, self._sink, self.name)

    def take_ended(self, run: ActiveRun) -> None:
        """Put back what was tried for a run that has ended, and go on to the next, or end."""
        self.done.append(run.id)
        fault: BoltError | None = None
        if run.end is None or run.end.state is not RunState.FINISHED:
            fault = BoltError(f"Run {run.id} is kept as {run.end.how if run.end else 'unfinished'}.")
        if run.unsaved:
            fault = BoltError(f"Run {run.id} could not be kept to its end. {run.unsaved}")
        try:
            self._put_back()
        except BoltError as stuck:
            fault = fault or stuck
        if fault is not None or len(self.done) == len(self._steps):
            self._end(fault)

    def _put_back(self) -> None:
        if self._tries and self._session.status().trial is not None:
            self._session.put_back("the run ended")

    def stop(self) -> None:
        """Make no more runs; a run in progress has to be stopped by itself."""
        self._steps = self._steps[: len(self.done) + (self._session.run is not None)]
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
        number = min(len(self.done), len(self._steps) - 1)
        label = self._steps[number].label if self._steps else ""
        return SeriesProgress(number + 1, len(self._steps), label, "" if self._session.run is not None else self._waits)


def try_or_raise(session: RunningSession, settings: Settings) -> None:
    """Put settings in force as a trial of this process. Raises BadInput or Refused if they are not."""
    report = session.try_settings(settings, standing=False)  # closing the session puts it back
    if not report.ok:
        raise as_error(report)
