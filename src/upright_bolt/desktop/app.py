"""Putting the window together, and taking it down again in the right order."""

import gc
import signal
import sys
from functools import cache
from pathlib import Path

from PyQt6.QtCore import QCoreApplication, QEvent, Qt
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication

from upright_bolt.desktop import theme
from upright_bolt.desktop.background import BackgroundWorker
from upright_bolt.desktop.session_thread import SessionThread
from upright_bolt.desktop.window import Window
from upright_bolt.errors import BadInput
from upright_bolt.presentation.outline import outline_of
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.session.session import Session
from upright_bolt.store.runs import RunStore


@cache
def application() -> QApplication:
    """Return the one Qt application, made if there is none.

    Kept until the process ends: Qt crashes if it goes before the last widget.
    """
    running = QApplication.instance()
    if isinstance(running, QApplication):
        return running
    made = QApplication(sys.argv[:1])
    made.setApplicationName("upright-bolt")
    made.setApplicationDisplayName("Upright Bolt")
    made.setDesktopFileName("org.upright_bolt.UprightBolt")
    made.setWindowIcon(QIcon(str(Path(__file__).with_name("icon.svg"))))
    return made


def theme_of(app: QApplication) -> theme.Theme:
    """Return the theme that fits the desktop's own."""
    hints = app.styleHints()
    dark = hints is not None and hints.colorScheme() == Qt.ColorScheme.Dark
    return theme.DARK if dark else theme.LIGHT


SWITCH_S = 0.001
"""How long the session's thread may compute before the window gets its turn; Python's own 5 ms add up to stutter."""


class DesktopApp:
    """A window with its thread and store around a session.

    Args:
        session: holds the machine; it belongs to the window from now on.
        data: the data folder.
        given: the theme; the desktop's own if None.
    """

    def __init__(self, session: Session, data: Path, given: theme.Theme | None = None) -> None:
        app = application()
        chosen = given or theme_of(app)
        theme.apply(app, chosen)
        self.store = RunStore(data / "runs.sqlite")
        self.store.mark_unfinished(session.machine.word, session.boot_id)
        if session.machine.set_pace is not None:
            session.machine.set_pace(1.0)
        outline = outline_of(session)
        controls = session.controls()
        self.thread = SessionThread(session)
        self.background = BackgroundWorker()
        self.presenter = Presenter(outline, self.thread, self.background, self.store, controls)
        self.thread.snapshot.connect(self.presenter.take)
        self.thread.failed.connect(self.presenter.say)
        self.window = Window(self.presenter, chosen)
        self.window.closing.connect(self.close)
        self._closed = False
        sys.setswitchinterval(SWITCH_S)
        gc.collect()
        gc.freeze()  # what stands now stays: going through it again and again costs 50 ms a time
        self.thread.start()

    def close(self) -> None:
        """End the session: a run is kept as stopped, a trial of this window is put back."""
        if self._closed:
            return
        self._closed = True
        self.presenter.let_go()
        trouble = self.thread.close()
        self.background.close()
        self.store.close()
        if trouble:
            print(trouble, file=sys.stderr)

    def tear_down(self) -> None:
        """Destroy the window at once, while Qt still stands."""
        self.window.deleteLater()
        QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)


def open_window(session: Session, data: Path, view: str) -> int:
    """Open the window on a session and return the application's exit code.

    Raises:
        BadInput: no such view.
    """
    app = application()
    opened = DesktopApp(session, data)
    if view not in opened.window.views:
        opened.close()
        raise BadInput(f"There is no view “{view}”. Views: {', '.join(opened.window.views)}.")
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: app.quit())  # so that a trial is put back then, too
    opened.window.show_view(view)
    opened.window.show()
    try:
        return app.exec()
    finally:
        opened.close()
        opened.tear_down()
