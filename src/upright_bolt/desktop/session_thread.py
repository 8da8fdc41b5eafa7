"""The thread in which the session lives. The window never touches the session itself.

The thread samples, carries runs on and executes what the window asks for, one thing after another. Snapshots come
back as a signal at most ten times a second, however fast the machine's time runs, and not before the window has drawn
the one before: a window that draws slowly would else do nothing but draw.
"""

import queue
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from upright_bolt.errors import BoltError, InUse, MachineFroze
from upright_bolt.model.event import ChangedByOthers, ProfileEvent
from upright_bolt.presentation.ports import Answer, Failure, Request, Snapshot
from upright_bolt.session.activity import Activity
from upright_bolt.session.series import ActiveSeries
from upright_bolt.session.session import SAMPLE_S, Session
from upright_bolt.session.stability_search import ActiveSearch

EMIT_S = 0.1
CONTROLS_EVERY_S = 1.0


class SessionThread(QObject):
    """Owns the session's thread.

    Attributes:
        period_s: time between samples while no run is in progress; a run is always sampled twice a second.

    Signals:
        snapshot: a ``Snapshot``.
        failed: a sentence; the session cannot go on.
        froze: a sentence; the machine froze, and the session ends with it.
    """

    snapshot = pyqtSignal(object)
    failed = pyqtSignal(str)
    froze = pyqtSignal(str)
    _answered = pyqtSignal(object, object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._asked: queue.SimpleQueue[tuple[Request, Answer, Failure]] = queue.SimpleQueue()
        self._stop = threading.Event()
        self._woken = threading.Event()
        self._pending = Snapshot()
        self._emitted = 0.0
        self._controls_due = 0.0
        self._trouble = ""
        self._several: Activity | None = None
        self.period_s = SAMPLE_S
        self._due = 0.0
        self._ticking = False
        self._drawn = threading.Event()
        self._drawn.set()
        self.snapshot.connect(self._wait_for_drawing)
        session.access.while_waiting = self._go_on
        self._thread = threading.Thread(target=self._live, name="session", daemon=True)
        self._answered.connect(self._deliver)

    def start(self) -> None:
        """Begin sampling."""
        self._thread.start()

    def ask(self, what: Request, answer: Answer, fail: Failure) -> None:
        """Let the session do ``what``; the outcome comes back in the window's thread."""
        self._asked.put((what, answer, fail))
        self._woken.set()

    def close(self) -> str:
        """End the thread; a trial of this window is put back. Returns a sentence if that failed."""
        self._stop.set()
        self._woken.set()
        if self._thread.is_alive():
            self._thread.join()
        return self._trouble

    def _deliver(self, callback: Callable[[Any], None], value: object) -> None:
        if not self._stop.is_set():
            callback(value)

    def _wait_for_drawing(self, _snapshot: Snapshot) -> None:
        """Let the next snapshot come once this one is drawn: a timer's turn comes after all that is posted."""
        QTimer.singleShot(1, self._drawn.set)  # 0 ms would be posted, too, and come before the drawing

    def _live(self) -> None:
        try:
            while not self._stop.is_set():
                self._tick()
                self._until_due()
        except MachineFroze as fault:
            self._session.fail_run(fault)
            self.froze.emit(str(fault))
        except Exception as fault:  # noqa: BLE001 - whatever it was, the person must hear of it
            self._session.fail_run(fault)
            self.failed.emit(f"The session stopped: {fault}")
        finally:
            self._trouble = self._session.close()

    def _tell_of_end(self, pending: Snapshot) -> None:
        """Tell once that a series or search has ended, whether in a sample or by what the window asked for."""
        several, self._several = self._several, self._session.activity
        if isinstance(several, ActiveSeries) and several.ended:
            pending.ended_series = str(several.fault or "")
        elif isinstance(several, ActiveSearch) and several.ended:
            pending.ended_search = str(several.fault or "")

    def _until_due(self) -> None:
        clock = self._session.machine.clock
        while not self._stop.is_set():
            self._woken.clear()  # before the requests are taken: what comes meanwhile sets it again
            self._serve()
            if self._stop.is_set() or clock.now_s() >= self._due - 1e-9:
                return
            clock.wait_until(self._due, self._woken)

    def _go_on(self) -> None:
        """Sample while an answer is out, e.g. while a person types a password; but no sample within a sample."""
        if self._stop.is_set():
            raise InUse("The window was closed.")
        here = threading.current_thread() is self._thread
        if here and not self._ticking and self._session.machine.clock.now_s() >= self._due:
            self._tick()

    def _serve(self) -> None:
        while True:
            try:
                what, answer, fail = self._asked.get_nowait()
            except queue.Empty:
                return
            try:
                self._answered.emit(answer, what(self._session))
            except MachineFroze:
                raise
            except (BoltError, OSError) as fault:
                self._answered.emit(fail, str(fault))
            self._controls_due = 0.0
            self._emitted = 0.0

    def _tick(self) -> None:
        self._ticking = True
        try:
            self._take_tick()
        finally:
            self._ticking = False

    def _take_tick(self) -> None:
        session = self._session
        period = SAMPLE_S if session.working else self.period_s
        self._due = self._session.machine.clock.now_s() + period
        pending = self._pending
        self._tell_of_end(pending)
        tick = self._session.tick()
        pending.samples.append(tick.sample)
        pending.events += tick.events
        if any(isinstance(event, ChangedByOthers | ProfileEvent) for event in tick.events):
            self._controls_due = 0.0
        run = self._session.run
        self._tell_of_end(pending)
        pending.series = self._several.progress() if isinstance(self._several, ActiveSeries) else None
        pending.search = self._several.progress() if isinstance(self._several, ActiveSearch) else None
        ended = self._session.end_run()
        if ended is not None:
            pending.ended_run = ended.id
            pending.trouble = ended.unsaved
        now = time.monotonic()
        if now >= self._controls_due:
            self._controls_due = now + CONTROLS_EVERY_S
            with suppress(BoltError):  # a way to the machine that is out of order for a while; the samples tell of it
                pending.controls = self._session.controls()
                pending.status = self._session.status()
        due = now - self._emitted >= EMIT_S and self._drawn.is_set()
        ends = (pending.ended_run, pending.ended_series, pending.ended_search)
        if due or any(end is not None for end in ends):
            self._emitted = now
            self._drawn.clear()
            self._pending = Snapshot()
            pending.progress = run.progress() if run is not None else None
            pending.about = session.about
            self.snapshot.emit(pending)
