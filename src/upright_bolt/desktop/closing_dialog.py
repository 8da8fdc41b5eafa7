"""Asks once what becomes of the program when its window is closed while its icon stands in the panel."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QWidget

from upright_bolt.desktop.widgets.basic import button, column, label
from upright_bolt.presentation.preferences import WhenClosed


class ClosingDialog(QDialog):
    """The question.

    Signals:
        chosen: a ``WhenClosed``, stay or end.
    """

    chosen = pyqtSignal(object)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Closing the window")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setMinimumWidth(420)
        layout = column(self, margins=(18, 16, 18, 14), gap=12)
        layout.addWidget(label("Shall the icon stay in the panel when the window is closed?", "strong", wraps=True))
        words = (
            "It goes on showing its number, and the window comes back from there. A trial goes on as well. Your answer "
            "is kept; the preferences change it."
        )
        layout.addWidget(label(words, "muted", wraps=True))
        foot = QHBoxLayout()
        foot.addStretch()
        self.end = button("End the program")
        self.stay = button("Stay in the panel", "main")
        for made, way in ((self.end, WhenClosed.END), (self.stay, WhenClosed.STAY)):
            made.clicked.connect(lambda _checked, way=way: self._choose(way))
            foot.addWidget(made)
        layout.addLayout(foot)
        self.stay.setFocus()

    def _choose(self, way: WhenClosed) -> None:
        self.close()
        self.chosen.emit(way)
