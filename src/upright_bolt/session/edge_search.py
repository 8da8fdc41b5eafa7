"""A search for an edge in progress: one rung after another, each a trial on record before its first write.

Like a series it goes on with the session's ticks, so that the command line and the window carry it out alike. What to
test next is ``analysis.edge_plan``'s to say; here it is put in force, loaded, watched, written down and put back.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Protocol

from upright_bolt.analysis.edge_course import Course
from upright_bolt.analysis.edge_history import Seen
from upright_bolt.errors import BadInput, BoltError, Refused
from upright_bolt.model.axis import Axis
from upright_bolt.model.catalogue import title_of
from upright_bolt.model.control import Control
from upright_bolt.model.quantity import OFFSET
from upright_bolt.model.run import RunEnd, RunRole, RunState
from upright_bolt.model.sample import Sample, value_of
from upright_bolt.model.search import (
    DRIVER_RESET,
    AfterFreeze,
    Outcome,
    Purpose,
    Rung,
    RungEnd,
    RungError,
    Search,
    SearchEnd,
    Why,
    told_by_person,
)
from upright_bolt.model.sensor import LID
from upright_bolt.model.start import Start, Waiting
from upright_bolt.model.work import Options, Work
from upright_bolt.session.active_run import ActiveRun
from upright_bolt.session.chip_wake import wake_for
from upright_bolt.session.run_progress import RunSink, RunStage
from upright_bolt.session.series import RunningSession, try_or_raise
from upright_bolt.session.start import Gate, Goal
from upright_bolt.wording.notes import about
from upright_bolt.wording.search import rung_label
from upright_bolt.workload.plan import full_load_s

PAUSE_S = 4.0
COOLING_S = 420.0
"""How long the machine has to cool down before the last part of the soak; it need not come to rest entirely."""
SCORED_S, SETTLES_S = 20.0, 2.0
"""Score, clock, watts and temperature of a rung are those of its first seconds, all at full load, from equal starts."""
FAILED_RUNS = 3
"""So many runs that fail for another reason than the setting, one after another, end the search for now."""
EARLY = ("clock.mean", "power.package", "temperature.package")
OF_CHIP = ("clock", "power", "temperature")
"""The same of a graphics chip, by its part."""
MARGIN_C = 0.5
ON_BATTERY = "the charger is unplugged"
LID_CLOSED = "the lid is closed, so the machine gets hotter than it was"
BUSY_PERCENT, BUSY_SAMPLES = 25.0, 8
"""Processors that are busier than this between two rungs, for so many samples, have somebody else's work to do."""


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
    own = control.stock if control.stock is not None else control.in_force
    return own if isinstance(own, float | int) else 0.0


class ActiveSearch:
    """Carries a search on. Give it every sample while no run goes on, and every run that has ended.

    Args:
        session: where it is made.
        search: as its record tells it; one that was cut off goes on.
        known: what earlier searches and runs have shown on this chip.
        sink: where its record is kept.
        runs: where its runs are kept.

    Attributes:
        search: its rungs so far.
        ended: whether this process has done with it; ``search.end`` is None if it can go on later.

    Raises:
        BadInput: a trial is running, or a graphics chip does not wake.
        Refused: the axis cannot be set here.
        Denied: the rights of the person do not allow it.
    """

    def __init__(
        self, session: RunningSession, search: Search, known: Sequence[Seen], sink: SearchSink, runs: RunSink
    ) -> None:
        if session.status().trial is not None:
            raise BadInput("A trial is running already; “keep” or “put-back” it before a search.")
        self._session = session
        self._names = search.asked.controls
        wake_for(session, [*self._names, *search.asked.held])
        self._chip = search.asked.axis.part
        self._early_names = tuple(f"{self._chip}.{kind}" for kind in OF_CHIP) if self._chip else EARLY
        self._furthest = reach_of(session.controls(), self._names)
        self._known = list(known)
        self._sink, self._runs = sink, runs
        self._gate: Gate | None = None
        self._rung: Rung | None = None
        self._began_s = 0.0
        self._hot = self._cooled = False
        self._early: list[list[float | None]] = []
        self._loaded_s: float | None = None
        self._warm = False
        self._busy_for = 0
        self._stopping = False
        self._failed_runs = 0
        self.paused = ""
        self._lid_opened = False
        self._asked_of: RungEnd | None = None
        self.search = search
        self.ended = False
        self.fault: BoltError | None = None
        self._course: Course | None = None
        session.access.begin_series({*self._names, *search.asked.held})
        autostart = session.machine.autostart
        if autostart is not None and search.asked.after_freeze is AfterFreeze.GO_ON:
            autostart.enter()

    @property
    def question(self) -> Rung | None:
        """The rung of which a person has to say how it went; None if there is none."""
        return self._rung if self._asked_of is not None else None

    @property
    def course(self) -> Course:
        """What is known now, and what follows from it."""
        if self._course is None or self._course.search is not self.search:
            self._course = Course(self.search, self._known, self._furthest)
        return self._course

    def take(self, sample: Sample) -> None:
        """Go on: begin the next rung once the machine is ready for it."""
        if self.ended or self._session.run is not None or self.question is not None:
            return
        self.paused = self._hindrance(sample)
        if self.paused:
            self._gate, self._cooled, self._warm = None, False, False
            return
        try:
            self._gate = self._gate or Gate(Goal(pause_s=PAUSE_S), self._session.rest)
            if self._gate.look(sample.time_s):
                self._begin_next(sample.time_s)
        except BoltError as fault:
            self._leave(fault)

    def _hindrance(self, sample: Sample) -> str:
        """Return why no rung may begin now; empty if one may."""
        if hindered := self._hindered_by_supply(sample):
            return hindered
        busy = value_of(sample, self._session.index, "busy.mean")
        self._busy_for = self._busy_for + 1 if busy is not None and busy > BUSY_PERCENT else 0
        return f"something else keeps the processors {busy:.0f} % busy" if self._busy_for >= BUSY_SAMPLES else ""

    def _hindered_by_supply(self, sample: Sample) -> str:
        """Return what of charger and lid keeps it from working; a lid that has been closed all along does not."""
        index = self._session.index
        if value_of(sample, index, "charger") == 0.0:
            return ON_BATTERY
        closed = value_of(sample, index, LID)
        self._lid_opened |= closed == 0.0
        return LID_CLOSED if closed and self._lid_opened else ""

    def _begin_next(self, now_s: float) -> None:
        step = self.course.next_step(self._session.boot_id, warm=self._warm)
        if isinstance(step, SearchEnd):
            self._finish(step)
            return
        if step.purpose is Purpose.COOL_SOAK and not self._cooled:
            self._gate, self._cooled = Gate(Goal(settles=True, at_most_s=COOLING_S), self._session.rest), True
            return
        self._cooled = False
        self._sink.open_rung(self.search, step)
        self.search = replace(self.search, rungs=(*self.search.rungs, step))
        self._rung, self._began_s, self._hot = step, now_s, False
        self._early, self._loaded_s = [], None
        try:
            if step.settings:
                try_or_raise(self._session, step.settings)
        except BoltError as fault:
            self._close(RungEnd(step.number, Outcome.REFUSED))
            self._finish(SearchEnd(Why.REFUSED, dict(self.course.kept()), str(fault)))
            return
        work = self._work_of(step)
        label = rung_label(self.search.asked, step)
        series = f"search {self.search.asked.id}"
        self._session.start_run(work, label, self._runs, series, RunRole.RUNG, self._gate)

    def _work_of(self, rung: Rung) -> Work:
        """Return what is done in a rung."""
        if rung.purpose is Purpose.IN_USE:
            return Work("watch", rung.load_s, start=Start.AT_ONCE)
        if rung.scene:
            options = Options(chip=self._chip, weight=rung.scene)
            return Work("graphics", rung.load_s, options=options, start=Start.AT_ONCE)
        polite = rung.purpose is Purpose.SOAK and self.search.asked.in_breaks
        return Work("edge", rung.load_s, options=Options(polite=polite), start=Start.AT_ONCE)

    def watch(self, sample: Sample) -> None:
        """Look at a rung in progress, and end its run where enough is seen."""
        run, rung = self._session.run, self._rung
        if run is None or rung is None or run.stage is not RunStage.WORKING:
            return
        self._measure(sample)
        temp = value_of(sample, self._session.index, self._early_names[-1])
        ceiling = self.search.asked.ceiling_c
        if len(run.errors) >= rung.stop_errors:
            run.stop("enough wrong results were seen")
        elif ceiling is not None and temp is not None and temp > ceiling - MARGIN_C:
            self._hot = True
            run.stop("the temperature ceiling of the search was reached")
        elif hindered := self._hindered_by_supply(sample):
            run.stop(hindered)

    def _measure(self, sample: Sample) -> None:
        """Take in a sample of the seconds in which rungs are compared."""
        self._loaded_s = sample.time_s if self._loaded_s is None else self._loaded_s
        if SETTLES_S <= sample.time_s - self._loaded_s <= SCORED_S:
            index = self._session.index
            self._early.append([value_of(sample, index, name) for name in self._early_names])

    def _early_means(self) -> list[float | None]:
        known = [[value for value in column if value is not None] for column in zip(*self._early, strict=True)]
        return [sum(column) / len(column) if column else None for column in known] or [None] * len(self._early_names)

    def take_ended(self, run: ActiveRun) -> None:
        """Write down how a rung ended, put back what was tried, and go on."""
        self._warm = run.end is not None and run.end.state is not RunState.FAILED
        self._busy_for = 0
        rung = self._rung
        if rung is None or run.end is None:
            return
        unsaved = BoltError(f"Run {run.id} could not be kept to its end. {run.unsaved}") if run.unsaved else None
        failed = run.end.state is RunState.FAILED and not run.errors
        self._failed_runs = self._failed_runs + 1 if failed else 0
        if self._failed_runs >= FAILED_RUNS:
            unsaved = BoltError(f"{FAILED_RUNS} runs in a row have failed; the last one: {run.end.why}")
        try:
            self._close_or_ask(rung, self._end_of(rung, run, run.end))
            self._put_back()
        except BoltError as fault:
            unsaved = unsaved or fault
        self._gate = None
        if self._stopping or unsaved is not None:
            self._leave(unsaved)

    def _close_or_ask(self, rung: Rung, end: RungEnd) -> None:
        """Write down how a rung ended, or ask the person who has used the machine meanwhile."""
        if rung.purpose is Purpose.IN_USE and end.outcome is Outcome.PASSED:
            self._asked_of = end
        else:
            self._close(end)

    def answer(self, outcome: Outcome) -> None:
        """Write down how it went while a person used the machine. Raises BoltError if it cannot be kept."""
        if (end := self._asked_of) is not None:
            self._asked_of = None
            self._close(told_by_person(end, outcome))

    def _end_of(self, rung: Rung, run: ActiveRun, end: RunEnd) -> RungEnd:
        progress = run.progress()
        errors = tuple(RungError(round(e.time_s, 3), e.cpu, e.block) for e in run.errors)
        clock_mhz, power_w, temp_c = self._early_means()
        slices = [part for part in progress.slices if part.to_s <= SCORED_S + 1.0]
        lasted = sum(part.to_s - part.from_s for part in slices)
        score = sum(part.score * (part.to_s - part.from_s) for part in slices) / lasted if lasted else None
        return RungEnd(
            rung.number,
            self._outcome(errors, end.state),
            round(end.duration_s, 3),
            round(full_load_s(rung.load, end.duration_s), 3),
            round(max(0.0, self._session.now_s - self._began_s), 3),
            errors,
            None if errors else score,
            clock_mhz,
            power_w,
            temp_c,
            end.numbers.extra.get("between_w"),
            run.id,
        )

    def _outcome(self, errors: Sequence[RungError], state: RunState) -> Outcome:
        if any(error.block == DRIVER_RESET for error in errors):
            return Outcome.RESET
        if errors:
            return Outcome.DIED if all(error.block == "" for error in errors) else Outcome.WRONG
        if self._hot:
            return Outcome.HOT
        return Outcome.PASSED if state is RunState.FINISHED else Outcome.STOPPED

    def _close(self, end: RungEnd) -> None:
        self._sink.close_rung(self.search, end)
        self.search = replace(self.search, ends={**self.search.ends, end.number: end})
        self._rung = None

    def _put_back(self) -> None:
        if self._session.status().trial is not None:
            self._session.put_back("the rung ended")

    def stop(self) -> None:
        """Make no more rungs for now; a run in progress has to be stopped by itself. It can go on later."""
        self._stopping = True
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
        self.let_go()
        for step in (self._put_back, self._session.access.end_series):
            try:
                step()
            except BoltError as second:
                self.fault = self.fault or second

    def let_go(self) -> None:
        """Let this program no longer begin again after a restart: nothing works any more."""
        if self._session.machine.autostart is not None:
            self._session.machine.autostart.leave()

    def progress(self) -> SearchProgress:
        """Return where it stands."""
        self.course.work_out()
        waiting = self._gate.waiting if self._gate is not None and self._session.run is None else None
        return SearchProgress(self.search, self.course, self._rung, waiting, self.paused, self.question)
