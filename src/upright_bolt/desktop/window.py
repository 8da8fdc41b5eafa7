"""The window: rail, strip and views around one presenter."""

from PyQt6.QtCore import QEvent, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QKeySequence, QShortcut
from PyQt6.QtWidgets import QHBoxLayout, QMainWindow, QStackedWidget, QWidget

from upright_bolt.desktop.compare_view import CompareView
from upright_bolt.desktop.icons import app_icon
from upright_bolt.desktop.machine_view import MachineView
from upright_bolt.desktop.pieces import column, rule
from upright_bolt.desktop.rail import Rail
from upright_bolt.desktop.strip import TopStrip
from upright_bolt.desktop.theme import Theme
from upright_bolt.desktop.workbench import Workbench
from upright_bolt.presentation.presenter import Presenter

SIZE = (1280, 800)


class Window(QMainWindow):
    """The one window.

    Signals:
        closing: the person closes it; a trial is about to be put back.
    """

    closing = pyqtSignal()

    def __init__(self, presenter: Presenter, theme: Theme) -> None:
        super().__init__()
        self.presenter = presenter
        self.setWindowTitle(presenter.outline.identity.name)  # Qt adds the program's name
        self.setWindowIcon(app_icon(theme.rail, theme.rail_mark))
        self.resize(*SIZE)
        self.rail = Rail(theme)
        self.strip = TopStrip(presenter)
        self.strip.source_clicked.connect(presenter.plug)
        self.machine = MachineView(presenter)
        self.workbench = Workbench(presenter, theme)
        self.compare = CompareView(presenter, theme)
        self.workbench.run.compared.connect(self._open_both)
        self.workbench.reasons_wanted.connect(lambda: self.show_view("machine"))
        self._views: dict[str, QWidget] = {
            "machine": self.machine,
            "workbench": self.workbench,
            "compare": self.compare,
        }
        self._stack = QStackedWidget()
        for view in self._views.values():
            self._stack.addWidget(view)
        self.rail.chosen.connect(self.show_view)
        ground = QWidget()
        layout = QHBoxLayout(ground)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.rail)
        inner = column(gap=0)
        inner.addWidget(self.strip)
        inner.addWidget(rule())
        inner.addWidget(self._stack, 1)
        layout.addLayout(inner, 1)
        self.setCentralWidget(ground)
        QShortcut(QKeySequence("Ctrl+Return"), self, presenter.try_draft)
        QShortcut(QKeySequence("Ctrl+Backspace"), self, presenter.put_back)
        self.show_view("workbench")
        self.workbench.setFocus()
        presenter.load_runs()

    def show_view(self, name: str) -> None:
        """Show a view."""
        self.rail.mark(name)
        self._stack.setCurrentWidget(self._views[name])
        if name == "compare":
            self.compare.runs.list.setFocus()
        if name == "workbench":
            self.workbench.show_state()

    @property
    def views(self) -> tuple[str, ...]:
        """The names of the views."""
        return tuple(self._views)

    def _open_both(self) -> None:
        row, _ = self.presenter.against_baseline()
        if row is not None and self.presenter.baseline_id is not None:
            self.compare.choose([self.presenter.baseline_id, row.run.id])
            self.show_view("compare")

    def changeEvent(self, event: QEvent | None) -> None:
        """Sample more rarely and draw nothing while minimised."""
        if event is not None and event.type() == QEvent.Type.WindowStateChange:
            self.presenter.set_hidden(hidden=self.isMinimized())
        super().changeEvent(event)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Tell that the session must end."""
        self.closing.emit()
        super().closeEvent(event)
