"""The Machine view: what this machine is, what can be set, which limit counts, what is closed and who closed it."""

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from upright_bolt.analysis.limits.effective_limits import effective_limits
from upright_bolt.desktop.widgets.basic import button, column, heading, label, rule
from upright_bolt.desktop.workbench.readings import Readings
from upright_bolt.model.control import Control, ControlState
from upright_bolt.model.quantity import CLOCK
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.sanitize import capital
from upright_bolt.text import graphics
from upright_bolt.text.notes import clause, sentence
from upright_bolt.text.report import conflicts, effective, gaps_besides, scope


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
            self._presenter.try_guarded(self._control.name, "off")
        self.hide()


COPIED = "Copied"
COPY = "Copy as text"
HEADS = ("Control", "In force", "Stock", "Allowed", "What it does")
VALUE_W, ALLOWED_W, NAME_W, NAMES_W = 92, 128, 168, 220
"""Widths of columns, so that the tables stand under each other; longer words take a second line."""
LONG_VALUE = 12
"""Characters from which on a value that is still at stock is not written twice."""


class MachineView(QWidget):
    """The sheet."""

    def __init__(self, presenter: Presenter) -> None:
        super().__init__()
        self._presenter = presenter
        self._shown: tuple[object, ...] = ()
        self._tables: QWidget | None = None
        inner = QWidget()
        self._layout = layout = column(inner, margins=(24, 16, 24, 16), gap=10)
        layout.addLayout(self._head())
        layout.addLayout(self._identity())
        layout.addWidget(rule())
        self._place = layout.count()
        self.asking = Question(presenter)
        layout.addWidget(self.asking)
        layout.addWidget(rule())
        layout.addWidget(heading("What is measured"))
        self.readings = Readings(presenter)
        layout.addWidget(self.readings)
        layout.addStretch()
        area = QScrollArea()
        area.setWidget(inner)
        area.setWidgetResizable(True)
        area.setAccessibleName("The machine's sheet")
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
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
            board.setText(self._presenter.machine_report())
            self.copy_button.setText(COPIED)

    def _identity(self) -> QGridLayout:
        outline = self._presenter.outline
        identity = outline.identity
        kinds = ", ".join(f"{len(cpus)} on {name}" for name, cpus in outline.about.topology.kinds)
        cores = f"{identity.cores or '?'} cores, {identity.threads or '?'} threads" + (f" ({kinds})" if kinds else "")
        rows = (
            ("Name", identity.name, "Opened as", f"{outline.spec} ({outline.described})"),
            ("Maker", identity.vendor or "unknown", "Kernel", identity.kernel or "unknown"),
            ("Processor", identity.processor or "not named", "Scaling driver", identity.driver or "none"),
            ("Cores", cores, "Highest clock, ceiling", ", ".join(self._heights()) or "unknown"),
        )
        grid = _grid(gap=6)
        grid.setColumnStretch(1, 2)
        grid.setColumnStretch(3, 3)
        for i, row in enumerate(rows):
            for j, text in enumerate(row):
                made = label(text, "muted") if j % 2 == 0 else label(text, "strong", wraps=True)
                made.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
                grid.addWidget(made, i, j)
        return grid

    def _heights(self) -> list[str]:
        outline = self._presenter.outline
        parts = []
        if outline.highest_mhz is not None:
            parts.append(CLOCK.show(outline.highest_mhz))
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
        if self._tables is not None:
            self._tables.hide()  # at once: it is deleted only later, and would be painted below the new one
            self._tables.deleteLater()
        self._tables = QWidget()
        layout = column(self._tables, gap=10)
        self._add_odds(layout, at_odds)
        self._add_settable(layout, [c for c in controls.values() if c.state is ControlState.SETTABLE])
        closed = [c for c in controls.values() if not c.settable]
        self._add_read_only(layout, [c for c in closed if c.current is not None])
        self._add_closed(layout, [c for c in closed if c.current is None])
        self._layout.insertWidget(self._place, self._tables)

    def _add_odds(self, layout: QVBoxLayout, at_odds: list[str]) -> None:
        counts = effective(effective_limits(self._presenter.controls))
        if counts:
            layout.addWidget(heading("Which limit counts"))
            layout.addWidget(label(" ".join(counts), wraps=True))
        if at_odds:
            layout.addWidget(heading("At odds"))
            for words in at_odds:
                layout.addWidget(label(f"▲ {words}", "fault", wraps=True))
        controls = self._presenter.controls
        if chips := self._presenter.outline.about.chips:
            layout.addWidget(heading("Graphics chips"))
            for chip in chips:
                layout.addWidget(label(graphics.line(chip, controls), wraps=True))
        if counts or at_odds or chips:
            layout.addWidget(rule())

    def _add_settable(self, layout: QVBoxLayout, controls: list[Control]) -> None:
        layout.addWidget(heading("● Can be set here"))
        if not controls:
            layout.addWidget(label("Nothing: the reasons stand below.", wraps=True))
            return
        grid = _table(HEADS, (NAME_W, VALUE_W, VALUE_W, ALLOWED_W, 0))
        for row, control in enumerate(controls, start=1):
            grid.addWidget(label(control.title, "strong", wraps=True), row, 0)
            for place, text in enumerate((*_values(control), scope(control)), start=1):
                grid.addWidget(label(text, wraps=True), row, place)
            hint = control.declaration.hint
            words = hint if control.note is None else f"{hint} {sentence(control.note)}"
            grid.addWidget(label(words, "muted", wraps=True), row, 4)
            if control.declaration.guarded and control.current == "on":
                take_away = button("Take away…")
                take_away.clicked.connect(lambda _checked, control=control: self.asking.ask(control))
                grid.addWidget(take_away, row, 5)
        layout.addLayout(grid)

    def _add_read_only(self, layout: QVBoxLayout, controls: list[Control]) -> None:
        """Show what holds a value that cannot be changed here, and who closed it."""
        if not controls:
            return
        layout.addWidget(rule())
        layout.addWidget(heading("○ Shown, but not to be set here"))
        grid = _table(("Control", "In force", "Why"), (NAME_W, VALUE_W, 0))
        for row, control in enumerate(controls, start=1):
            grid.addWidget(label(control.title, "strong", wraps=True), row, 0)
            grid.addWidget(label(control.show(control.current), wraps=True), row, 1)
            why = f"{capital(control.state.value)}. {sentence(control.note)}"
            grid.addWidget(label(why, "muted", wraps=True), row, 2)
        layout.addLayout(grid)

    def _add_closed(self, layout: QVBoxLayout, controls: list[Control]) -> None:
        """Show what is not there, those with one reason together."""
        layout.addWidget(rule())
        layout.addWidget(heading("– Closed or absent, and why"))
        reasons: dict[str, list[str]] = {}
        for control in controls:
            reasons.setdefault(sentence(control.note), []).append(control.title)
        rows = [(", ".join(titles), reason) for reason, titles in reasons.items()]
        for entry in gaps_besides(self._presenter.outline.about, self._presenter.controls):
            what, why = entry.about, clause(entry)
            rows.append((capital(what), capital(why) + "."))
        if not rows:
            layout.addWidget(label("Nothing: everything that this program knows is open here.", wraps=True))
            return
        grid = _table((), (NAMES_W, 0))
        for row, (what, why) in enumerate(rows):
            grid.addWidget(label(what, "strong", wraps=True), row, 0)
            grid.addWidget(label(why, wraps=True), row, 1)
        layout.addLayout(grid)


def _values(control: Control) -> tuple[str, str]:
    """Return what is in force and what is stock, in words."""
    current, stock = ("–" if v is None else control.show(v) for v in (control.current, control.stock))
    return current, "the same" if current == stock and len(stock) > LONG_VALUE else stock


def _table(heads: tuple[str, ...], widths: tuple[int, ...]) -> QGridLayout:
    """Return a grid with its heads; the column of width 0 takes what is left."""
    grid = _grid(gap=7)
    for place, width in enumerate(widths):
        if width:
            grid.setColumnMinimumWidth(place, width)
        grid.setColumnStretch(place, 0 if width else 1)
    for place, head in enumerate(heads):
        grid.addWidget(label(head, "muted"), 0, place)
    return grid


def _grid(*, gap: int) -> QGridLayout:
    grid = QGridLayout()
    grid.setHorizontalSpacing(20)
    grid.setVerticalSpacing(gap)
    return grid
