"""One control in the settings column: its title, its strip or its words, and a number entry."""

from PyQt6.QtCore import QEvent, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QWIDGETSIZE_MAX,
    QButtonGroup,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from upright_bolt.analysis.validation.evidence import Evidence
from upright_bolt.desktop.widgets.basic import button, column, label, restyle
from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.desktop.workbench.range_slider import ScaleStrip
from upright_bolt.errors import BadInput
from upright_bolt.model.control import NONE, Control, Value, parts_of
from upright_bolt.model.declaration import Kind
from upright_bolt.model.quantity import with_unit
from upright_bolt.text.notes import sentence

WORDS_W, SEGMENT_PX = 268, 24
"""Room for the words of a control side by side, and what each needs besides its letters."""


class NumberEntry(QLineEdit):
    """A value typed with its unit. What cannot be used stays as typed, marked, until it is corrected or dropped.

    Signals:
        typed: the text, on Enter or when the focus leaves after an edit.
        dropped: Escape.
    """

    typed = pyqtSignal(str)
    dropped = pyqtSignal()

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setFixedWidth(74)
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setAccessibleName(name)
        self.editingFinished.connect(self._finished)

    def _finished(self) -> None:
        if self.isModified():
            self.setModified(False)
            self.typed.emit(self.text())

    def event(self, event: QEvent | None) -> bool:
        """Leave undo and redo to the draft, unless something is being typed here."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride and not self.isModified():
            undoes = event.matches(QKeySequence.StandardKey.Undo) or event.matches(QKeySequence.StandardKey.Redo)
            if undoes:
                return False
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Escape drops the draft."""
        if event is not None and event.key() == Qt.Key.Key_Escape:
            self.dropped.emit()
        else:
            super().keyPressEvent(event)


class ControlRow(QWidget):
    """Shows one control; emits what a person drafts.

    Attributes:
        strip, entry: the scale strip and the number entry; None for a control of words.

    Signals:
        drafted: control name and value; None drops the draft of this control.
    """

    drafted = pyqtSignal(str, object)

    def __init__(self, control: Control, theme: Theme) -> None:
        super().__init__()
        self._control = control
        self._shown = ""
        self._fault = label("", "fault", wraps=True)
        self._fault.hide()
        self._note = label("", "muted")
        self._title = label(control.title, "strong")
        self._title.setToolTip(control.declaration.hint)
        self.strip: ScaleStrip | None = None
        self.entry: NumberEntry | None = None
        self._words: dict[str, QPushButton] = {}
        layout = column(self, gap=1)
        head = QHBoxLayout()
        head.addWidget(self._title)
        head.addStretch()
        head.addWidget(self._note)
        layout.addLayout(head)
        forms = {Kind.SCALE: lambda: self._scale(theme), Kind.TABLE: self._table}
        layout.addLayout(forms.get(control.declaration.kind, self._choice)())
        layout.addWidget(self._fault)
        self.show_control(control, None)

    def _scale(self, theme: Theme) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(8)
        name = self._control.name
        self.strip = ScaleStrip(self._control, theme)
        self.strip.drafted.connect(lambda value: self._choose(name, value))
        self.strip.dropped.connect(lambda: self._choose(name, None))
        self.entry = NumberEntry(f"{self._control.title}, typed")
        self.entry.typed.connect(self._typed)
        self.entry.dropped.connect(lambda: self._choose(name, None))
        row.addWidget(self.strip, 1)
        row.addWidget(self.entry, 0, Qt.AlignmentFlag.AlignTop)
        return row

    def _table(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.entry = NumberEntry(f"{self._control.title}, typed")
        self.entry.setMinimumWidth(0)
        self.entry.setMaximumWidth(QWIDGETSIZE_MAX)
        self.entry.typed.connect(self._typed)
        self.entry.dropped.connect(lambda: self._choose(self._control.name, None))
        row.addWidget(self.entry, 1)
        return row

    def _choice(self) -> QVBoxLayout:
        lines = column(gap=2)
        room = 0
        group = None if self._control.declaration.kind is Kind.LIST else QButtonGroup(self)
        for word in self._control.choices or ("–",):
            made = button(word, "segment")
            made.setCheckable(True)
            made.setAccessibleName(f"{self._control.title}: {word}")
            made.clicked.connect(lambda _checked, word=word: self._chosen(word))
            if group is not None:
                group.addButton(made)
            self._words[word] = made
            width = made.fontMetrics().horizontalAdvance(word) + SEGMENT_PX
            if room < width:
                room = WORDS_W - made.fontMetrics().horizontalAdvance("◇ ")
                row = QHBoxLayout()
                row.setSpacing(0)
                row.setAlignment(Qt.AlignmentFlag.AlignLeft)
                lines.addLayout(row)
            room -= width
            row.addWidget(made)
        return lines

    def _chosen(self, word: str) -> None:
        if self._control.declaration.kind is Kind.LIST:
            word = ",".join(w for w, made in self._words.items() if made.isChecked()) or NONE
        self._choose(self._control.name, word)

    def _choose(self, name: str, value: Value | None) -> None:
        self._show_fault("")
        if self.entry is not None:
            self.entry.setModified(False)
        self.drafted.emit(name, None if value == self._control.current else value)

    def _typed(self, text: str) -> None:
        try:
            value = self._control.parse(with_unit(text, self._shown))
        except BadInput as fault:
            self._show_fault(str(fault))
            return
        self._choose(self._control.name, value)

    def _show_fault(self, sentence: str) -> None:
        self._fault.setText(f"✕ {sentence}" if sentence else "")
        self._fault.setVisible(bool(sentence))
        if self.entry is not None:
            restyle(self.entry, "fault", "true" if sentence else "false")

    @property
    def fault(self) -> str:
        """The sentence that is shown about what was typed; empty if all is well."""
        return self._fault.text()

    def show_evidence(self, evidence: tuple[Evidence, ...]) -> None:
        """Show on the strip what past runs proved and where they broke."""
        if self.strip is not None:
            self.strip.show_evidence(evidence)

    def show_control(self, control: Control, draft: Value | None) -> None:
        """Show the control as it stands, and its draft."""
        self._control = control
        if self.strip is not None:
            self.strip.show_control(control, draft if isinstance(draft, float) else None)
        note = "" if control.settable else control.state.value
        if control.settable and control.stock != control.current:
            note = f"stock {control.show(control.stock)}"
        self._note.setText(note)
        self.setToolTip(sentence(control.note))
        if self.entry is not None:
            self.entry.setEnabled(control.settable)
        for made in self._words.values():
            made.setEnabled(control.settable)
        self.show_draft(draft)

    def show_draft(self, draft: Value | None) -> None:
        """Show another draft of the control, or none."""
        control = self._control
        shown = draft if draft is not None else control.current
        if self.strip is not None:
            self.strip.show_draft(draft if isinstance(draft, float) else None)
        if self.entry is not None and not self.entry.isModified() and not self._fault.isVisibleTo(self):
            self._shown = control.show(shown) if shown is not None else "–"
            if self.entry.text() != self._shown:
                self.entry.setText(self._shown)
        for word, made in self._words.items():
            made.setChecked(_among(word, shown))
            wanted = f"◇ {word}" if draft is not None and _among(word, draft) else word
            if made.text() != wanted:
                made.setText(wanted)


def _among(word: str, value: Value | None) -> bool:
    return isinstance(value, str) and word in parts_of(value)
