"""The Machine view: what this machine is, what can be set, what cannot and who forbids it."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from upright_bolt.desktop.pieces import column, heading, label, rule
from upright_bolt.desktop.presenter import Presenter
from upright_bolt.desktop.readings import Readings
from upright_bolt.model.control import Control, ControlState

STATE_MARKS = {
    ControlState.SETTABLE: "● settable",
    ControlState.LOCKED: "■ locked",
    ControlState.READ_ONLY: "○ read-only",
    ControlState.ABSENT: "– absent",
}
HEADS = ("Control", "In force", "Stock", "Allowed", "State")


class MachineView(QWidget):
    """The sheet."""

    def __init__(self, presenter: Presenter) -> None:
        super().__init__()
        self._presenter = presenter
        self._shown: tuple[object, ...] = ()
        inner = QWidget()
        layout = column(inner, margins=(24, 16, 24, 16), gap=10)
        layout.addWidget(heading("This machine"))
        layout.addLayout(self._identity())
        layout.addWidget(rule())
        layout.addWidget(heading("What can be set"))
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(22)
        self._grid.setVerticalSpacing(7)
        self._grid.setColumnStretch(5, 1)
        layout.addLayout(self._grid)
        layout.addWidget(rule())
        layout.addWidget(heading("What is measured"))
        self.readings = Readings(presenter)
        layout.addWidget(self.readings)
        if presenter.outline.missing:
            layout.addWidget(rule())
            layout.addWidget(heading("Not there, and why"))
            self._add_missing(layout)
        layout.addStretch()
        area = QScrollArea()
        area.setWidget(inner)
        area.setWidgetResizable(True)
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(area)
        presenter.on_change(self.show_state)
        self.show_state()

    def _identity(self) -> QGridLayout:
        outline = self._presenter.outline
        identity = outline.identity
        rows = (
            ("Name", identity.name, "Opened as", f"{outline.word} ({outline.described})"),
            ("Maker", identity.vendor or "not told", "Kernel", identity.kernel or "not told"),
            ("Processor", identity.processor or "not named", "Scaling driver", identity.driver or "none"),
            (
                "Cores",
                f"{identity.cores or '?'} cores, {identity.threads or '?'} threads",
                "Highest clock, ceiling",
                ", ".join(self._heights()) or "not told",
            ),
        )
        grid = QGridLayout()
        grid.setHorizontalSpacing(18)
        grid.setVerticalSpacing(6)
        grid.setColumnStretch(3, 1)
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

    def _add_missing(self, layout: QVBoxLayout) -> None:
        grid = QGridLayout()
        grid.setHorizontalSpacing(22)
        grid.setVerticalSpacing(6)
        grid.setColumnStretch(1, 1)
        for row, entry in enumerate(self._presenter.outline.missing):
            grid.addWidget(label(entry.what[0].upper() + entry.what[1:], "strong"), row, 0)
            grid.addWidget(label(entry.why[0].upper() + entry.why[1:] + ".", wraps=True), row, 1)
        layout.addLayout(grid)

    def show_state(self) -> None:
        """Show the controls as they stand."""
        controls = self._presenter.controls
        self.readings.show_state()
        wanted = tuple(controls.values())
        if wanted == self._shown:
            return
        self._shown = wanted
        while (item := self._grid.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        for j, head in enumerate(HEADS):
            self._grid.addWidget(label(head, "muted"), 0, j)
        row = 1
        for control in controls.values():
            row = self._add_control(control, row)

    def _add_control(self, control: Control, row: int) -> int:
        self._grid.addWidget(label(control.declaration.title, "strong"), row, 0)
        scope = " or ".join(control.choices)
        if control.minimum is not None and control.maximum is not None:
            scope = f"{control.show(control.minimum)} to {control.show(control.maximum)}"
        values = ["–" if v is None else control.show(v) for v in (control.in_force, control.stock)]
        for j, text in enumerate((*values, scope), start=1):
            self._grid.addWidget(label(text), row, j)
        self._grid.addWidget(label(STATE_MARKS[control.state]), row, 4)
        words = control.reason or control.declaration.hint
        self._grid.addWidget(label(words, "" if control.reason else "muted", wraps=True), row, 5)
        return row + 1
