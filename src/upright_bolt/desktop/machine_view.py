"""The Machine view: what this machine is, what can be set, which limit counts, what is closed and who closed it."""

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLayout, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from upright_bolt.analysis.effective_limits import effective_limits
from upright_bolt.desktop.pieces import button, column, heading, label, rule
from upright_bolt.desktop.readings import Readings
from upright_bolt.model.control import Control, ControlState
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.wording.notes import clause, sentence
from upright_bolt.wording.sheet import conflicts, effective, gaps_besides, scope

STATE_MARKS = {
    ControlState.SETTABLE: "● settable",
    ControlState.LOCKED: "■ locked",
    ControlState.READ_ONLY: "○ read-only",
    ControlState.ABSENT: "– absent",
}
HEADS = ("Control", "In force", "Stock", "Allowed", "State")
COPIED = "Copied"
COPY = "Copy as text"


class MachineView(QWidget):
    """The sheet."""

    def __init__(self, presenter: Presenter) -> None:
        super().__init__()
        self._presenter = presenter
        self._shown: tuple[object, ...] = ()
        inner = QWidget()
        layout = column(inner, margins=(24, 16, 24, 16), gap=10)
        layout.addLayout(self._head())
        layout.addLayout(self._identity())
        layout.addWidget(rule())
        self._odds = column(gap=4)
        layout.addLayout(self._odds)
        layout.addWidget(heading("What can be set"))
        self._grid = _grid(stretch=5, gap=7)
        layout.addLayout(self._grid)
        self.asking = Question(presenter)
        layout.addWidget(self.asking)
        layout.addWidget(rule())
        layout.addWidget(heading("What is closed, and by whom"))
        self._closed = _grid(stretch=1, gap=6)
        self._closed.setColumnStretch(0, 1)
        self._closed.setColumnStretch(1, 3)
        layout.addLayout(self._closed)
        layout.addWidget(rule())
        layout.addWidget(heading("What is measured"))
        self.readings = Readings(presenter)
        layout.addWidget(self.readings)
        layout.addStretch()
        area = QScrollArea()
        area.setWidget(inner)
        area.setWidgetResizable(True)
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(area)
        presenter.settings_changed.connect(lambda _: self.show_state())
        presenter.live.connect(lambda _: self.readings.show_state())
        self.show_state()

    def _head(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addWidget(heading("This machine"))
        row.addStretch()
        self.copy_button = button(COPY)
        self.copy_button.setToolTip("The whole sheet as plain text, for a bug report or a forum")
        self.copy_button.clicked.connect(self.copy)
        row.addWidget(self.copy_button)
        return row

    def copy(self) -> None:
        """Put the sheet on the clipboard as text."""
        board = QGuiApplication.clipboard()
        if board is not None:
            board.setText(self._presenter.sheet())
            self.copy_button.setText(COPIED)

    def _identity(self) -> QGridLayout:
        outline = self._presenter.outline
        identity = outline.identity
        kinds = ", ".join(f"{len(cpus)} on {name}" for name, cpus in outline.about.topology.kinds)
        rows = (
            ("Name", identity.name, "Opened as", f"{outline.word} ({outline.described})"),
            ("Maker", identity.vendor or "unknown", "Kernel", identity.kernel or "unknown"),
            ("Processor", identity.processor or "not named", "Scaling driver", identity.driver or "none"),
            (
                "Cores",
                f"{identity.cores or '?'} cores, {identity.threads or '?'} threads" + (f" ({kinds})" if kinds else ""),
                "Highest clock, ceiling",
                ", ".join(self._heights()) or "unknown",
            ),
        )
        grid = _grid(stretch=3, gap=6)
        for i, row in enumerate(rows):
            for j, text in enumerate(row):
                made = label(text, "muted" if j % 2 == 0 else "strong")
                made.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
                grid.addWidget(made, i, j)
        return grid

    def _heights(self) -> list[str]:
        outline = self._presenter.outline
        parts = []
        if outline.highest_mhz is not None:
            parts.append(f"{outline.highest_mhz / 1000:.1f} GHz")
        if outline.ceiling_c is not None:
            parts.append(f"{outline.ceiling_c:.0f} °C")
        return parts

    def show_state(self) -> None:
        """Show the controls as they stand, which limit counts, and what is at odds."""
        controls = self._presenter.controls
        at_odds = conflicts(self._presenter.outline.about, controls, self._presenter.status)
        wanted = (*controls.values(), *at_odds)
        if wanted == self._shown:
            return
        self._shown = wanted
        self.copy_button.setText(COPY)
        for layout in (self._grid, self._closed, self._odds):
            _empty(layout)
        self._add_odds(at_odds)
        for j, head in enumerate(HEADS):
            self._grid.addWidget(label(head, "muted"), 0, j)
        present = [control for control in controls.values() if control.state is not ControlState.ABSENT]
        for row, control in enumerate(present, start=1):
            self._add_control(control, row)
        if not present:
            self._grid.addWidget(label("Nothing: the reasons stand below."), 0, 0)
        self._add_closed(controls)

    def _add_odds(self, at_odds: list[str]) -> None:
        counts = effective(effective_limits(self._presenter.controls))
        if counts:
            self._odds.addWidget(heading("Which limit counts"))
            self._odds.addWidget(label(" ".join(counts), wraps=True))
        if at_odds:
            self._odds.addWidget(heading("At odds"))
            for words in at_odds:
                self._odds.addWidget(label(f"▲ {words}", "fault", wraps=True))
        if counts or at_odds:
            self._odds.addWidget(rule())

    def _add_control(self, control: Control, row: int) -> None:
        self._grid.addWidget(label(control.title, "strong"), row, 0)
        values = ["–" if v is None else control.show(v) for v in (control.in_force, control.stock)]
        if values[0] == values[1] and len(values[0]) > LONG_VALUE:
            values[1] = "the same"
        for j, text in enumerate((*values, scope(control)), start=1):
            self._grid.addWidget(label(text), row, j)
        self._grid.addWidget(label(STATE_MARKS[control.state]), row, 4)
        noted = control.note if control.settable else None
        words = control.declaration.hint if noted is None else sentence(noted)
        self._grid.addWidget(label(words, "muted" if noted is None else "", wraps=True), row, 5)
        if control.declaration.deliberate and control.settable and control.in_force == "on":
            take_away = button("Take away…")
            take_away.clicked.connect(lambda: self.asking.ask(control))
            self._grid.addWidget(take_away, row, 6)

    def _add_closed(self, controls: dict[str, Control]) -> None:
        by_state: dict[tuple[str, str], list[str]] = {}
        for control in controls.values():
            if not control.settable and control.note is not None:
                key = STATE_MARKS[control.state], sentence(control.note)
                by_state.setdefault(key, []).append(control.title)
        row = 0
        for (mark, reason), titles in by_state.items():
            self._closed.addWidget(label(", ".join(titles), "strong", wraps=True), row, 0)
            self._closed.addWidget(label(f"{mark}. {reason}", wraps=True), row, 1)
            row += 1
        for entry in gaps_besides(self._presenter.outline.about, controls):
            what, why = entry.about, clause(entry)
            self._closed.addWidget(label(what[0].upper() + what[1:], "strong", wraps=True), row, 0)
            self._closed.addWidget(label(why[0].upper() + why[1:] + ".", wraps=True), row, 1)
            row += 1
        if not row:
            self._closed.addWidget(label("Nothing: everything that this program knows is open here."), 0, 0)


LONG_VALUE = 20
"""Characters from which on a value that is still at stock is not written twice."""


class Question(QWidget):
    """Asks before a protection is taken away; the name of the control is to be typed."""

    def __init__(self, presenter: Presenter) -> None:
        super().__init__()
        self._presenter = presenter
        self._control: Control | None = None
        layout = column(self, margins=(0, 4, 0, 4), gap=6)
        self._words = label("", "fault", wraps=True)
        self.entry = QLineEdit()
        self.entry.setMaximumWidth(160)
        self.go = button("Switch it off as a trial")
        self.leave = button("Leave it on", "main")
        self.go.clicked.connect(self._do)
        self.leave.clicked.connect(self.hide)
        self.entry.textChanged.connect(self._look)
        row = QHBoxLayout()
        row.addWidget(self.entry)
        row.addWidget(self.go)
        row.addWidget(self.leave)
        row.addStretch()
        layout.addWidget(self._words)
        layout.addLayout(row)
        self.hide()

    def ask(self, control: Control) -> None:
        """Ask about one control."""
        self._control = control
        declared = control.declaration
        self._words.setText(f"{control.title}: {declared.hint} To go on, type {control.name} here.")
        self.entry.setAccessibleName(f"Type {control.name} to confirm")
        self.entry.clear()
        self._look()
        self.show()
        self.entry.setFocus()

    def _look(self) -> None:
        self.go.setEnabled(self._control is not None and self.entry.text().strip() == self._control.name)

    def _do(self) -> None:
        if self._control is not None:
            self._presenter.try_deliberate(self._control.name, "off")
        self.hide()


def _grid(*, stretch: int, gap: int) -> QGridLayout:
    grid = QGridLayout()
    grid.setHorizontalSpacing(22)
    grid.setVerticalSpacing(gap)
    grid.setColumnStretch(stretch, 1)
    return grid


def _empty(layout: QLayout | QVBoxLayout) -> None:
    while (item := layout.takeAt(0)) is not None:
        widget = item.widget()
        if widget is not None:
            widget.deleteLater()
