"""The bar that leads through the first steps on a machine, until they are done or it is put away."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from upright_bolt.desktop.widgets.basic import Elided, button, restyle
from upright_bolt.presentation.first_steps import STEPS, Progress


class FirstStepsBar(QWidget):
    """The steps in a row: what is done has a tick, the next one is strong and has a button.

    Signals:
        taken: a step's number, by its button.
        closed: it is to be put away.
    """

    taken = pyqtSignal(int)
    closed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("role", "guide")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 5, 14, 5)
        row.setSpacing(14)
        self.steps = [Elided(words, "muted") for words, _ in STEPS]
        for step in self.steps:
            row.addWidget(step)
        row.addStretch()
        self.go = button("", "main")
        self.go.clicked.connect(self._take)
        self.away = button("Put away")
        self.away.setToolTip("Help (F1) has the loop of work as well")
        self.away.clicked.connect(self.closed)
        row.addWidget(self.go)
        row.addWidget(self.away)
        self._step: int | None = None
        self.hide()

    def _take(self) -> None:
        if self._step is not None:
            self.taken.emit(self._step)

    def show_progress(self, progress: Progress | None) -> None:
        """Show how far a person has come; hide where there is nothing to lead through any more."""
        self._step = None if progress is None else progress.next
        self.setVisible(self._step is not None)
        if progress is None or self._step is None:
            return
        for number, step in enumerate(self.steps):
            words = STEPS[number][0]
            step.setText(f"✓ {words}" if progress.done[number] else f"{number + 1}  {words}")
            restyle(step, "role", "strong" if number == self._step else "muted")
        self.go.setText(STEPS[self._step][1])
