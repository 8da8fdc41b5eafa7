"""What a person can choose of the window itself."""

from collections.abc import Sequence
from dataclasses import replace

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QComboBox, QDialog, QFormLayout, QWidget

from upright_bolt.desktop.sidebar import VIEWS
from upright_bolt.desktop.widgets.basic import column, foot_with_close, label
from upright_bolt.model.quantity import ClockUnit
from upright_bolt.presentation.preferences import Looks, PanelNumber, Preferences, RunFact, WhenClosed
from upright_bolt.sanitize import capital

LOOKS = {Looks.DESKTOP: "As the desktop", Looks.LIGHT: "Light", Looks.DARK: "Dark"}
NUMBERS = {
    PanelNumber.HOTTEST: "The processor's temperature", PanelNumber.WATTS: "Package watts",
    PanelNumber.CLOCK: "Mean clock",
}  # fmt: skip
CLOSED = {
    WhenClosed.ASK: "Closing the window: ask", WhenClosed.STAY: "Closing the window: stay in the panel",
    WhenClosed.END: "Closing the window: end",
}  # fmt: skip
CLOCKS = {ClockUnit.FITTING: "GHz from 1 GHz on, MHz below", ClockUnit.MHZ: "Always MHz"}


class PreferencesDialog(QDialog):
    """The choices; each is in force as soon as it is made.

    Signals:
        changed: other ``Preferences``.
    """

    changed = pyqtSignal(object)

    def __init__(self, parent: QWidget, chosen: Preferences) -> None:
        super().__init__(parent)
        self.setWindowTitle("Preferences")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._chosen = chosen
        form = QFormLayout()
        form.setHorizontalSpacing(18)
        form.setVerticalSpacing(10)
        self.looks = self._choice(form, "Theme", tuple(LOOKS.items()), chosen.looks)
        self.clocks = self._choice(form, "Clocks", tuple(CLOCKS.items()), chosen.clocks)
        self.view = self._choice(form, "View at the start", VIEWS, chosen.start_view)
        self.facts = {fact: QCheckBox(capital(fact.value)) for fact in RunFact}
        boxes = column(gap=3)
        for fact, box in self.facts.items():
            box.setChecked(fact in chosen.run_facts)
            box.toggled.connect(lambda _: self._choose())
            boxes.addWidget(box)
        form.addRow(label("The list of runs shows"), boxes)
        self._panel_rows(form, chosen)
        layout = column(self, margins=(18, 16, 18, 14), gap=14)
        layout.addLayout(form)
        layout.addLayout(foot_with_close(self))

    def _panel_rows(self, form: QFormLayout, chosen: Preferences) -> None:
        """Add what concerns the icon in the desktop's panel, the start at login, and notifications."""
        self.panel = self._box("An icon in the desktop's panel", on=chosen.panel)
        self.number = self._choice(None, "The icon shows", tuple(NUMBERS.items()), chosen.panel_number)
        self.closed = self._choice(None, "When the window is closed", tuple(CLOSED.items()), chosen.when_closed)
        self.login = self._box("Start at login, hidden", on=chosen.at_login)
        self.rules = self._box("Tell when a rule has changed the profile", on=chosen.tell_rules)
        rows = column(gap=4)
        rows.addWidget(self.panel)
        for widget in (self.number, self.closed, self.login, self.rules):
            rows.addWidget(widget)
        form.addRow(label("In the panel"), rows)

    def _box(self, words: str, *, on: bool) -> QCheckBox:
        made = QCheckBox(words)
        made.setChecked(on)
        made.toggled.connect(lambda _: self._choose())
        return made

    def _choice(
        self, form: QFormLayout | None, title: str, entries: Sequence[tuple[str, str]], chosen: str
    ) -> QComboBox:
        made = QComboBox()
        made.setAccessibleName(title)
        for value, words in entries:
            made.addItem(words, value)
        made.setCurrentIndex(max(0, made.findData(chosen)))
        made.currentIndexChanged.connect(lambda _: self._choose())
        if form is not None:
            form.addRow(label(title), made)
        return made

    def _choose(self) -> None:
        self._chosen = replace(
            self._chosen,
            looks=Looks(self.looks.currentData()),
            clocks=ClockUnit(self.clocks.currentData()),
            start_view=self.view.currentData(),
            run_facts=tuple(fact for fact, box in self.facts.items() if box.isChecked()),
            panel=self.panel.isChecked(),
            panel_number=PanelNumber(self.number.currentData()),
            when_closed=WhenClosed(self.closed.currentData()),
            at_login=self.login.isChecked(),
            tell_rules=self.rules.isChecked(),
        )
        self.changed.emit(self._chosen)
