"""The settings column of the Workbench: every control, the draft in words, and the two buttons."""

from PyQt6.QtCore import QPointF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from upright_bolt.analysis.comparison.no_effect import without_effect
from upright_bolt.analysis.validation.evidence import Evidence
from upright_bolt.desktop.widgets.basic import Bounded, button, column, heading, label, rule
from upright_bolt.desktop.widgets.theme import Theme, font
from upright_bolt.desktop.workbench.control_row import ControlRow
from upright_bolt.desktop.workbench.gpu_section import ChipSection
from upright_bolt.model.catalogue import TOGETHER, part_of
from upright_bolt.model.control import Control, ControlState, Value, show_value
from upright_bolt.model.declaration import PanelGroup
from upright_bolt.model.graphics import Gpu
from upright_bolt.sanitize import small
from upright_bolt.text.notes import no_effect

NO_DRAFT = "No draft. What is shown is in force."
NOTHING_SETTABLE = "Nothing can be set on this machine; the Machine view says why."
MOST_DRAFT_PX, MOST_OUTCOME_PX = 150, 92
"""What is said below the controls scrolls beyond these heights: the controls keep their room."""
MARKS = ("stock", "in force", "draft", "run here")


class Legend(QWidget):
    """Which mark means what."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.setAccessibleName("Marks: hollow pin stock, block in force, diamond draft, dot where past runs ended well")

    def sizeHint(self) -> QSize:
        """Return room for the words."""
        return QSize(212, 16)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw the marks with their words."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(8.0))
        ink = QColor(self._theme.ink)
        x = 4.0
        for mark in MARKS:
            painter.setPen(QPen(ink, 1.3))
            painter.setBrush(QColor(self._theme.paper))
            if mark == "stock":
                painter.drawEllipse(QPointF(x, 5.5), 2.6, 2.6)
                painter.drawLine(QPointF(x, 8), QPointF(x, 13))
            elif mark == "in force":
                painter.fillRect(int(x) - 2, 3, 5, 10, ink)
            elif mark == "run here":
                painter.setBrush(ink)
                painter.drawEllipse(QPointF(x, 8), 1.8, 1.8)
            else:
                points = [QPointF(x, 3), QPointF(x + 5, 8), QPointF(x, 13), QPointF(x - 5, 8)]
                painter.drawPolygon(QPolygonF(points))
            painter.setPen(QColor(self._theme.muted))
            painter.drawText(QPointF(x + 8, 12), mark)
            x += 20 + painter.fontMetrics().horizontalAdvance(mark)
        painter.end()


class SettingsPanel(QWidget):
    """Shows the controls and collects the draft.

    Signals:
        drafted: control name to value or None, of one control or of two that count together.
        tried, dropped: the two buttons.
        tried_over: the draft is to be tried though it has failed on this chip.
        stock_wanted: the machine's own values are to be put back.
        reasons_wanted: a person asks why something is not on this machine.
        wake_wanted: a graphics chip is to be woken, so that its settings can be seen.
        curve_wanted: the clocks and voltages of a graphics chip are to be shown.
    """

    drafted = pyqtSignal(object)
    tried = pyqtSignal()
    tried_over = pyqtSignal()
    dropped = pyqtSignal()
    stock_wanted = pyqtSignal()
    reasons_wanted = pyqtSignal()
    wake_wanted = pyqtSignal(str)
    curve_wanted = pyqtSignal(str)

    def __init__(self, controls: dict[str, Control], theme: Theme, chips: tuple[Gpu, ...] = ()) -> None:
        super().__init__()
        self.rows: dict[str, ControlRow] = {}
        inner = QWidget()
        rows = column(inner, margins=(0, 0, 6, 0), gap=5)
        self.together = QCheckBox("Core and cache offset together")
        self.together.setToolTip("On a shared voltage rail the weaker of the two counts")
        self.together.setChecked(True)
        both = all(name in controls and controls[name].settable for name in TOGETHER)
        self.together.setVisible(both)
        for name in rows_of(controls):
            row = ControlRow(controls[name], theme)
            row.drafted.connect(self._take_draft)
            self.rows[name] = row
            if name == TOGETHER[0] and both:
                rows.addWidget(self.together)
            rows.addWidget(row)
        self.chips = [ChipSection(chip, theme, self._take_row) for chip in chips]
        for section in self.chips:
            section.wake_wanted.connect(self.wake_wanted)
            section.curve_wanted.connect(self.curve_wanted)
            section.show_controls(controls, {})
            rows.addWidget(section)
        self._missing = QWidget()
        self._add_missing(controls)
        rows.addWidget(self._missing)
        rows.addStretch()
        area = QScrollArea()
        area.setWidget(inner)
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._words = label("", wraps=True)
        self._outcome = label("", "muted", wraps=True)
        self.try_button = button("Try the draft", "main")
        self.drop_button = button("Drop the draft")
        self.try_button.clicked.connect(self.tried)
        self.drop_button.clicked.connect(self.dropped)
        layout = column(self, margins=(16, 10, 10, 10), gap=7)
        head = QHBoxLayout()
        head.addWidget(heading("Settings"))
        head.addStretch()
        head.addWidget(Legend(theme))
        layout.addLayout(head)
        layout.addWidget(area, 1)
        self._add_draft(layout)

    def _add_missing(self, controls: dict[str, Control]) -> None:
        """Say in one line what this machine lacks, with a way to the reasons."""
        names = ", ".join(small(title) for title in missing_of(controls))
        self._missing.setVisible(bool(names))
        lines = column(self._missing, margins=(0, 6, 0, 0), gap=3)
        lines.addWidget(rule())
        lines.addWidget(label(f"Not on this machine: {names}.", "muted", wraps=True))
        self.why_button = button("Why, in the Machine view")
        self.why_button.clicked.connect(self.reasons_wanted)
        lines.addWidget(self.why_button)

    def _add_draft(self, layout: QVBoxLayout) -> None:
        layout.addWidget(rule())
        layout.addWidget(Bounded(self._words, MOST_DRAFT_PX))
        buttons = QHBoxLayout()
        buttons.setSpacing(8)
        buttons.addWidget(self.try_button, 1)
        buttons.addWidget(self.drop_button, 1)
        layout.addLayout(buttons)
        self.over_button = button("Try it all the same")
        self.over_button.setToolTip("As a trial: it ends with this window, or a restart, and is never kept")
        self.over_button.clicked.connect(self.tried_over)
        self.over_button.hide()
        layout.addWidget(self.over_button)
        self.stock_button = button("Put the machine's own values back")
        self.stock_button.setToolTip("Ends a trial, and undoes what was kept")
        self.stock_button.clicked.connect(self.stock_wanted)
        layout.addWidget(self.stock_button)
        layout.addWidget(Bounded(self._outcome, MOST_OUTCOME_PX))

    def _take_row(self, name: str, row: ControlRow) -> None:
        """Take up a row that a chip's section has made."""
        row.drafted.connect(self._take_draft)
        self.rows[name] = row

    def _take_draft(self, name: str, value: object) -> None:
        """Pass a draft on; of controls that count together, to both."""
        both = name in TOGETHER and self.together.isVisibleTo(self) and self.together.isChecked()
        self.drafted.emit(dict.fromkeys(TOGETHER, value) if both else {name: value})

    def focus_first(self) -> None:
        """Put the focus on the first control that can be set."""
        for row in self.rows.values():
            target = row.strip or row.entry
            if target is not None and target.isEnabled():
                target.setFocus()
                return

    def show_evidence(self, evidence: dict[str, tuple[Evidence, ...]]) -> None:
        """Show on every strip what past runs proved and where they broke."""
        for name, row in self.rows.items():
            row.show_evidence(evidence.get(name, ()))

    def show_controls(self, controls: dict[str, Control], draft: dict[str, Value]) -> None:
        """Show all controls as they stand, and the draft."""
        for name, row in self.rows.items():
            if name in controls and not part_of(name):
                row.show_control(controls[name], draft.get(name))
        for section in self.chips:
            section.show_controls(controls, draft)
        changed = any(c.stock is not None and c.current != c.stock for c in controls.values() if c.settable)
        self.stock_button.setVisible(changed)
        self._show_draft_line(controls, draft)

    def show_draft(self, name: str, controls: dict[str, Control], draft: dict[str, Value]) -> None:
        """Show that the draft of one control has changed."""
        row = self.rows.get(name)
        if row is not None:
            row.show_draft(draft.get(name))
        self._show_draft_line(controls, draft)

    def show_outcome(self, sentence: str, *, doubted: bool = False) -> None:
        """Show what became of the last thing asked; a draft that is ``doubted`` can be tried all the same."""
        self._outcome.setText(sentence)
        self.over_button.setVisible(doubted)

    def show_ground(self, failed_at: dict[str, float]) -> None:
        """Show on the strips from where on something has failed on this chip."""
        for name, row in self.rows.items():
            if row.strip is not None:
                row.strip.show_ground(failed_at.get(name))

    def _show_draft_line(self, controls: dict[str, Control], draft: dict[str, Value]) -> None:
        """Show the draft in words, and whether it can be tried."""
        changes = [
            f"{name} {show_value(name, controls[name].current)} → {show_value(name, value)}"
            for name, value in draft.items()
        ]
        words = f"Draft: {', '.join(changes)}"
        if draft:
            after = {name: control.current for name, control in controls.items()} | draft
            for entry in without_effect(draft, after):
                words += f"\n≠ {no_effect(entry)}"
        if not changes:
            settable = any(control.settable for control in controls.values())
            words = NO_DRAFT if settable else NOTHING_SETTABLE
        self._words.setText(words)
        self.try_button.setEnabled(bool(draft))
        self.drop_button.setEnabled(bool(draft))


def rows_of(controls: dict[str, Control]) -> list[str]:
    """Return the controls that have a row, in the panel's order: those that the machine has."""
    return [
        control.name
        for control in _in_order(controls)
        if control.declaration.panel is not PanelGroup.DELIBERATE
        and control.state is not ControlState.ABSENT
        and not part_of(control.name)
    ]


def missing_of(controls: dict[str, Control]) -> list[str]:
    """Return the titles of the daily controls that the machine lacks, in the panel's order."""
    return [
        control.title
        for control in _in_order(controls)
        if control.declaration.panel is PanelGroup.DAILY and control.state is ControlState.ABSENT
    ]


def _in_order(controls: dict[str, Control]) -> list[Control]:
    return sorted(controls.values(), key=lambda control: (control.declaration.panel_order, control.name))
