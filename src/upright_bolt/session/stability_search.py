"""A search for an edge in progress: one rung after another, each a trial on record before its first write.

Like a series it goes on with the session's ticks, so that the command line and the window carry it out alike. What to
test next is ``analysis.stability.planner``'s to say; here it is applied, loaded, watched, recorded and reverted.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import Enum, auto
from typing import Protocol

from upright_bolt.analysis.stability.course import Course
from upright_bolt.analysis.stability.history import Seen
from upright_bolt.errors import BadInput, BoltError, Refused
from upright_bolt.model.axis import Axis
from upright_bolt.model.catalogue import title_of
from upright_bolt.model.control import Control
from upright_bolt.model.event import Event
from upright_bolt.model.quantity import OFFSET
from upright_bolt.model.run import RunRole, RunState
from upright_bolt.model.sample import Sample
from upright_bolt.model.search import (
    AfterFreeze,
    Outcome,
    Purpose,
    Rung,
    RungEnd,
    Search,
    SearchEnd,
    Why,
    told_by_person,
)
from upright_bolt.model.start import Start, Waiting
from upright_bolt.model.work import Options, Work
from upright_bolt.session.active_run import ActiveRun
from upright_bolt.session.activity import BY_USER, Activity
from upright_bolt.session.chip_wake import wake_for
from upright_bolt.session.run_progress import RunSink, RunStage
from upright_bolt.session.session import Session
from upright_bolt.session.start import Goal, StartCondition
from upright_bolt.session.starting import start_run, try_or_raise
from upright_bolt.session.test_watch import RungWatch, Surroundings
from upright_bolt.text.notes import about
from upright_bolt.text.search import rung_label

PAUSE_S = 4.0
COOLING_S = 420.0
"""How long the machine has to cool down before the last part of the soak; it need not come to rest entirely."""
FAILED_RUNS = 3
"""So many runs that fail for another reason than the setting, one after another, end the search for now."""


class SearchSink(Protocol):
    """Where the record of a search is kept. Every call lasts, on disk, before it returns."""

    def open_rung(self, search: Search, rung: Rung) -> None:
        """Keep that a rung is about to begin."""
        ...

    def close_rung(self, search: Search, end: RungEnd) -> None:
        """Keep how a rung ended."""
        ...

    def finish(self, search: Search, end: SearchEnd) -> None:
        """Keep how the search ended."""
        ...


@dataclass(frozen=True, slots=True)
class SearchProgress:
    """What a search in progress shows.

    Attributes:
        search: its rungs so far.
        course: what is known now.
        rung: the rung in progress; None between two.
        waiting: what it waits for; None if nothing.
        paused: why it has paused; empty if it has not.
        question: the rung of which a person has to say how it went; None if there is none.
    """

    search: Search
    course: Course
    rung: Rung | None
    waiting: Waiting | None
    paused: str
    question: Rung | None = None


def reach_of(controls: dict[str, Control], names: Sequence[str]) -> dict[str, float]:
    """Return how far from stock each control of an axis can go here. Raises Refused if one cannot be set."""
    furthest = {}
    for name in names:
        control = controls.get(name)
        if control is None or not control.settable or control.minimum is None or control.maximum is None:
            why = control.note if control is not None else None
            words = about(name, why) if why is not None else f"{title_of(name)} cannot be set on this machine."
            raise Refused(f"{words} So its edge cannot be searched for.")
        axis = Axis((name,), stock_of(control))
        furthest[name] = max(axis.position(control.minimum), axis.position(control.maximum))
    return furthest


def stock_of(control: Control) -> float:
    """Return the value from which positions are counted: an offset's is 0, a clock's the machine's own."""
    if control.declaration.quantity is OFFSET:
        return 0.0
    own = control.stock if control.stock is not None else control.current
    return own if isinstance(own, float | int) else 0.0


class State(Enum):
    """What a search does in this process."""

    BETWEEN = auto()
    """It waits for the machine to be ready for the next rung."""
    COOLING = auto()
    """The same, until it is as cool as the next rung needs."""
    PAUSED = auto()
    """Something around it keeps it from working."""
    TESTING = auto()
    ASKING = auto()
    """A person has to say how it went."""
    STOPPING = auto()
    """It makes no more rungs; one is still in progress."""


class ActiveSearch(Activity):
    """Carries a search on: one rung after another.

    Args:
        session: where it is made.
        search: as its record tells it; one that was cut off goes on.
        known: what earlier searches and runs have shown on this chip.
        sink: where its record is kept.
        runs: where its runs are kept.

    Attributes:
        search: its rungs so far; ``search.end`` is None if it can go on after this process has done with it.
        paused: why it has paused; empty if it has not.

    Raises BadInput, Refused or Denied, as ``start_search``.
    """

    def __init__(
        self, session: Session, search: Search, known: Sequence[Seen], sink: SearchSink, runs: RunSink
    ) -> None:
        if session.status().trial is not None:
            raise BadInput("A trial is running already; “keep” or “put-back” it before a search.")
        self._session = session
        wake_for(session, [*search.asked.controls, *search.asked.held])
        self._furthest = reach_of(session.controls(), search.asked.controls)
        self._known = list(known)
        self._sink, self._runs = sink, runs
        self._state = State.BETWEEN
        self._around = Surroundings(session.index)
        self._gate: StartCondition | None = None
        self._watch: RungWatch | None = None
        self._end_by_person: RungEnd | None = None
        """How the rung in use ended, as far as this program can tell."""
        self._warm = False
        self._failed_runs = 0
        self.paused = ""
        self.search = search
        self._course: Course | None = None
        # All rights are asked for at once: a search of hours must not stop at night for a password.
        session.access.begin_series({*search.asked.controls, *search.asked.held})
        autostart = session.machine.autostart
        if autostart is not None and search.asked.after_freeze is AfterFreeze.GO_ON:
            autostart.enter()

    @property
    def needs(self) -> str:
        """See ``Activity``."""
        return "" if self._state is State.PAUSED else "A search for the edge of the voltage is in progress"

    @property
    def question(self) -> Rung | None:
        """The rung of which a person has to say how it went; None if there is none."""
        return self._rung if self._end_by_person is not None else None

    @property
    def _rung(self) -> Rung | None:
        return self._watch.rung if self._watch is not None else None

    @property
    def course(self) -> Course:
        """What is known now, and what follows from it."""
        if self._course is None or self._course.search is not self.search:
            self._course = Course(self.search, self._known, self._furthest)
        return self._course

    def on_sample(self, sample: Sample, _events: Sequence[Event]) -> None:
        """Look at the rung in progress, or begin the next one once the machine is ready for it."""
        if self._session.run is not None:
            self._look_at(self._session.run, sample)
        elif not self.ended and self._state is not State.ASKING:
            self._go_on(sample)

    def _look_at(self, run: ActiveRun, sample: Sample) -> None:
        """End the run of a rung where enough is seen, or it cannot go on."""
        if self._watch is None or run.stage is not RunStage.WORKING:
            return
        if why := self._watch.take(sample, run.errors) or self._around.keep_from_going_on(sample):
            run.stop(why)

    def _go_on(self, sample: Sample) -> None:
        self.paused = self._around.keep_from_beginning(sample)
        if self.paused:
            # Cold again by the time it goes on, so a warm-up is due.
            self._state, self._gate, self._warm = State.PAUSED, None, False
            return
        if self._state is State.PAUSED:
            self._state = State.BETWEEN
        try:
            self._gate = self._gate or StartCondition(Goal(pause_s=PAUSE_S), self._session.rest)
            if self._gate.look(sample.time_s):
                self._begin_next(sample.time_s)
        except BoltError as fault:
            self._leave(fault)

    def _begin_next(self, now_s: float) -> None:
        step = self.course.next_step(self._session.boot_id, warm=self._warm)
        if isinstance(step, SearchEnd):
            self._finish(step)
            return
        # Asked again once it has cooled down; then the state tells that it has.
        if step.purpose is Purpose.COOL_SOAK and self._state is not State.COOLING:
            self._state = State.COOLING
            self._gate = StartCondition(Goal(settles=True, at_most_s=COOLING_S), self._session.rest)
            return
        self._state = State.TESTING
        # On record before anything is set: after a freeze this entry is all that tells what was tried.
        self._sink.open_rung(self.search, step)
        asked = self.search.asked
        self.search = replace(self.search, rungs=(*self.search.rungs, step))
        self._watch = RungWatch(step, self._session.index, asked.axis.part, asked.ceiling_c, now_s)
        try:
            if step.settings:
                try_or_raise(self._session, step.settings)
        except BoltError as fault:
            self._close(RungEnd(step.number, Outcome.REFUSED))
            self._finish(SearchEnd(Why.REFUSED, dict(self.course.kept()), str(fault)))
            return
        start_run(
            self._session, self._work_of(step), rung_label(asked, step), self._runs, f"search {asked.id}",
            RunRole.RUNG, self._gate,
        )  # fmt: skip

    def _work_of(self, rung: Rung) -> Work:
        """Return what is done in a rung."""
        if rung.purpose is Purpose.IN_USE:
            return Work("watch", rung.load_s, start=Start.AT_ONCE)
        if rung.scene:
            options = Options(chip=self.search.asked.axis.part, weight=rung.scene)
            return Work("graphics", rung.load_s, options=options, start=Start.AT_ONCE)
        polite = rung.purpose is Purpose.SOAK and self.search.asked.in_breaks
        return Work("edge", rung.load_s, options=Options(polite=polite), start=Start.AT_ONCE)

    def on_run_end(self, run: ActiveRun) -> None:
        """Write down how a rung ended, put back what was tried, and go on."""
        # A run that failed may never have begun its load.
        self._warm = run.end is not None and run.end.state is not RunState.FAILED
        self._around.forget_load()
        if self._watch is None or run.end is None:
            return
        fault = BoltError(f"Run {run.id} could not be kept to its end. {run.unsaved}") if run.unsaved else None
        # Wrong results are what a search looks for; runs that fail without any mean that something else is broken.
        failed = run.end.state is RunState.FAILED and not run.errors
        self._failed_runs = self._failed_runs + 1 if failed else 0
        if self._failed_runs >= FAILED_RUNS:
            fault = BoltError(f"{FAILED_RUNS} runs in a row have failed; the last one: {run.end.why}")
        # Taken before closing, which moves the state on.
        stopping = self._state is State.STOPPING
        try:
            self._close_or_ask(self._watch.rung, self._watch.end_of(run, run.end, self._session.now_s))
            self._put_back()
        except BoltError as stuck:
            fault = fault or stuck
        self._gate = None
        if stopping or fault is not None:
            self._leave(fault)

    def _close_or_ask(self, rung: Rung, end: RungEnd) -> None:
        """Write down how a rung ended, or ask the person who has used the machine meanwhile."""
        if rung.purpose is Purpose.IN_USE and end.outcome is Outcome.PASSED:
            self._state, self._end_by_person = State.ASKING, end
        else:
            self._close(end)

    def answer(self, outcome: Outcome) -> None:
        """Write down how it went while a person used the machine. Raises BoltError if it cannot be kept."""
        if (end := self._end_by_person) is not None:
            self._end_by_person = None
            self._close(told_by_person(end, outcome))

    def _close(self, end: RungEnd) -> None:
        self._sink.close_rung(self.search, end)
        self.search = replace(self.search, ends={**self.search.ends, end.number: end})
        self._watch, self._state = None, State.BETWEEN

    def _put_back(self) -> None:
        if self._session.status().trial is not None:
            self._session.revert("the rung ended")

    def stop(self, _why: str = BY_USER) -> None:
        """Make no more rungs for now. It can go on later."""
        self._state = State.STOPPING
        if self._session.run is None:
            self._leave(None)

    def _finish(self, end: SearchEnd) -> None:
        self._sink.finish(self.search, end)
        self.search = replace(self.search, end=end)
        self._leave(None)

    def _leave(self, fault: BoltError | None) -> None:
        """Have done with it in this process: nothing of it stays in force."""
        if self.ended:
            return
        self.ended, self.fault = True, fault
        self.close()
        # Each in any case: a revert that fails must not leave the series open.
        for step in (self._put_back, self._session.access.end_series):
            try:
                step()
            except BoltError as second:
                self.fault = self.fault or second

    def close(self) -> None:
        """Let this program no longer begin again after a restart: nothing works any more."""
        if self._session.machine.autostart is not None:
            self._session.machine.autostart.leave()

    def progress(self) -> SearchProgress:
        """Return where it stands."""
        self.course.work_out()
        waiting = self._gate.waiting if self._gate is not None and self._session.run is None else None
        return SearchProgress(self.search, self.course, self._rung, waiting, self.paused, self.question)


def start_search(
    session: Session, search: Search, known: Sequence[Seen], sink: SearchSink, runs: RunSink
) -> ActiveSearch:
    """Begin a search for an edge, or go on with one; the session's ticks carry it on.

    Args:
        session: where it is made.
        search: as its record tells it.
        known: what was seen on its chip before.
        sink: where its record is kept.
        runs: where its runs are kept.

    Raises:
        BadInput: something else goes on, a trial is running, or a graphics chip does not wake.
        InUse: another process holds the machine.
        Refused: the axis cannot be set here.
        Denied: the rights of the person do not allow it.
    """
    session.check_alone()
    active = ActiveSearch(session, search, known, sink, runs)
    session.begin(active)
    return active
