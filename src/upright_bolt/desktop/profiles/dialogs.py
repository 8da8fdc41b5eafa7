"""Dialogs of the Profiles view: a name for a profile, and texts that are edited as they stand in their files."""

from collections.abc import Callable

from PyQt6.QtWidgets import QDialog, QLineEdit, QPlainTextEdit, QWidget

from upright_bolt.desktop.widgets.basic import button, column, foot_with_cancel, label
from upright_bolt.desktop.widgets.theme import font

Outcome = Callable[[str], None]
Save = Callable[[str, Callable[[], None], Outcome], None]


class NameDialog(QDialog):
    """Asks for a name, and words of one's own if they are wanted.

    Args:
        parent: the window.
        title: of the dialog.
        words: what it is about.
        done: called with name and note.
        name: a suggestion.
        noted: whether a note is asked for.
    """

    def __init__(
        self, parent: QWidget, title: str, words: str, done: Callable[[str, str], None], *,
        name: str = "", noted: bool = False,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setMinimumWidth(380)
        self._done = done
        layout = column(self, margins=(16, 14, 16, 12), gap=8)
        layout.addWidget(label(words, wraps=True))
        self.name = QLineEdit(name)
        self.name.setPlaceholderText("Name, for example: quay")
        self.name.setAccessibleName("Name")
        layout.addWidget(self.name)
        self.note = QLineEdit()
        self.note.setPlaceholderText("A note of your own (may stay empty)")
        self.note.setAccessibleName("Diagnostic")
        self.note.setVisible(noted)
        layout.addWidget(self.note)
        self.go = button(title.removesuffix("…"), "main")
        self.go.clicked.connect(self._go)
        layout.addLayout(foot_with_cancel(self, self.go))
        self.name.textChanged.connect(lambda _: self._look())
        self._look()

    def _look(self) -> None:
        self.go.setEnabled(bool(self.name.text().strip()))

    def _go(self) -> None:
        self._done(self.name.text().strip(), self.note.text().strip())
        self.close()


class TextDialog(QDialog):
    """Lets a text be edited; it closes once it is saved, and says every fault of it until then.

    Args:
        parent: the window.
        title: of the dialog.
        words: what can be written.
        text: as it stands.
        save: called with the text, what to call when it is saved, and what to call with the faults.
    """

    def __init__(
        self,
        parent: QWidget,
        title: str,
        words: str,
        text: str,
        save: Callable[[str, Callable[[], None], Outcome], None],
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.resize(640, 420)
        self._save = save
        layout = column(self, margins=(16, 14, 16, 12), gap=8)
        layout.addWidget(label(words, "muted", wraps=True))
        self.text = QPlainTextEdit(text)
        self.text.setFont(font(9.5))
        self.text.setAccessibleName(title)
        self.text.setTabChangesFocus(True)
        layout.addWidget(self.text, 1)
        self.fault = label("", "fault", wraps=True)
        layout.addWidget(self.fault)
        self.go = button("Save", "main")
        self.go.clicked.connect(lambda: self._save(self.text.toPlainText(), self._saved, self._refused))
        layout.addLayout(foot_with_cancel(self, self.go))

    def _saved(self) -> None:
        self.close()

    def _refused(self, why: str) -> None:
        self.fault.setText(f"✕ Not saved. {why}")
