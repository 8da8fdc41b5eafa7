"""The machine's name on the strip: a button that opens another machine."""

from collections.abc import Sequence
from pathlib import Path
from secrets import randbelow

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QMenu, QPushButton

from upright_bolt.simulator.chip import TWINS

INDIVIDUALS = 9999
"""Another one of a simulated machine is one of so many; any number up to nine digits may be typed."""


def word_of_file(path: Path) -> str:
    """Return the spec under which a capture, or a folder with kernel files, is opened."""
    return f"tree:{path}"


class MachineButton(QPushButton):
    """A button with a menu: this computer, simulated laptops to practise on, captures of other machines.

    Signals:
        wanted: a machine's spec.
        file_wanted: a person wants to choose a capture.
    """

    wanted = pyqtSignal(str)
    file_wanted = pyqtSignal()

    def __init__(self, name: str, spec: str, recent: Sequence[str]) -> None:
        super().__init__(name)
        self.setProperty("role", "title")
        self.setToolTip(f"{spec}. Opens another machine")
        self.setAccessibleName(f"{name}: open another machine")
        menu = QMenu(self)
        self._add(menu, "This computer", "host", spec)
        twins = menu.addMenu("Practise on a simulated machine")
        if twins is not None:
            for twin, make in TWINS.items():
                what = make().described.removeprefix("simulated ")
                self._add(twins, f"{twin}: {what}", f"twin:{twin}", spec)
        if spec.startswith("twin:"):
            another = f"{spec.partition('#')[0]}#{1 + randbelow(INDIVIDUALS)}"
            self._add(menu, "Another one of these", another, spec)
        action = menu.addAction("A capture of another machine …")
        if action is not None:
            action.triggered.connect(lambda _checked: self.file_wanted.emit())
        if recent:
            menu.addSeparator()
            for known in recent:
                self._add(menu, Path(known.removeprefix("tree:")).name, known, spec)
        self.setMenu(menu)

    def _add(self, menu: QMenu, words: str, spec: str, present: str) -> None:
        action = menu.addAction(words)
        if action is not None:
            action.setEnabled(spec != present)
            action.triggered.connect(lambda _checked, spec=spec: self.wanted.emit(spec))
