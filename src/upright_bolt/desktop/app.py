"""Putting the window together, and taking it down again in the right order."""

import gc
import os
import signal
import sys
from collections.abc import Callable
from ctypes.util import find_library
from functools import cache, partial
from pathlib import Path

from PyQt6.QtCore import (
    QCoreApplication,
    QEvent,
    QMessageLogContext,
    Qt,
    QTimer,
    QtMsgType,
    qInstallMessageHandler,
)
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication

from upright_bolt.desktop.background import BackgroundWorker
from upright_bolt.desktop.session_thread import SessionThread
from upright_bolt.desktop.sidebar import VIEWS
from upright_bolt.desktop.tray_icon import NO_PANEL, Panel
from upright_bolt.desktop.widgets import theme
from upright_bolt.desktop.widgets.notices import notify
from upright_bolt.desktop.window import Window
from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model.event import ChipsChanged
from upright_bolt.model.quantity import Shown
from upright_bolt.presentation.machine_info import outline_of
from upright_bolt.presentation.ports import Snapshot
from upright_bolt.presentation.preferences import FIRST_VIEW, Looks, PreferenceFile, Preferences, WhenClosed
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.session.session import Session
from upright_bolt.signal_handling import ending_signals
from upright_bolt.store.runs import RunStore
from upright_bolt.store.search_log import SearchLog
from upright_bolt.text.events import sentence

Opener = Callable[[str], Session]
"""Opens a session on a machine by its spec. Raises BoltError."""


@cache
def application() -> QApplication:
    """Return the one Qt application, made if there is none.

    Kept until the process ends: Qt crashes if it goes before the last widget.
    """
    running = QApplication.instance()
    if isinstance(running, QApplication):
        return running
    qInstallMessageHandler(_say_of_qt)
    made = QApplication(sys.argv[:1])
    made.setApplicationName("upright-bolt")
    made.setApplicationDisplayName("Upright Bolt")
    made.setDesktopFileName("org.upright_bolt.UprightBolt")
    made.setWindowIcon(QIcon(str(Path(__file__).with_name("icon.svg"))))
    return made


KNOWN_NOISE = ("propagateSizeHints", "Qt platform plugin", "Qt xcb platform plugin", "could not connect to display")
NO_LIBRARY = "Qt's windows need a system library that is missing. On Debian: sudo apt install libxcb-cursor0"
NO_DISPLAY = "The display {name} cannot be opened. Every capability is on the command line too: upright-bolt --help."


def _say_of_qt(kind: QtMsgType, _where: QMessageLogContext, words: str | None) -> None:
    """Print what Qt says, but not what it says of every offscreen window; without a display, end in a sentence."""
    if kind is QtMsgType.QtFatalMsg and "platform plugin" in (words or ""):
        if find_library("xcb-cursor") is None and os.environ.get("DISPLAY"):
            print(NO_LIBRARY, file=sys.stderr, flush=True)
            os._exit(1)
        name = os.environ.get("WAYLAND_DISPLAY") or os.environ.get("DISPLAY") or "asked for"
        print(NO_DISPLAY.format(name=f"“{name}”"), file=sys.stderr, flush=True)
        os._exit(1)  # Qt would abort, and leave a core behind
    if words and not any(noise in words for noise in KNOWN_NOISE):
        print(words, file=sys.stderr)


def theme_of(app: QApplication) -> theme.Theme:
    """Return the theme that fits the desktop's own."""
    hints = app.styleHints()
    dark = hints is not None and hints.colorScheme() == Qt.ColorScheme.Dark
    return theme.DARK if dark else theme.LIGHT


SWITCH_S = 0.001
"""How long the session's thread may compute before the window gets its turn; Python's own 5 ms add up to stutter."""


class DesktopApp:
    """A window with its thread and store around a session; it can be turned to another machine.

    Args:
        session: holds the machine; it belongs to the window from now on.
        data: the data folder.
        given: the theme; the one preferred if None.
        opener: opens a session on another machine by its spec.
        has_panel: tells whether this desktop has a panel.

    Attributes:
        panel: the icon in the desktop's panel; None without one.
        store, thread, background, presenter, window: of the machine that is open.
    """

    store: RunStore
    thread: SessionThread
    background: BackgroundWorker
    presenter: Presenter
    window: Window

    def __init__(
        self, session: Session, data: Path, given: theme.Theme | None = None, opener: Opener | None = None,
        has_panel: Callable[[], bool] = Panel.there_is_one,
    ) -> None:  # fmt: skip
        self._has_panel = has_panel
        self._data = data
        self._given = given
        self._opener = opener
        self._closed = True
        self.kept = PreferenceFile(data)
        self._begin(session)
        self.panel: Panel | None = None
        self._show_window()
        if self.kept.trouble:
            self.presenter.say(f"✕ {self.kept.trouble}")
        sys.setswitchinterval(SWITCH_S)
        # A collection of everything a window consists of stops it for a moment that can be seen.
        gc.collect()
        gc.freeze()  # what stands now stays: going through it again and again costs 50 ms a time

    def _begin(self, session: Session) -> None:
        """Put thread, store and presenter around a session."""
        self.store = RunStore(self._data / "runs.sqlite")
        # A program that was killed left runs open; nobody else can write to this machine's runs now.
        self.store.mark_unfinished(session.machine.spec, session.boot_id)
        if session.machine.set_pace is not None:
            session.machine.set_pace(1.0)
        self.background = BackgroundWorker()
        outline = outline_of(session)
        controls = session.controls()
        self.thread = SessionThread(session)
        log = SearchLog(session.machine.record or self._data, session.machine.spec)
        self.presenter = Presenter(outline, self.thread, self.background, self.store, controls, log)
        # Connected before the thread starts, or the first snapshots would be lost.
        self.thread.snapshot.connect(self._take)
        self.thread.failed.connect(self.presenter.say)
        self.thread.froze.connect(self._after_freeze)
        self._closed = False
        self.thread.start()
        self.presenter.searches.recover()
        self.presenter.profiles.told.connect(self._notify)
        self._at_login = session.machine.at_login

    def _take(self, snapshot: Snapshot) -> None:
        """Hand a snapshot on; a graphics chip that has come or gone has the window built anew around what is there."""
        about = snapshot.about
        # The same object as long as nothing has come or gone, so this costs nothing at every sample.
        if about is None or about is self.presenter.outline.about:
            self.presenter.take(snapshot)
            return
        # Widgets are made for the sensors and controls that there were: they are made anew rather than patched.
        self.presenter.update_machine(about)
        self.presenter.release()
        self.presenter.take(snapshot)
        self._replace_window()
        for event in snapshot.events:
            if isinstance(event, ChipsChanged):
                self.presenter.say(f"{sentence(event)}.")

    def _notify(self, words: str) -> None:
        """Show a desktop notification, without waiting for it."""
        self.background.run(lambda: notify(words), lambda _: None, lambda _: None)

    def _show_panel(self, looks: theme.Theme) -> None:
        """Put the icon into the desktop's panel, or take it away, as the person prefers."""
        if self.panel is not None:
            # Hidden first: deletion waits for the event loop, and two icons would be seen meanwhile.
            self.panel.icon.hide()
            self.panel.deleteLater()
            self.panel = None
        chosen = self.kept.chosen
        self.presenter.profiles.tell_rules = chosen.tell_rules
        if chosen.panel and self._has_panel():
            self.panel = Panel(self.presenter, looks, chosen.panel_number)
            self.panel.opened.connect(self.window.come_back)
            self.panel.ended.connect(self.end)
            self.panel.icon.show()
            self.window.when_closed = lambda: self.kept.chosen.when_closed
        elif chosen.panel:
            self.presenter.say(f"✕ {NO_PANEL}")
        # With the icon, a closed window is hidden, and the program lives on behind it.
        QApplication.setQuitOnLastWindowClosed(self.panel is None)

    def end(self) -> None:
        """End the program, whatever becomes of its window when that is closed."""
        self.window.when_closed = lambda: WhenClosed.END
        self.window.close()
        application().quit()

    def _start_at_login(self, *, wanted: bool) -> None:
        """Write or remove the entry that starts the program at login."""
        if self._at_login is None:
            if wanted:
                self.presenter.say("✕ Only for this computer can the program start at login; open the machine host.")
            return
        try:
            if wanted:
                self._at_login.enter()
            else:
                self._at_login.leave()
        except BoltError as fault:
            self.presenter.say(f"✕ {fault}")

    def _show_window(self) -> None:
        """Build the window in the theme that is preferred now."""
        app, chosen = application(), self.kept.chosen
        looks = self._given or {Looks.LIGHT: theme.LIGHT, Looks.DARK: theme.DARK}.get(chosen.looks) or theme_of(app)
        theme.apply(app, looks)
        Shown.clocks = chosen.clocks
        self.window = Window(self.presenter, looks, chosen)
        self.window.closing.connect(self.close)
        # From the event loop: the menu that asks is a child of the window that goes.
        self.window.machine_wanted.connect(lambda spec: QTimer.singleShot(0, partial(self.open_machine, spec)))
        self.window.preferred.connect(self.prefer)
        self.presenter.drifts.told.connect(lambda words: None if self.window.isActiveWindow() else self._notify(words))
        self._looks = looks
        self._show_panel(looks)

    def _replace_window(self) -> None:
        """Put another window in the place of the present one."""
        before = self.window
        # The window goes, the session stays.
        before.closing.disconnect(self.close)
        before.when_closed = lambda: WhenClosed.END
        self._show_window()
        self.window.setGeometry(before.geometry())
        self.window.show_view(before.view)
        if self.panel is not None and not before.isVisible():
            self.window.stay_in_panel()
        else:
            self.window.show()
        # After the new one is shown: with no window open, Qt would end the program.
        before.close()
        before.deleteLater()

    def open_machine(self, spec: str) -> None:
        """Open another machine in this window; what goes wrong is said, and the present one stays."""
        presenter = self.presenter
        at_work = (presenter.progress, presenter.records.series, presenter.searches.progress)
        if any(going is not None for going in at_work):
            presenter.say("✕ A run is in progress; stop it before you open another machine.")
            return
        if presenter.status.trial is not None:
            presenter.say("✕ A trial is running; keep it or put it back before you open another machine.")
            return
        if self._opener is None:
            presenter.say("✕ Another machine cannot be opened from this window.")
            return
        try:
            session = self._opener(spec)
        except (BoltError, OSError) as fault:
            presenter.say(f"✕ {fault}")
            return
        # The new machine is open before the old one is released: if it cannot be opened, nothing has happened.
        self._end_session()
        self._begin(session)
        self.kept.save(self.kept.chosen.with_recent(session.machine.spec))
        self._replace_window()

    def _after_freeze(self, sentence: str) -> None:
        """Start again as after the restart of a real machine: what was in the middle is told by its record."""
        self.presenter.say(f"✕ {sentence}")
        if self._opener is None:
            return
        spec = self.presenter.outline.spec
        # Ended first, other than with another machine: it is the same one, and its lock is still held.
        self._end_session()
        try:
            session = self._opener(spec)
        except (BoltError, OSError) as fault:
            self._closed = True
            self.presenter.say(f"✕ {sentence} {fault}")
            return
        self._begin(session)
        self._replace_window()
        self.presenter.say(f"✕ {sentence}")

    def prefer(self, chosen: Preferences) -> None:
        """Take other preferences over; the window is built anew where they change its looks."""
        before = self.kept.chosen
        self.window.preferences = chosen
        if trouble := self.kept.save(chosen):
            self.presenter.say(f"✕ {trouble}")
        if before.at_login != chosen.at_login:
            self._start_at_login(wanted=chosen.at_login)
        if (before.looks, before.clocks, before.run_facts) != (chosen.looks, chosen.clocks, chosen.run_facts):
            QTimer.singleShot(0, self._dress_anew)  # the dialog that asks is a child of the window that goes
        elif (before.panel, before.panel_number, before.tell_rules) != (
            chosen.panel, chosen.panel_number, chosen.tell_rules,
        ):  # fmt: skip
            self._show_panel(self._looks)

    def _dress_anew(self) -> None:
        self.presenter.release()
        self._replace_window()
        self.window.ask_preferences()

    def _end_session(self) -> None:
        """End the session: a run is kept as stopped, a trial of this window is put back."""
        self.presenter.release()
        trouble = self.thread.close()
        self.background.close()
        self.store.close()
        # The window is going, so there is no better place left for it.
        if trouble:
            print(trouble, file=sys.stderr)

    def close(self) -> None:
        """End the session, once."""
        if not self._closed:
            self._closed = True
            self._end_session()

    def tear_down(self) -> None:
        """Destroy the window at once, while Qt still stands."""
        if self.panel is not None:
            self.panel.icon.hide()
            self.panel.deleteLater()
        self.window.deleteLater()
        # Python would destroy widgets in any order at its end, some after the application that they need.
        QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)


def open_window(opener: Opener, machine: str, data: Path, view: str | None, *, hidden: bool = False) -> int:
    """Open the window on a machine and return the application's exit code.

    Args:
        opener: opens a session on a machine by its spec.
        machine: the spec of the first one.
        data: the data folder.
        view: shown first; the preferred one if None.
        hidden: only its icon in the panel is shown, where the desktop has one.

    Raises:
        BadInput: no such view, or no such machine.
        BoltError: the machine cannot be opened.
    """
    if view is not None and view not in dict(VIEWS):
        raise BadInput(f"There is no view “{view}”. Views: {', '.join(dict(VIEWS))}.")
    app = application()
    opened = DesktopApp(opener(machine), data, opener=opener)
    for number in ending_signals():
        signal.signal(number, lambda *_: app.quit())  # so that a trial is put back then, too
    first = FIRST_VIEW if opened.kept.first_start else opened.kept.chosen.start_view
    opened.window.show_view(view or (first if first in opened.window.views else "workbench"))
    opened.kept.save(opened.kept.chosen)
    if hidden and opened.panel is not None:
        opened.window.stay_in_panel()
    else:
        opened.window.show()
    try:
        return app.exec()
    finally:
        opened.close()
        opened.tear_down()
