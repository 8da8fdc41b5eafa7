"""The controls of one graphics chip in the settings column: which chip it is, whether it sleeps, and its rows."""

from collections.abc import Callable, Mapping

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from upright_bolt.analysis.clock_voltage import MOVERS, can_set
from upright_bolt.desktop.widgets.basic import button, column, label, rule
from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.desktop.workbench.control_row import ControlRow
from upright_bolt.model.catalogue import part_of
from upright_bolt.model.control import Control, ControlState, Value
from upright_bolt.model.declaration import PanelGroup
from upright_bolt.model.graphics import Gpu
from upright_bolt.sanitize import capital
from upright_bolt.text.graphics import asleep, told_apart

ASLEEP = "Asleep. Nothing of it is read, so that it stays so."
AS_LAST_SEEN = "Asleep; its settings are shown as they were last. Trying a draft wakes it."


class ChipSection(QWidget):
    """Shows a chip's controls once they have been seen awake; from then on as they were seen last.

    Signals:
        wake_wanted: the chip is to be woken, so that its settings can be seen.
        curve_wanted: its clocks and voltages are to be shown.
    """

    wake_wanted = pyqtSignal(str)
    curve_wanted = pyqtSignal(str)

    def __init__(self, chip: Gpu, theme: Theme, made: Callable[[str, ControlRow], None]) -> None:
        super().__init__()
        self._chip = chip
        self._theme = theme
        self._made = made
        self._seen: dict[str, Control] = {}
        self.rows: dict[str, ControlRow] = {}
        self._layout = column(self, margins=(0, 6, 0, 0), gap=5)
        self._layout.addWidget(rule())
        self._layout.addWidget(label(f"Graphics chip {chip.part}", "strong"))
        self._layout.addWidget(label(f"{capital(told_apart(chip))}.", "muted", wraps=True))
        self._state = label("", wraps=True)
        self.wake_button = button("Wake it to see its settings")
        self.wake_button.setAccessibleName(f"Wake {chip.part} to see its settings")
        self.wake_button.clicked.connect(lambda: self.wake_wanted.emit(chip.part))
        self.curve_button = button("Clock and voltage…")
        self.curve_button.setAccessibleName(f"Clock and voltage of {chip.part}")
        self.curve_button.clicked.connect(lambda: self.curve_wanted.emit(chip.part))
        self._layout.addWidget(self._state)
        for pressed in (self.wake_button, self.curve_button):
            line = QHBoxLayout()
            line.addWidget(pressed)
            line.addStretch()
            self._layout.addLayout(line)

    def show_controls(self, controls: Mapping[str, Control], draft: Mapping[str, Value]) -> None:
        """Show the chip's controls as they stand, or as they were seen last, and the draft."""
        own = {name: control for name, control in controls.items() if part_of(name) == self._chip.part}
        sleeps = asleep(self._chip, own)
        for name in _in_order(own):
            control = own[name]
            if control.state is not ControlState.ASLEEP:
                self._seen[name] = control
            seen = self._seen.get(name)
            if seen is not None and seen.state is not ControlState.ABSENT:
                self._row(seen).show_control(seen, draft.get(name))
        self._state.setText(AS_LAST_SEEN if self.rows else ASLEEP)
        self._state.setVisible(sleeps)
        self.wake_button.setVisible(sleeps and not self.rows)
        self.curve_button.setVisible(any(can_set(own, self._chip.part, mover) for mover in MOVERS))

    def _row(self, control: Control) -> ControlRow:
        if control.name not in self.rows:
            row = ControlRow(control, self._theme)
            self.rows[control.name] = row
            self._layout.addWidget(row)
            self._made(control.name, row)
        return self.rows[control.name]


def _in_order(controls: Mapping[str, Control]) -> list[str]:
    shown = [c for c in controls.values() if c.declaration.panel is not PanelGroup.DELIBERATE]
    return [control.name for control in sorted(shown, key=lambda control: control.declaration.panel_order)]
