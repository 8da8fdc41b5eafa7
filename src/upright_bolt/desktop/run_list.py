"""The list of runs in Compare: click or press Space to take one in or out; the first taken is the baseline."""

from PyQt6.QtCore import QModelIndex, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QPainter, QPen
from PyQt6.QtWidgets import (
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QWidget,
)

from upright_bolt.desktop.chart import STYLES
from upright_bolt.desktop.pieces import column, heading, label
from upright_bolt.desktop.theme import LINES, Theme, font, run_colours
from upright_bolt.model.run import LETTERS, RunRecord

RUN_ROLE = int(Qt.ItemDataRole.UserRole)
LETTER_ROLE = RUN_ROLE + 1
ROW_H = 48


class RunDelegate(QStyledItemDelegate):
    """Draws one run: line sample and letter if chosen, name, and when."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme

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
            painter.drawLine(QPointF(box.left() + 8, y), QPointF(box.left() + 30, y))
            painter.setPen(colour)
            painter.setFont(font(9.5, bold=True))
            painter.drawText(
                QRectF(box.left() + 34, box.top(), 16, box.height()), Qt.AlignmentFlag.AlignVCenter, LETTERS[letter]
            )
        self._words(painter, box.adjusted(52, 5, -6, -5), run)
        painter.restore()

    def _words(self, painter: QPainter, box: QRectF, run: RunRecord) -> None:
        metrics_width = int(box.width())
        painter.setPen(QColor(self._theme.ink))
        painter.setFont(font(9.0, bold=True))
        name = painter.fontMetrics().elidedText(run.name, Qt.TextElideMode.ElideRight, metrics_width)
        painter.drawText(box, Qt.AlignmentFlag.AlignTop, name)
        painter.setPen(QColor(self._theme.muted))
        painter.setFont(font(8.0))
        score = "no score" if run.end.score is None else f"{run.end.score:,.0f} /min"
        when = f"{run.id} · {run.head.started_at[5:16].replace('T', ' ')} · {run.end.duration_s:.0f} s · {score}"
        if run.end.state.value != "finished":
            when = f"{run.end.state.value} · " + when
        words = painter.fontMetrics().elidedText(when, Qt.TextElideMode.ElideRight, metrics_width)
        painter.drawText(box, Qt.AlignmentFlag.AlignBottom, words)


class RunList(QListWidget):
    """The list itself.

    Signals:
        toggled: a run's id.
        removed: a run's id, on Delete.
    """

    toggled = pyqtSignal(int)
    removed = pyqtSignal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setItemDelegate(RunDelegate(theme))
        self.setUniformItemSizes(True)
        self.setAccessibleName("Runs")
        self.setVerticalScrollMode(QListWidget.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.itemClicked.connect(lambda item: self.toggled.emit(item.data(RUN_ROLE).id))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Space takes the run in or out, Delete removes it."""
        item = self.currentItem()
        if event is not None and item is not None and event.key() == Qt.Key.Key_Space:
            self.toggled.emit(item.data(RUN_ROLE).id)
        elif event is not None and item is not None and event.key() == Qt.Key.Key_Delete:
            self.removed.emit(item.data(RUN_ROLE).id)
        else:
            super().keyPressEvent(event)


class RunColumn(QWidget):
    """The list under its heading, with a filter."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.list = RunList(theme)
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Filter by name, machine or workload")
        self.filter.setAccessibleName("Filter runs")
        self._runs: list[RunRecord] = []
        self._chosen: list[int] = []
        self._count = heading("Runs")
        layout = column(self, margins=(16, 10, 6, 8), gap=6)
        layout.addWidget(self._count)
        layout.addWidget(self.filter)
        layout.addWidget(self.list, 1)
        layout.addWidget(label("Space or a click takes a run in or out; Delete removes it.", "muted", wraps=True))
        self.filter.textChanged.connect(lambda _: self._fill())

    def show_runs(self, runs: list[RunRecord], chosen: list[int]) -> None:
        """Show the runs, the chosen ones with their letters."""
        self._runs, self._chosen = runs, chosen
        self._fill()

    def _fill(self) -> None:
        wanted = self.filter.text().strip().lower()
        place = self.list.currentRow()
        bar = self.list.verticalScrollBar()
        scrolled = bar.value() if bar is not None else 0
        self.list.clear()
        shown = [run for run in self._runs if wanted in _searched(run)]
        for run in shown:
            item = QListWidgetItem()
            item.setData(RUN_ROLE, run)
            item.setData(int(Qt.ItemDataRole.AccessibleTextRole), run.name)
            if run.id in self._chosen:
                item.setData(LETTER_ROLE, self._chosen.index(run.id))
            self.list.addItem(item)
        self.list.setCurrentRow(min(place, len(shown) - 1))
        if bar is not None:
            bar.setValue(scrolled)
        self._count.setText(f"RUNS  {len(shown)}" + (f" OF {len(self._runs)}" if len(shown) != len(self._runs) else ""))


def _searched(run: RunRecord) -> str:
    return f"{run.name} {run.head.machine} {run.head.workload} {run.head.started_at}".lower()
