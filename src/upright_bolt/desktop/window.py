"""The window: rail, strip and views around one presenter."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QEvent, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QShortcut
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QMainWindow, QStackedWidget, QWidget

from upright_bolt.desktop.closing_dialog import ClosingDialog
from upright_bolt.desktop.compare.view import CompareView
from upright_bolt.desktop.first_steps_bar import FirstStepsBar
from upright_bolt.desktop.header_bar import TopStrip
from upright_bolt.desktop.help_dialog import HelpDialog
from upright_bolt.desktop.machine_button import word_of_file
from upright_bolt.desktop.machine_view import MachineView
from upright_bolt.desktop.preferences_dialog import PreferencesDialog
from upright_bolt.desktop.profiles.view import ProfilesView
from upright_bolt.desktop.shortcuts import SHORTCUTS
from upright_bolt.desktop.sidebar import Rail
from upright_bolt.desktop.stability.view import EdgeView
from upright_bolt.desktop.widgets.basic import Bounded, column, label, rule
from upright_bolt.desktop.widgets.icons import app_icon
from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.desktop.workbench.view import Workbench
from upright_bolt.model.start import Start
from upright_bolt.presentation import first_steps
from upright_bolt.presentation.preferences import Preferences, WhenClosed
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.presentation.run_starter import RunRequest

SIZE = (1280, 800)
MOST_OUTCOME_PX, LEAST_OUTCOME_PX = 48, 16
CAPTURES = "Captures (*.tar.gz *.tgz);;All files (*)"


class WithOutcome(QWidget):
    """A view, and below it what became of the last thing asked; the Workbench has a place of its own for that."""

    def __init__(self, view: QWidget, presenter: Presenter) -> None:
        super().__init__()
        self._presenter = presenter
        self._words = label("", "muted", wraps=True)
        self._foot = QWidget()
        column(self._foot, margins=(16, 2, 14, 4)).addWidget(Bounded(self._words, MOST_OUTCOME_PX, LEAST_OUTCOME_PX))
        layout = column(self, gap=0)
        layout.addWidget(view, 1)
        layout.addWidget(self._foot)
        presenter.said.connect(lambda _: self._show_outcome())
        self._show_outcome()

    def _show_outcome(self) -> None:
        said = self._presenter.outcome
        self._words.setText(said)
        self._foot.setVisible(bool(said))


class Window(QMainWindow):
    """The one window.

    Signals:
        closing: the person closes it; a trial is about to be put back.
        machine_wanted: the spec of another machine to be opened.
        preferred: other ``Preferences``.
    """

    closing = pyqtSignal()
    machine_wanted = pyqtSignal(str)
    preferred = pyqtSignal(object)

    def __init__(self, presenter: Presenter, theme: Theme, preferences: Preferences | None = None) -> None:
        super().__init__()
        self.presenter = presenter
        self.preferences = preferences or Preferences()
        self._looked = False
        self._told = ""
        self.when_closed: Callable[[], WhenClosed] = lambda: WhenClosed.END
        self.setWindowTitle(presenter.outline.identity.name)  # Qt adds the program's name
        self.setWindowIcon(app_icon(theme.rail, theme.rail_mark))
        self.setAcceptDrops(True)
        self.resize(*SIZE)
        self.rail = Rail(theme)
        self.strip = TopStrip(presenter, self.preferences.recent)
        self.strip.source_clicked.connect(presenter.plug)
        self.strip.machine.wanted.connect(self.machine_wanted)
        self.strip.machine.file_wanted.connect(self.open_capture)
        self.steps = FirstStepsBar()
        self.steps.taken.connect(self._take_step)
        self.steps.closed.connect(self._put_steps_away)
        self.machine = MachineView(presenter)
        self.workbench = Workbench(presenter, theme)
        self.edge = EdgeView(presenter, theme)
        self.edge.drafted.connect(lambda: self.show_view("workbench"))
        self.edge.compared.connect(self._open_search)
        self.edge.rehearsed.connect(self.machine_wanted)
        self.compare = CompareView(presenter, theme, self.preferences.run_facts)
        self.profiles = ProfilesView(presenter, theme)
        self.strip.new_profile_wanted.connect(self.profiles.ask_name)
        self.profiles.measuring.connect(lambda: self.show_view("workbench"))
        self.workbench.run.compared.connect(self._open_both)
        self.workbench.reasons_wanted.connect(lambda: self.show_view("machine"))
        self._views: dict[str, QWidget] = {
            "machine": WithOutcome(self.machine, presenter),
            "workbench": self.workbench,
            "edge": WithOutcome(self.edge, presenter),
            "compare": WithOutcome(self.compare, presenter),
            "profiles": WithOutcome(self.profiles, presenter),
        }
        self._stack = QStackedWidget()
        for view in self._views.values():
            self._stack.addWidget(view)
        self._arrange()
        for entry in SHORTCUTS:
            if entry.does:
                QShortcut(QKeySequence(entry.keys), self, self._what(entry.does))
        self.rail.chosen.connect(self.show_view)
        self.rail.help_wanted.connect(self.help)
        self.rail.preferences_wanted.connect(self.ask_preferences)
        self.show_view("workbench")
        self.workbench.setFocus()
        presenter.runs.changed.connect(lambda _: self._show_steps())
        presenter.searches.changed.connect(lambda _: self._tell_story())
        presenter.settings_changed.connect(lambda _: self._show_steps())
        presenter.live.connect(lambda _: self.steps.go.setEnabled(presenter.progress is None))
        presenter.runs.load()

    def _what(self, does: str) -> Callable[[], None]:
        """Return what a shortcut does: a method of the window, or else of the presenter."""
        found: Callable[[], None] = getattr(self, does, None) or getattr(self.presenter, does)
        return found

    def _arrange(self) -> None:
        ground = QWidget()
        layout = QHBoxLayout(ground)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.rail)
        inner = column(gap=0)
        inner.addWidget(self.strip)
        inner.addWidget(rule())
        inner.addWidget(self.steps)
        inner.addWidget(self._stack, 1)
        layout.addLayout(inner, 1)
        self.setCentralWidget(ground)

    def show_view(self, name: str) -> None:
        """Show a view."""
        self.rail.mark(name)
        self._stack.setCurrentWidget(self._views[name])
        if name == "compare":
            self.compare.runs.list.setFocus()
        if name == "workbench":
            self.workbench.show_state()
        if name == "machine" and not self._looked:
            self._looked = True
            self._show_steps()

    @property
    def views(self) -> tuple[str, ...]:
        """The names of the views."""
        return tuple(self._views)

    @property
    def view(self) -> str:
        """The name of the view in sight."""
        return next(name for name, view in self._views.items() if view is self._stack.currentWidget())

    def _tell_story(self) -> None:
        """Show what happened to a search while this program was away, once."""
        story = self.presenter.searches.story
        if story and story != self._told:
            self.show_view("edge")
        self._told = story

    def _open_both(self) -> None:
        row, _ = self.presenter.runs.against_baseline(self.presenter.progress)
        if row is not None and self.presenter.runs.baseline_id is not None:
            self.compare.choose([self.presenter.runs.baseline_id, row.run.id])
            self.show_view("compare")

    def _open_search(self, number: int, run_ids: list[int]) -> None:
        self.compare.show_search(number, run_ids)
        self.show_view("compare")

    # the first steps

    def _show_steps(self) -> None:
        presenter = self.presenter
        spec = presenter.outline.spec
        if spec in self.preferences.guided or presenter.outline.no_load:
            self.steps.hide()
            return
        found = first_steps.progress(
            presenter.runs.all, presenter.controls, presenter.status, spec, looked=self._looked
        )
        if found is not None and found.next is None:
            self._put_steps_away()
        self.steps.show_progress(found)

    def _put_steps_away(self) -> None:
        self.steps.hide()
        self._prefer(self.preferences.with_guided(self.presenter.outline.spec))

    def _take_step(self, step: int) -> None:
        if step == first_steps.LOOK:
            self.show_view("machine")
            return
        self.show_view("workbench")
        if step == first_steps.CHANGE:
            self.workbench.settings.focus_first()
        elif self.presenter.progress is None:
            label = "Stock, rested" if step == first_steps.BASELINE else ""
            self.presenter.start_asked(RunRequest("steady", "10 min", label, start=Start.RESTED))

    # other machines, preferences, help

    def open_capture(self) -> None:
        """Let the person choose a capture, and open it."""
        path, _ = QFileDialog.getOpenFileName(self, "Open a capture of another machine", "", CAPTURES)
        if path:
            self.machine_wanted.emit(word_of_file(Path(path)))

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Take a capture, or a folder with kernel files."""
        if event is not None and _dropped(event) is not None:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Open what was dropped."""
        path = _dropped(event) if event is not None else None
        if event is not None and path is not None:
            event.acceptProposedAction()
            self.machine_wanted.emit(word_of_file(path))

    def _prefer(self, preferences: Preferences) -> None:
        self.preferences = preferences
        self.preferred.emit(preferences)

    def ask_preferences(self) -> None:
        """Let the person choose."""
        dialog = PreferencesDialog(self, self.preferences)
        dialog.changed.connect(self._prefer)
        dialog.show()

    def help(self, name: str = "") -> None:
        """Show the help on the view in sight, or a page of it."""
        HelpDialog(self, name or self.view).show()

    def list_shortcuts(self) -> None:
        """Show the keyboard's shortcuts."""
        self.help("shortcuts")

    def changeEvent(self, event: QEvent | None) -> None:
        """Sample more rarely and draw nothing while minimised."""
        if event is not None and event.type() == QEvent.Type.WindowStateChange:
            self.presenter.set_hidden(hidden=self.isMinimized())
        super().changeEvent(event)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Tell that the session must end; or stay in the panel, where the person wants that."""
        way = self.when_closed()
        if event is not None and way is not WhenClosed.END:
            event.ignore()
            if way is WhenClosed.ASK:
                self._ask_about_closing()
            else:
                self.stay_in_panel()
            return
        self.closing.emit()
        super().closeEvent(event)

    def stay_in_panel(self) -> None:
        """Hide the window; the icon in the panel stays."""
        self.hide()
        self.presenter.set_hidden(hidden=True)

    def come_back(self) -> None:
        """Show the window again."""
        self.presenter.set_hidden(hidden=False)
        self.show()
        self.raise_()
        self.activateWindow()

    def _ask_about_closing(self) -> None:
        dialog = ClosingDialog(self)
        dialog.chosen.connect(self._close_as)
        dialog.show()

    def _close_as(self, way: WhenClosed) -> None:
        self._prefer(replace(self.preferences, when_closed=way))
        self.when_closed = lambda: way
        self.close()


def _dropped(event: QDropEvent) -> Path | None:
    """Return the one file or folder of this computer that is dropped."""
    data = event.mimeData()
    urls = [url for url in data.urls() if url.isLocalFile()] if data is not None else []
    return Path(urls[0].toLocalFile()) if len(urls) == 1 else None
