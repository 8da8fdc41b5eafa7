"""Searches for the edge as the window has them: their record, the one shown, and what a person can ask of them."""

from collections.abc import Callable
from dataclasses import replace

from upright_bolt.analysis.chip import board_of, boards_differ, chip_of
from upright_bolt.analysis.stability.course import Course
from upright_bolt.analysis.stability.forecast import Ahead, ahead
from upright_bolt.analysis.stability.history import known
from upright_bolt.analysis.validation.known_failures import failures_in
from upright_bolt.errors import BadInput, BoltError, NotFound, Refused
from upright_bolt.model.catalogue import TOGETHER
from upright_bolt.model.control import Control, ControlState
from upright_bolt.model.failure import Failure
from upright_bolt.model.machine import About
from upright_bolt.model.search import AfterFreeze, Asked, Outcome, Rung, Search, SearchEnd, Why
from upright_bolt.presentation.machine_info import Outline
from upright_bolt.presentation.observable import Observable
from upright_bolt.presentation.ports import BackgroundWork, SessionWork
from upright_bolt.session.chip_wake import wake_for
from upright_bolt.session.search_request import RawArguments, asked_from, axes_of
from upright_bolt.session.session import Session
from upright_bolt.session.stability_search import ActiveSearch, SearchProgress, reach_of, start_search, stock_of
from upright_bolt.store.runs import RunStore
from upright_bolt.store.search_log import SearchLog, recover
from upright_bolt.text.search import story

Say = Callable[[str], None]
NONE_YET = 0
"""The number of a search that nobody has begun."""


def begin_search(session: Session, log: SearchLog, store: RunStore, asked: Asked | None) -> ActiveSearch:
    """Begin a search, or go on with the one that was cut off if nothing is asked.

    Raises:
        BadInput: one is asked while another has not ended, or a trial or run is in progress.
        NotFound: there is none to go on with.
        Refused: the axis cannot be set here, or the chip is another one than the search began with; it has ended then.
        BoltError: the record cannot be read or written.
    """
    search = recover(log, session.boot_id)
    chip, board = chip_of(session.about.identity), board_of(session.about.identity)
    if asked is not None and search is not None:
        raise BadInput(f"Search {search.asked.id} has not ended; “edge --resume” goes on with it, “edge stop” ends it.")
    if asked is not None:
        wake_for(session, [*asked.controls, *asked.held])
        controls = session.controls()
        reach_of(controls, asked.controls)
        for name, value in asked.held.items():
            controls[name].check(value)
        ids = _graphics_ids(session.about, asked)
        stock = stock_of(controls[asked.controls[0]])
        search = log.numbered(replace(asked, chip=chip, board=board, graphics=ids, stock=stock))
    if search is None:
        raise NotFound("There is no search of this machine to go on with.")
    same = (search.asked.chip, search.asked.graphics) == (chip, _graphics_ids(session.about, search.asked))
    if not same or boards_differ(search.asked.board, board):
        log.finish(search, SearchEnd(Why.CHIP_CHANGED))
        raise Refused("Processor, firmware or microcode are not those the search began with; begin a new one.")
    before = known(store.all(), log.all(), session.machine.spec, search.asked)
    active = start_search(session, search, before, log, store)
    if asked is not None:
        try:
            log.begin(search)  # only now: a search that is refused has never begun
        except BoltError:
            active.stop()
            raise
    return active


def _graphics_ids(about: About, asked: Asked) -> str:
    """Return which graphics chip an axis is of, as the bus tells it; empty for the processor's axes."""
    return next((chip.ids for chip in about.chips if chip.part == asked.axis.part), "")


class Searches:
    """The searches of one machine, for the window.

    Args:
        thread: has the session.
        background: does the reading and computing.
        store, log: runs, and the record of searches.
        outline: the machine.
        say: tells the person an outcome.

    Attributes:
        found: the searches, oldest first.
        shown: what is known of the one that is shown; None if there is none.
        expected: what is known of the chip before any search; None once there is one, or until it is worked out.
        ahead: what is still expected of it; None while that is worked out.
        coming: the rung that comes next if it goes on; None while that is worked out.
        progress: where a search in progress stands; None if there is none.
        story: what happened to a search while the program was away; empty if nothing.
        failures: what a person's runs and searches say has failed on this chip.

    Topics:
        changed: any of these has changed.
    """

    def __init__(
        self,
        thread: SessionWork,
        background: BackgroundWork,
        store: RunStore,
        log: SearchLog,
        outline: Outline,
        say: Say,
    ) -> None:
        self._thread, self._background = thread, background
        self._store, self._log = store, log
        self._outline = outline
        self._say = say
        self._wanted: int | None = None
        self._told: tuple[int, int] = (0, 0)
        self.found: list[Search] = []
        self.shown: Course | None = None
        self.expected: Course | None = None
        self.ahead: Ahead | None = None
        self.coming: Rung | None = None
        self.progress: SearchProgress | None = None
        self.story = ""
        self.failures: list[Failure] = []
        self.changed: Observable[None] = Observable()

    @property
    def open(self) -> Search | None:
        """The search that has not ended; None if there is none."""
        if self.progress is not None:
            return self.progress.search
        return next((search for search in reversed(self.found) if search.end is None), None)

    def _fail(self, sentence: str) -> None:
        self._say(f"✕ {sentence}")

    # what is shown

    def recover(self) -> None:
        """Take up what the last program left: close a rung that was cut off, and go on if that was asked."""

        def look(session: Session) -> tuple[Search, bool] | None:
            left = self._log.open_search()
            if left is None or session.access.closed:
                return None
            return recover(self._log, session.boot_id) or left, left.open_rung is not None

        def looked(left: tuple[Search, bool] | None) -> None:
            if left is None:
                self.load()
                return
            search, was_open = left
            froze = was_open and search.ends[search.rungs[-1].number].outcome is Outcome.FROZE
            self.story = story(search, cut_off=was_open)
            self.load()
            if froze and search.asked.after_freeze is AfterFreeze.GO_ON:
                self.story += " It goes on by itself, as asked."
                self._start(None, self.story)

        self._thread.ask(look, looked, self._fail)

    def show(self, number: int) -> None:
        """Show a search by its number."""
        self._wanted = number
        self.load()

    def load(self) -> None:
        """Read the record anew, and work out what is known of the search shown."""
        wanted = self._wanted

        def work() -> tuple[list[Search], Course, list[Failure]]:
            found, runs = self._log.all(), self._store.all()
            chosen = next((one for one in found if one.asked.id == wanted), found[-1] if found else None)
            spec, chip = self._outline.spec, chip_of(self._outline.identity)
            chosen = chosen or Search(Asked(NONE_YET, TOGETHER, "", chip))
            course = Course(chosen, known(runs, found, spec, chosen.asked))
            course.work_out()
            return found, course, failures_in(runs, found, spec, chip)

        def loaded(result: tuple[list[Search], Course, list[Failure]]) -> None:
            self.found, course, self.failures = result
            if self.progress is None or wanted is not None:
                self._show_course(course)
            self.changed(None)

        self._background.run(work, loaded, self._fail)

    def _show_course(self, course: Course) -> None:
        if course.search.asked.id == NONE_YET:
            self.shown, self.expected = None, course
            return
        self.shown, self.ahead, self.coming = course, None, None
        if course.search.end is not None:
            return

        def take(result: tuple[Ahead, Rung | None] | None) -> None:
            if self.shown is course and result is not None:
                self.ahead, self.coming = result
                self.changed(None)

        search = course.search
        boot_id = search.rungs[-1].boot_id if search.rungs else ""

        def work() -> tuple[Ahead, Rung | None] | None:
            if self.shown is not course:
                return None  # a search at many times the pace of life has gone on meanwhile
            coming = course.next_step(boot_id, warm=True) if self.progress is None else None
            return ahead(course), coming if isinstance(coming, Rung) else None

        self._background.run(work, take, self._fail)

    def take(self, progress: SearchProgress | None, ended: str | None) -> None:
        """Take over where a search stands; ``ended`` tells how one has ended: empty if well, None if none has."""
        before = self.progress
        self.progress = progress
        if progress is not None:
            search = progress.search
            stands = (search.asked.id, len(search.ends))
            if stands != self._told:
                self._told = stands
                self._wanted = None
                self._show_course(progress.course)
        if progress != before:
            self.changed(None)
        if ended is not None:
            self._told = (0, 0)
            self._say(f"✕ {ended}" if ended else self._how_it_ended(before))
            self.load()

    def _how_it_ended(self, before: SearchProgress | None) -> str:
        number = "" if before is None else f" {before.search.asked.id}"
        return f"Search{number} makes no more rungs; everything is put back."

    # what a person asks

    def begin(self, typed: RawArguments) -> None:
        """Begin a search; what was typed wrongly is said."""
        try:
            asked = asked_from(typed)
        except BadInput as fault:
            self._fail(str(fault))
            return
        self.story = ""
        self._start(asked, "The search has begun. Nothing of it stays in force.")

    def go_on(self) -> None:
        """Go on with the search that has not ended."""
        self.story = ""
        self._start(None, "The search goes on.")

    def _start(self, asked: Asked | None, said: str) -> None:
        def begun(_active: ActiveSearch) -> None:
            self._say(said)
            self.load()

        self._thread.ask(lambda session: begin_search(session, self._log, self._store, asked), begun, self._fail)

    def answer(self, outcome: Outcome) -> None:
        """Write down how it went while the person used the machine."""

        def told(session: Session) -> None:
            if isinstance(session.activity, ActiveSearch):
                session.activity.answer(outcome)

        self._thread.ask(told, lambda _: None, self._fail)

    def pause(self) -> None:
        """Make no more rungs for now, and put everything back."""

        def stop(session: Session) -> None:
            if isinstance(session.activity, ActiveSearch):
                session.stop()

        self._thread.ask(stop, lambda _: None, self._fail)

    def end(self) -> None:
        """End the search that has not ended; what it has shown is kept."""

        def finish(session: Session) -> None:
            if isinstance(session.activity, ActiveSearch):
                return  # it has gone on meanwhile
            search = recover(self._log, session.boot_id)
            if search is not None:
                self._log.finish(search, SearchEnd(Why.STOPPED))

        def finished(_: None) -> None:
            self.story = ""
            self._say("The search has ended; what it has shown is kept.")
            self.load()

        self._thread.ask(finish, finished, self._fail)

    def why_not(self, controls: dict[str, Control]) -> str:
        """Return why no search can be made on this machine, as a sentence; empty if one can."""
        refused = ""
        for axis in axes_of(controls).values():
            try:
                if not _asleep(controls, axis):
                    reach_of(controls, axis)
            except Refused as fault:
                refused = refused or str(fault)
            else:
                return self._outline.no_load
        return refused


def _asleep(controls: dict[str, Control], axis: tuple[str, ...]) -> bool:
    """Tell whether an axis is of a chip that sleeps: it is woken as a search begins."""
    return all(name in controls and controls[name].state is ControlState.ASLEEP for name in axis)
