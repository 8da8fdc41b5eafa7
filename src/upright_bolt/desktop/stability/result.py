"""Where a search stands: what would be kept, what is known, what comes next, and its rungs in a list."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLabel, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from upright_bolt.analysis.stability.course import Course
from upright_bolt.desktop.widgets.basic import Bounded, button, column, heading, label, restyle
from upright_bolt.model.search import Outcome, Why
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.session.stability_search import SearchProgress
from upright_bolt.text.search import (
    ahead_words,
    edge_words,
    kept_title,
    of,
    proven_words,
    rung_in_short,
    signed_percent,
    slope_words,
    spent_words,
    stands_words,
    why_next,
)
from upright_bolt.text.times import waiting
from upright_bolt.workload.plan import kinds_s

FACTS = ("Fails in 8 h", "Edge", "Slope", "Score over stock", "Watts over stock", "Spent", "Still expected")
HOW_IT_WENT = (("Fine", Outcome.PASSED), ("Picture errors", Outcome.WRONG), ("Cut short", Outcome.STOPPED))
MOST_NEXT_PX = 110


class EdgeStanding(QWidget):
    """The column.

    Signals:
        new_wanted: another search is to begin.
        drafted: what was found is to be drafted in the Workbench.
        compared: its runs are to be opened in Compare.
        picked: the number of a rung.
    """

    new_wanted = pyqtSignal()
    drafted = pyqtSignal()
    compared = pyqtSignal()
    picked = pyqtSignal(int)

    def __init__(self, presenter: Presenter) -> None:
        super().__init__()
        self._presenter = presenter
        self._kept = label("", "figure", wraps=True)
        self._proven = label("", "muted", wraps=True)
        self._cells: dict[str, QLabel] = {}
        grid = QGridLayout()
        grid.setVerticalSpacing(5)
        grid.setColumnStretch(0, 1)
        for row, words in enumerate(FACTS):
            self._cells[words] = cell = label("", "strong")
            grid.addWidget(label(words, "muted"), row, 0)
            grid.addWidget(cell, row, 1, Qt.AlignmentFlag.AlignRight)
        self._next = label("", wraps=True)
        note = QFrame()
        note.setProperty("role", "note")
        inner = QVBoxLayout(note)
        inner.setContentsMargins(9, 7, 9, 7)
        inner.addWidget(self._next)
        self._note = Bounded(note, MOST_NEXT_PX)
        self.rungs = QListWidget()
        self.rungs.setAccessibleName("Rungs")
        self.rungs.setWordWrap(True)
        self.rungs.setTextElideMode(Qt.TextElideMode.ElideNone)
        self.rungs.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.rungs.currentRowChanged.connect(self._pick)
        layout = column(self, gap=7)
        layout.addWidget(heading("Where it stands"))
        layout.addWidget(self._kept)
        layout.addWidget(self._proven)
        layout.addLayout(grid)
        layout.addWidget(self._note)
        self._add_buttons(layout)
        layout.addWidget(heading("Rung by rung"))
        layout.addWidget(self.rungs, 1)

    def _add_buttons(self, layout: QVBoxLayout) -> None:
        searches = self._presenter.searches
        self.draft = button("Draft what was found", "main")
        self.go_on = button("Go on", "main")
        self.pause = button("Pause, and put everything back", "main")
        self.end = button("End this search")
        self.compare = button("Its runs in Compare")
        self.new = button("New search")
        self.draft.clicked.connect(self.drafted)
        self.go_on.clicked.connect(searches.go_on)
        self.pause.clicked.connect(searches.pause)
        self.end.clicked.connect(searches.end)
        self.compare.clicked.connect(self.compared)
        self.new.clicked.connect(self.new_wanted)
        self.draft.setToolTip("As a draft in the Workbench: nothing is in force until it is tried there")
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(6)
        self._answers = QWidget()
        told = QHBoxLayout(self._answers)
        told.setContentsMargins(0, 0, 0, 0)
        told.addWidget(label("How did it go?", "strong"))
        for words, outcome in HOW_IT_WENT:
            pressed = button(words)
            pressed.clicked.connect(lambda _checked=False, outcome=outcome: searches.answer(outcome))
            told.addWidget(pressed)
        layout.addWidget(self._answers)
        for widget, row, place, width in (
            (self.draft, 0, 0, 2), (self.go_on, 1, 0, 1), (self.end, 1, 1, 1), (self.pause, 2, 0, 2),
            (self.compare, 3, 0, 1), (self.new, 3, 1, 1),
        ):  # fmt: skip
            grid.addWidget(widget, row, place, 1, width)
        layout.addLayout(grid)

    def show_course(self, course: Course) -> None:
        """Show what is known of a search."""
        searches = self._presenter.searches
        search, progress = course.search, searches.progress
        here = progress is not None and progress.search.asked.id == search.asked.id
        together = course.outlook()
        self._kept.setText(kept_title(course))
        proven = proven_words(course.proven(kinds_s), from_cool=course.from_cool)
        self._proven.setText(proven)
        self._proven.setVisible(bool(course.recommended))  # how it stands is told below as well
        tested = bool(course.tested(search.asked.controls))
        gained, watts = course.gained(), course.watts_part()
        values = (
            of(course.predicted) if course.recommended else "–",
            edge_words(course.axis, together.edge) if tested else "not known yet",
            slope_words(course.axis, together.slope) if tested else "not known yet",
            "–" if gained is None else signed_percent(gained),
            "–" if watts is None else signed_percent(watts - 1.0),
            spent_words(search),
            "nothing" if search.end is not None else ahead_words(searches.ahead) if searches.ahead is not None else "…",
        )
        for words, value in zip(FACTS, values, strict=True):
            if self._cells[words].text() != value:
                self._cells[words].setText(value)
        self._show_next(course, progress if here else None)
        opened = search.end is None
        found = search.end is not None and search.end.why is Why.FOUND
        restyle(self.draft, "role", "" if opened else "main")
        self.draft.setVisible(bool(course.recommended) and (not opened or not here) and (found or opened))
        self._answers.setVisible(here and progress is not None and progress.question is not None)
        self.pause.setVisible(here)
        self.go_on.setVisible(opened and not here)
        self.end.setVisible(opened and not here)
        self.new.setEnabled(searches.open is None)
        self.compare.setEnabled(any(end.run_id is not None for end in search.ends.values()))
        self._show_rungs(course)

    def _show_next(self, course: Course, progress: SearchProgress | None) -> None:
        """Say what is being done, or what comes next, and why."""
        searches, asked = self._presenter.searches, course.search.asked
        if progress is not None and progress.paused:
            said = f"Paused: {progress.paused}. It goes on by itself."
        elif progress is not None and progress.rung is not None:
            said = f"Now: {why_next(asked, progress.rung)}"
        elif progress is not None and progress.waiting is not None:
            said = waiting(progress.waiting)
        elif progress is not None:
            said = "The next rung is being chosen."
        elif course.search.end is None and searches.coming is not None:
            said = f"Next, if it goes on: {why_next(asked, searches.coming)}"
        else:
            said = stands_words(course)
        if said != self._next.text():
            self._next.setText(said)

    def _show_rungs(self, course: Course) -> None:
        search = course.search
        stock = course.gains.stock_score
        lines = [
            rung_in_short(search.asked, rung, search.ends.get(rung.number), stock) for rung in reversed(search.rungs)
        ]
        now = [self.rungs.item(row) for row in range(self.rungs.count())]
        if [item.text() for item in now if item is not None] == lines:
            return
        kept = self.rungs.currentRow()
        self.rungs.blockSignals(True)  # noqa: FBT003 - Qt's own signature
        self.rungs.clear()
        for rung, line in zip(reversed(search.rungs), lines, strict=True):
            item = QListWidgetItem(line)
            item.setData(Qt.ItemDataRole.UserRole, rung.number)
            self.rungs.addItem(item)
        self.rungs.setCurrentRow(kept if kept < len(lines) else -1)
        self.rungs.blockSignals(False)  # noqa: FBT003 - same

    def choose(self, number: int) -> None:
        """Choose a rung in the list."""
        for row in range(self.rungs.count()):
            item = self.rungs.item(row)
            if item is not None and item.data(Qt.ItemDataRole.UserRole) == number:
                self.rungs.setCurrentRow(row)

    def _pick(self, row: int) -> None:
        item = self.rungs.item(row)
        if item is not None:
            self.picked.emit(item.data(Qt.ItemDataRole.UserRole))
