"""Profiles side by side as columns of small scale strips on common scales, so that differences are seen at a glance."""

from collections.abc import Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QMenu, QScrollArea, QSizePolicy, QWidget

from upright_bolt.analysis.validation.measured import Measure
from upright_bolt.desktop.profiles.cells import MeasureCell, SettingCell
from upright_bolt.desktop.widgets.basic import Elided, button, column, label
from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.model.catalogue import in_order, title_of
from upright_bolt.model.control import Control
from upright_bolt.model.profile import STOCK
from upright_bolt.presentation.profiles import ProfileShown

NAMES_W = 168
COLUMN_W = 162
NOT_MEASURED = "not measured"
HEAD_PX = 28
MARKS = "● proven, or nothing to prove   ○ not proven   ⌀ held back   | the machine's own value"


class ProfileTable(QScrollArea):
    """The profiles.

    Signals:
        used: a profile's name.
        measured: a ``ProfileShown`` of which something is to be measured.
        asked: what a person chose in a profile's menu, and its name.
    """

    used = pyqtSignal(str)
    measured = pyqtSignal(object)
    asked = pyqtSignal(str, str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._shown: tuple[object, ...] = ()
        self._kinds: Sequence[Measure] = ()
        self.use: dict[str, QWidget] = {}
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setWidget(QWidget())

    def show_profiles(
        self, shown: Sequence[ProfileShown], controls: dict[str, Control], measures: Sequence[Measure], *, busy: bool
    ) -> None:
        """Show profiles, and what can be measured of them; nothing is built anew while nothing has changed."""
        self._kinds = measures
        wanted = (tuple(shown), tuple((n, c.stock) for n, c in controls.items()), busy)
        if wanted == self._shown:
            return
        self._shown = wanted
        ground = QWidget()
        grid = QGridLayout(ground)
        grid.setContentsMargins(0, 0, 6, 4)
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(1)
        grid.setColumnMinimumWidth(0, NAMES_W)
        names = in_order({name for each in shown if each.profile.name != STOCK for name in each.profile.settings})
        self.use = {}
        for at, each in enumerate(shown, start=1):
            grid.addWidget(self._head(each, busy=busy), 0, at)
            grid.setColumnMinimumWidth(at, COLUMN_W)
            grid.setColumnStretch(at, 1)
        row = self._settings(grid, names, shown, controls)
        self._measures(grid, row, shown)
        grid.setRowStretch(grid.rowCount(), 1)
        self.setWidget(ground)
        self.setMaximumHeight(ground.sizeHint().height() + 14)

    def _head(self, each: ProfileShown, *, busy: bool) -> QWidget:
        name = each.profile.name
        made = QWidget()
        layout = column(made, margins=(4, 2, 0, 6), gap=3)
        top = QHBoxLayout()
        top.setSpacing(6)
        title = Elided(name, "title")
        title.setMinimumHeight(HEAD_PX)
        title.explain(each.profile.note)
        top.addWidget(title, 1)
        if name != STOCK:
            more = button("More")
            more.setAccessibleName(f"More about {name}")
            more.setToolTip("Edit, copy, rename, delete")
            more.setMenu(self._menu(more, name, each))
            top.addWidget(more)
        layout.addLayout(top)
        foot = QHBoxLayout()
        foot.setSpacing(6)
        if each.active:
            withheld = bool(each.held_back) and each.held_back.keys() >= each.profile.settings.keys()
            foot.addWidget(label("● active, all withheld" if withheld else "● in force", "strong"))
        else:
            go = button("Use")
            go.setAccessibleName(f"Use {name}")
            go.setEnabled(not busy)
            go.clicked.connect(lambda _checked, name=name: self.used.emit(name))
            foot.addWidget(go)
            self.use[name] = go
        if any(measure.key not in each.measured for measure in self._kinds):
            measure = button("Measure")
            measure.setAccessibleName(f"Measure {name}")
            measure.setToolTip("Measure what is missing: runs one after another, everything put back afterwards")
            measure.setEnabled(not busy)
            measure.clicked.connect(lambda _checked, each=each: self.measured.emit(each))
            foot.addWidget(measure)
        foot.addStretch()
        layout.addLayout(foot)
        return made

    def _menu(self, parent: QWidget, name: str, each: ProfileShown) -> QMenu:
        menu = QMenu(parent)
        entries = [("edit", "Edit its file…"), ("try", "Try it, with what is held back"), ("copy", "Copy…"),
                   ("rename", "Rename…"), ("export", "Save the file elsewhere…"), ("delete", "Delete")]  # fmt: skip
        if each.profile.offsets:
            entries.insert(2, ("offsets", "Copy its voltage offsets into every profile"))
        if each.profile.of_graphics:
            entries.insert(2, ("graphics", "Copy its graphics settings into every profile"))
        for what, words in entries:
            action = QAction(words, menu)
            action.triggered.connect(lambda _checked, what=what, name=name: self.asked.emit(what, name))
            menu.addAction(action)
        return menu

    def _settings(
        self, grid: QGridLayout, names: Sequence[str], shown: Sequence[ProfileShown], controls: dict[str, Control]
    ) -> int:
        row = 1
        for name in names:
            control = controls.get(name)
            if control is None:
                continue
            title = Elided(title_of(name))
            title.explain(control.declaration.hint)
            grid.addWidget(title, row, 0)
            for at, each in enumerate(shown, start=1):
                value = each.profile.settings.get(name)
                proof = each.profile.proofs.get(name)
                held = each.held_back.get(name, "")
                grid.addWidget(SettingCell(control, value, proof, held, self._theme), row, at)
            row += 1
        if any(each.profile.offsets for each in shown):
            grid.addWidget(label(MARKS, "muted"), row, 1, 1, len(shown))
            row += 1
        return row

    def _measures(self, grid: QGridLayout, row: int, shown: Sequence[ProfileShown]) -> None:
        grid.addWidget(label("Measured under it", "strong"), row, 0)
        grid.setRowMinimumHeight(row, 26)
        for measure in self._kinds:
            row += 1
            values = [each.measured[measure.key][0] for each in shown if measure.key in each.measured]
            most = max(values, default=0.0)
            grid.addWidget(Elided(measure.title), row, 0)
            for at, each in enumerate(shown, start=1):
                grid.addWidget(self._measure(measure, each, most), row, at)

    def _measure(self, measure: Measure, each: ProfileShown, most: float) -> MeasureCell:
        found = each.measured.get(measure.key)
        colour = self._theme.of(measure.quantity.name)
        if found is None:
            tip = f"No run of “{measure.workload}” has been made with these settings in force."
            return MeasureCell(measure.title, NOT_MEASURED, None, colour, tip, self._theme)
        value, run = found
        share = value / most if most > 0.0 else 0.0
        return MeasureCell(
            measure.title, measure.quantity.show(value), share, colour, f"From run {run}.", self._theme
        )  # fmt: skip
