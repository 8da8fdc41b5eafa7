"""Asks before a protection is taken away."""

from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QWidget

from upright_bolt.desktop.widgets.basic import button, column, label
from upright_bolt.model.control import Control
from upright_bolt.presentation.presenter import Presenter


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
