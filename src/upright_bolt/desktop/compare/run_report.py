"""One run by itself: what its telemetry tells, and what a person adds to it by hand."""

from collections.abc import Callable
from pathlib import Path

from PyQt6 import sip
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QDialog, QFileDialog, QFormLayout, QHBoxLayout, QLineEdit, QWidget

from upright_bolt.desktop.widgets.basic import button, column, heading, label
from upright_bolt.model.run import RunRecord
from upright_bolt.model.workloads import workload
from upright_bolt.presentation.records import Records

WIDTH = 560


class RunReport(QDialog):
    """Shows one run and takes a note, measures and results.

    Args:
        records: reads and keeps.
        run: the run.
        parent: the window.
    """

    def __init__(self, records: Records, run: RunRecord, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._records = records
        self._run = run
        self.setWindowTitle(run.name)
        self.setMinimumWidth(WIDTH)
        layout = column(self, margins=(18, 16, 18, 14), gap=8)
        layout.addWidget(label(f"Run {run.id}: {run.name}", "title"))
        layout.addWidget(heading("What its telemetry shows"))
        self.shown = label("…", wraps=True)
        self.shown.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        layout.addWidget(self.shown)
        self.below = QLineEdit()
        self.below.setPlaceholderText("e.g. 85 °C")
        self.below.setAccessibleName("Carries below")
        self.below.returnPressed.connect(self.ask)
        row = QHBoxLayout()
        row.addWidget(label("Which limit the cooling carries below", "muted"))
        row.addWidget(self.below)
        layout.addLayout(row)
        layout.addWidget(heading("Added by hand"))
        layout.addLayout(self._entries())
        if workload(run.head.workload).rests:
            layout.addWidget(heading("Frame times of another program"))
            layout.addLayout(self._frames())
        self.said = label("", "muted", wraps=True)
        layout.addWidget(self.said)
        self.keep = button("Keep what is entered", "main")
        self.keep.clicked.connect(self._keep)
        close = button("Close")
        close.clicked.connect(self.reject)
        row = QHBoxLayout()
        row.addStretch()
        for made in (close, self.keep):
            made.setAutoDefault(False)  # Return in an entry belongs to the entry
            row.addWidget(made)
        layout.addLayout(row)
        self.ask()

    def _entries(self) -> QFormLayout:
        run = self._run
        self.note = QLineEdit(run.note)
        measures = ", ".join(f"{name}={measure.show()}" for name, measure in run.measures.items())
        self.measures = QLineEdit(measures)
        self.measures.setPlaceholderText("noise=38.5 dB, keyboard=41 C")
        self.score = QLineEdit("" if run.end.score is None else f"{run.end.score:g}")
        self.score.setEnabled(workload(run.head.workload).rests or run.end.score is None)
        form = QFormLayout()
        for words, entry in (("Diagnostic", self.note), ("Measures", self.measures), ("Result", self.score)):
            form.addRow(label(words, "muted"), entry)
            entry.setAccessibleName(words)
        return form

    def _frames(self) -> QHBoxLayout:
        self.column_name, self.unit = QLineEdit(), QComboBox()
        self.column_name.setPlaceholderText("Heading of the column")
        self.column_name.setAccessibleName("Heading of the column")
        self.unit.addItems(["ms", "s", "us"])
        self.unit.setAccessibleName("Unit of the frame times")
        pick = button("Read a CSV file …")
        pick.setAutoDefault(False)
        pick.clicked.connect(self._pick)
        row = QHBoxLayout()
        for widget in (self.column_name, self.unit, pick):
            row.addWidget(widget)
        return row

    def ask(self) -> None:
        """Ask for what the telemetry shows."""
        self._records.describe(self._run, self.below.text(), self._if_open(self._show_sentences))

    def _if_open(self, answer: Callable[..., object]) -> Callable[..., None]:
        """Return an answer's receiver that does nothing once the sheet is gone: answers come when they come."""

        def receive(*values: object) -> None:
            if not sip.isdeleted(self):
                answer(*values)

        return receive

    def _show_sentences(self, sentences: list[str]) -> None:
        self.shown.setText("\n".join(sentence.strip() for sentence in sentences))
        self.adjustSize()

    def _keep(self) -> None:
        score = self.score.text() if self.score.isEnabled() else ""
        self._records.annotate(
            self._run, self.note.text().strip(), self.measures.text(), score,
            self._if_open(self.accept), self._if_open(self._show_fault),
        )  # fmt: skip

    def _show_fault(self, sentence: str) -> None:
        self.said.setText(f"✕ {sentence}")

    def _pick(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Frame times", "", "CSV files (*.csv *.txt);;All files (*)")
        if name:
            self.read_frames(Path(name))

    def read_frames(self, path: Path) -> None:
        """Add the frame times of a file."""
        self._records.take_frames(
            self._run, path, self.column_name.text().strip(), self.unit.currentText(),
            self._if_open(self.said.setText), self._if_open(self._show_fault),
        )  # fmt: skip
