"""The list of runs in Compare: click or press Space to take one in or out; the first taken is the baseline."""

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime, timedelta

from PyQt6.QtCore import QAbstractListModel, QModelIndex, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QPainter, QPen
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QListView,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QWidget,
)

from upright_bolt.desktop.widgets.basic import column, heading, label, offer
from upright_bolt.desktop.widgets.chart import STYLES
from upright_bolt.desktop.widgets.theme import LINES, Theme, font, run_colours
from upright_bolt.model.run import LETTERS, RunRecord, RunRole, RunState
from upright_bolt.model.work import score_quantity
from upright_bolt.model.workloads import WORKLOADS
from upright_bolt.presentation.preferences import Preferences, RunFact
from upright_bolt.text.faults import state_words, struck
from upright_bolt.text.times import day_and_time, length

RUN_ROLE = int(Qt.ItemDataRole.UserRole)
LETTER_ROLE = RUN_ROLE + 1
ROW_H = 48
USUAL_FACTS = Preferences().run_facts


class RunDelegate(QStyledItemDelegate):
    """Draws one run: line sample and letter if chosen, name, and when."""

    def __init__(self, theme: Theme, facts: Sequence[RunFact]) -> None:
        super().__init__()
        self._theme = theme
        self._facts = facts

    def sizeHint(self, _option: QStyleOptionViewItem, _index: QModelIndex) -> QSize:
        """Return the row's size."""
        return QSize(200, ROW_H)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        """Draw."""
        run = index.data(RUN_ROLE)
        if painter is None or not isinstance(run, RunRecord):
            return
        theme = self._theme
        letter = index.data(LETTER_ROLE)
        box = QRectF(option.rect).adjusted(1, 2, -7, -3)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        focused = bool(option.state & QStyle.StateFlag.State_HasFocus)
        painter.setPen(QPen(QColor(theme.accent if focused else theme.line), 1.6 if focused else 1.0))
        painter.setBrush(QColor(theme.sheet if letter is not None else theme.paper))
        painter.drawRoundedRect(box, 4, 4)
        if letter is not None:
            colour = QColor(run_colours(theme)[letter])
            painter.setPen(QPen(colour, 2, STYLES[LINES[letter]]))
            y = box.center().y()
            painter.drawLine(QPointF(box.left() + 7, y), QPointF(box.left() + 23, y))
            painter.setPen(colour)
            painter.setFont(font(9.5, bold=True))
            painter.drawText(
                QRectF(box.left() + 26, box.top(), 16, box.height()), Qt.AlignmentFlag.AlignVCenter, LETTERS[letter]
            )
        self._words(painter, box.adjusted(40, 5, -4, -5), run)
        painter.restore()

    def _words(self, painter: QPainter, box: QRectF, run: RunRecord) -> None:
        metrics_width = int(box.width())
        painter.setPen(QColor(self._theme.ink))
        painter.setFont(font(9.0, bold=True))
        name = painter.fontMetrics().elidedText(run.name, Qt.TextElideMode.ElideRight, metrics_width)
        painter.drawText(box, Qt.AlignmentFlag.AlignTop, name)
        painter.setPen(QColor(self._theme.muted))
        painter.setFont(font(8.0))
        words = painter.fontMetrics().elidedText(when_of(run, self._facts), Qt.TextElideMode.ElideRight, metrics_width)
        painter.drawText(box, Qt.AlignmentFlag.AlignBottom, words)


def when_of(run: RunRecord, facts: Sequence[RunFact]) -> str:
    """Return the second line of a run: what a person has chosen to read of each."""
    quantity = score_quantity(run.head.workload, run.head.options)
    whole = replace(quantity, decimals=0 if (run.end.score or 0.0) >= 100 else 1)
    score = run.head.workload if run.end.score is None else whole.show(run.end.score).replace("units/", "/")
    score = struck(score) if run.broke and run.end.score is not None else score
    words = {
        RunFact.NUMBER: str(run.id),
        RunFact.DATE: day_and_time(run.head.started_at),
        RunFact.LENGTH: length(run.end.duration_s),
        RunFact.SCORE: score,
        RunFact.WORKLOAD: run.head.workload,
        RunFact.MACHINE: run.head.machine,
    }
    when = " · ".join(words[fact] for fact in facts)
    state = state_words(run).removesuffix(f", {RunState.FINISHED.value}")
    return when if state == RunState.FINISHED else f"{state} · {when}"


class RunModel(QAbstractListModel):
    """The runs of the list; a thousand of them cost no more than those in sight."""

    def __init__(self) -> None:
        super().__init__()
        self._runs: list[RunRecord] = []
        self._chosen: list[int] = []

    def show_runs(self, runs: list[RunRecord], chosen: list[int]) -> None:
        """Show these; rows that stay are only drawn anew."""
        same = [run.id for run in runs] == [run.id for run in self._runs]
        if not same:
            self.beginResetModel()
        self._runs, self._chosen = runs, list(chosen)
        if not same:
            self.endResetModel()
        elif runs:
            self.dataChanged.emit(self.index(0), self.index(len(runs) - 1))

    def rowCount(self, _parent: QModelIndex | None = None) -> int:
        """Return how many there are."""
        return len(self._runs)

    def data(self, index: QModelIndex, role: int = int(Qt.ItemDataRole.DisplayRole)) -> object:
        """Return a run, its letter, or its name for those who listen."""
        if not index.isValid():
            return None
        run = self._runs[index.row()]
        if role == RUN_ROLE:
            return run
        if role == LETTER_ROLE:
            return self._chosen.index(run.id) if run.id in self._chosen else None
        if role == int(Qt.ItemDataRole.ToolTipRole):
            return f"{run.name}\n{when_of(run, tuple(RunFact))}"
        return run.name if role == int(Qt.ItemDataRole.AccessibleTextRole) else None


class RunList(QListView):
    """The list itself.

    Signals:
        toggled: a run's id.
        removed: a run's id, on Delete.
        opened: a run's id, on Return or a double click.
    """

    toggled = pyqtSignal(int)
    removed = pyqtSignal(int)
    opened = pyqtSignal(int)

    def __init__(self, theme: Theme, facts: Sequence[RunFact]) -> None:
        super().__init__()
        self.rows = RunModel()
        self._delegate = RunDelegate(theme, facts)
        self.setObjectName("runs")
        self.setModel(self.rows)
        self.setItemDelegate(self._delegate)
        self.setUniformItemSizes(True)
        self.setAccessibleName("Runs")
        self.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.clicked.connect(lambda index: self.toggled.emit(index.data(RUN_ROLE).id))

    def choose_row(self, row: int) -> None:
        """Put the focus on a row."""
        self.setCurrentIndex(self.rows.index(row))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Space takes the run in or out, Return opens it, Delete removes it."""
        run = self.currentIndex().data(RUN_ROLE)
        does = {
            Qt.Key.Key_Space: self.toggled,
            Qt.Key.Key_Return: self.opened,
            Qt.Key.Key_Enter: self.opened,
            Qt.Key.Key_Delete: self.removed,
        }
        if event is not None and isinstance(run, RunRecord) and event.key() in does:
            does[Qt.Key(event.key())].emit(run.id)
        else:
            super().keyPressEvent(event)


AGES = (("Any time", None), ("Last day", 1), ("Last week", 7), ("Last month", 31))


class RunColumn(QWidget):
    """The list under its heading, with filters.

    Signals:
        filtered: other runs are shown now.
    """

    filtered = pyqtSignal()

    def __init__(self, theme: Theme, facts: Sequence[RunFact] = USUAL_FACTS) -> None:
        super().__init__()
        self.list = RunList(theme, facts)
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Filter by name, note or number")
        self.filter.setAccessibleName("Filter runs")
        self.machine, self.workload, self.age = (_combo(name) for name in ("Machine", "Workload", "Date"))
        self.workload.setToolTip("Tests of a search are listed under their work, edge, or when the filter names them")
        for words, days in AGES:
            self.age.addItem(words, days)
        self._runs: list[RunRecord] = []
        self._chosen: list[int] = []
        self.shown: list[RunRecord] = []
        self._count = heading("Runs")
        layout = column(self, margins=(16, 10, 6, 8), gap=6)
        layout.addWidget(self._count)
        layout.addWidget(self.filter)
        layout.addWidget(self.machine)
        row = QHBoxLayout()
        row.setSpacing(4)
        row.addWidget(self.workload, 1)
        row.addWidget(self.age, 1)
        layout.addLayout(row)
        for combo in (self.machine, self.workload, self.age):
            combo.currentIndexChanged.connect(lambda _: self._fill())
        layout.addWidget(self.list, 1)
        hint = "Space or a click takes a run in or out, Return opens it, Delete removes it."
        layout.addWidget(label(hint, "muted", wraps=True))
        self.filter.textChanged.connect(lambda _: self._fill())

    def show_runs(self, runs: list[RunRecord], chosen: list[int]) -> None:
        """Show the runs, the chosen ones with their letters."""
        if runs is not self._runs:
            machines = sorted({run.head.machine for run in runs})
            offer(self.machine, [("Any machine", None), *((word, word) for word in machines)])
            made = {run.head.workload for run in runs}
            offer(self.workload, [("Any work", None), *((name, name) for name in WORKLOADS if name in made)])
        self._runs, self._chosen = runs, chosen
        self._fill()

    def _fill(self) -> None:
        wanted = self.filter.text().strip().lower()
        machine, work, days = self.machine.currentData(), self.workload.currentData(), self.age.currentData()
        oldest = datetime.now().astimezone() - timedelta(days=days) if days else None
        before = [run.id for run in self.shown]
        self.shown = [
            run
            for run in self._runs
            if machine in (None, run.head.machine)
            and work in (None, run.head.workload)
            and (oldest is None or datetime.fromisoformat(run.head.started_at) >= oldest)
            and wanted in _searched(run)
            and (run.head.role is not RunRole.RUNG or wanted or work is not None or run.id in self._chosen)
        ]
        index = self.list.currentIndex().row()
        bar = self.list.verticalScrollBar()
        scrolled = bar.value() if bar is not None else 0
        self.list.rows.show_runs(self.shown, self._chosen)
        self.list.choose_row(min(max(index, 0), len(self.shown) - 1))
        if bar is not None:
            bar.setValue(scrolled)
        all_, shown = len(self._runs), len(self.shown)
        self._count.setText(f"RUNS  {shown}" + (f" OF {all_}" if shown != all_ else ""))
        if [run.id for run in self.shown] != before:
            self.filtered.emit()


def _combo(name: str) -> QComboBox:
    made = QComboBox()
    made.setAccessibleName(name)
    made.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    made.setMinimumContentsLength(5)
    return made


def _searched(run: RunRecord) -> str:
    return f"{run.id} {run.name} {run.note}".lower()
