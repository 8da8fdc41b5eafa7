"""The picture of a search: rungs along each axis, and below them what each position brought, all on one scale.

The shape of a rung's mark tells how it ended and the length of its stem for how long it went on. Ring: passed. Cross:
wrong results. Triangle: a worker died, or the driver
reset the chip. Square: the machine froze. Half ring: ended before its time. Dot: goes on.
"""

from math import log

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QHelpEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from upright_bolt.desktop.stability.estimate_chart import HEAD, draw_head, paint_narrowing
from upright_bolt.desktop.widgets.theme import Theme, font
from upright_bolt.model.search import FAILED, Outcome
from upright_bolt.presentation.stability_picture import AxisRow, EdgePicture, GainRow, Mark
from upright_bolt.presentation.ticks import round_ticks
from upright_bolt.sanitize import capital
from upright_bolt.text.search import place_words

GUTTER, RIGHT = 118, 92
TOP, FOOT, GAP = 4, 22, 8
LABELS_PX, BASE_PX = 36, 10
SHORTEST_S, LONG_S = 10.0, 600.0
SHORTEST_PX = 8.0
"""Stems of tests of up to SHORTEST_S are so high; the height of the row is that of the longest, or of ten minutes."""
LEAST_SPAN = {"temperature": 8.0, "power": 1.0, "clock": 60.0}
LEAST_RELATIVE = 0.02
"""What is spread over a row at least, in the number's unit, so that noise does not look like an effect."""
NEAR_PX = 9.0
AXIS_PX, GAIN_PX = (92, 150), (40, 92)
MOST_TICKS = 9
LEGEND = ((Outcome.PASSED, "passed"), (Outcome.WRONG, "wrong results"), (Outcome.DIED, "died or was reset"),
          (Outcome.FROZE, "froze"), (Outcome.STOPPED, "ended early"))  # fmt: skip


class EdgeChart(QWidget):
    """The picture.

    Signals:
        picked: the number of a rung that was clicked.
    """

    picked = pyqtSignal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._picture: EdgePicture | None = None
        self._chosen: int | None = None
        self._heads: list[tuple[QPointF, Mark]] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Rungs of the search along its axis, and what each brought")

    def sizeHint(self) -> QSize:
        """Return a size that shows one axis and its gains."""
        return QSize(620, 480)

    def minimumSizeHint(self) -> QSize:
        """Return room for the rows at their lowest."""
        picture = self._picture
        rows, gains = (1, 0) if picture is None else (len(picture.rows), _low_rows(picture))
        return QSize(420, TOP + rows * (AXIS_PX[0] + GAP) + gains * (GAIN_PX[0] + GAP) + FOOT)

    def show_picture(self, picture: EdgePicture | None, chosen: int | None = None) -> None:
        """Draw another picture, with the rung ``chosen`` marked."""
        if (picture, chosen) == (self._picture, self._chosen):
            return
        self._picture, self._chosen = picture, chosen
        marks = [] if picture is None else [mark.words for row in picture.rows for mark in row.marks]
        self.setAccessibleDescription(". ".join(marks))
        self.updateGeometry()
        self.update()

    # places

    def _x(self, position: float) -> float:
        furthest = self._picture.furthest if self._picture is not None else 1.0
        return GUTTER + (self.width() - GUTTER - RIGHT) * position / furthest

    def _place(self, position: float) -> str:
        """Return the value at a position, without its unit."""
        return place_words(self._picture.axis, position) if self._picture is not None else ""

    def _unit_words(self) -> str:
        """Return what is on the scale, and its unit."""
        axis = self._picture.axis if self._picture is not None else None
        return "" if axis is None else f"{'clock' if axis.stock else 'offset'}, {axis.quantity.unit}"

    def _heights(self, picture: EdgePicture) -> tuple[float, float]:
        """Return the heights of an axis and of a gain row: what there is, shared out between their bounds."""
        rows, gains = len(picture.rows), _low_rows(picture)
        left = self.height() - TOP - FOOT - GAP * (rows + gains) - rows * AXIS_PX[0] - gains * GAIN_PX[0]
        wanted = rows * (AXIS_PX[1] - AXIS_PX[0]) + gains * (GAIN_PX[1] - GAIN_PX[0])
        share = min(1.0, max(0.0, left / wanted)) if wanted else 0.0
        tall, low = (least + share * (most - least) for least, most in (AXIS_PX, GAIN_PX))
        return tall, low

    def event(self, event: QEvent | None) -> bool:
        """Tell of the rung under the pointer."""
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            mark = self._mark_at(QPointF(event.pos()))
            QToolTip.showText(event.globalPos(), mark.words if mark is not None else "", self)
            return True
        return super().event(event)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Pick the rung under the pointer."""
        mark = self._mark_at(event.position()) if event is not None else None
        if mark is not None and not mark.earlier:
            self.picked.emit(mark.number)

    def _mark_at(self, at: QPointF) -> Mark | None:
        near = [((at - head).manhattanLength(), mark) for head, mark in self._heads]
        best = min(near, key=lambda pair: pair[0], default=None)
        return best[1] if best is not None and best[0] <= NEAR_PX else None

    # painting

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw the rows from top to bottom."""
        picture = self._picture
        if picture is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._heads = []
        ticks = _ticks(picture)
        tall, low = self._heights(picture)
        top = float(TOP)
        for row in picture.rows:
            self._paint_axis(painter, row, QRectF(GUTTER, top, self.width() - GUTTER - RIGHT, tall), ticks)
            top += tall + GAP
        if picture.interval_history:
            self._paint_narrowed(painter, picture, QRectF(GUTTER, top, self.width() - GUTTER - RIGHT, low), ticks)
            top += low + GAP
        for gain in picture.gains:
            self._paint_gain(painter, gain, QRectF(GUTTER, top, self.width() - GUTTER - RIGHT, low), ticks)
            top += low + GAP
        self._paint_ticks(painter, ticks, top - GAP)
        painter.end()

    def _paint_ground(self, painter: QPainter, box: QRectF, ticks: list[float]) -> None:
        theme = self._theme
        painter.setPen(QPen(QColor(theme.line), 1))
        painter.setBrush(QColor(theme.sheet))
        painter.drawRect(box)
        painter.setPen(QPen(QColor(theme.faint), 1))
        for tick in ticks[1:]:
            painter.drawLine(QPointF(self._x(tick), box.top() + 1), QPointF(self._x(tick), box.bottom() - 1))

    def _paint_title(self, painter: QPainter, box: QRectF, title: str, unit: str, colour: str) -> None:
        painter.setFont(font(8.5, bold=True))
        painter.setPen(QColor(colour))
        place = QRectF(4, box.top() + 2, GUTTER - 10, box.height())
        wraps = int(Qt.TextFlag.TextWordWrap | Qt.AlignmentFlag.AlignLeft)
        used = painter.boundingRect(place, wraps, title)
        painter.drawText(place, wraps, title)
        if used.bottom() + 12 <= box.bottom():  # the unit stands beside the numbers too
            painter.setFont(font(7.5))
            painter.setPen(QColor(self._theme.muted))
            painter.drawText(QPointF(4, used.bottom() + 12), unit)

    def _paint_axis(self, painter: QPainter, row: AxisRow, box: QRectF, ticks: list[float]) -> None:
        theme = self._theme
        self._paint_ground(painter, box, ticks)
        self._paint_title(painter, box, capital(row.title), self._unit_words(), theme.voltage)
        base = box.bottom() - BASE_PX
        if row.edge is not None:
            self._paint_edge(painter, row, box)
        painter.fillRect(QRectF(box.left(), base + 2, self._x(row.kept) - box.left(), 5), QColor(theme.voltage))
        painter.setPen(QPen(QColor(theme.line), 1))
        painter.drawLine(QPointF(box.left(), base), QPointF(box.right(), base))
        taken: dict[int, int] = {}
        longest = max(LONG_S, *(mark.load_s for mark in row.marks)) if row.marks else LONG_S
        for mark in row.marks:
            stem = self._stem(mark, longest, box)
            self._paint_mark(painter, mark, QPointF(self._beside(mark, taken, box), base), stem)
        if row.kept:
            self._paint_kept(painter, row.kept, box)

    def _paint_edge(self, painter: QPainter, row: AxisRow, box: QRectF) -> None:
        theme, edge = self._theme, row.edge
        if edge is None:
            return
        left, right = self._x(max(0.0, edge.low)), min(box.right(), self._x(edge.high))
        tint = QColor(theme.temperature)
        tint.setAlpha(34)
        painter.fillRect(QRectF(left, box.top() + 1, max(0.0, right - left), box.height() - 2), tint)
        at = self._x(edge.value)
        painter.setPen(QPen(QColor(theme.temperature), 1.4, Qt.PenStyle.DashLine))
        if at <= box.right():
            painter.drawLine(QPointF(at, box.top() + 18), QPointF(at, box.bottom()))
        place, low, high = (self._place(position) for position in (edge.value, edge.low, edge.high))
        words = f"edge {place}, from {low} to {high}"
        self._words(painter, words, at, box.top() + 13, box, theme.temperature)

    def _paint_kept(self, painter: QPainter, kept: float, box: QRectF) -> None:
        theme, at = self._theme, self._x(kept)
        painter.setPen(QPen(QColor(theme.voltage), 2.4))
        painter.drawLine(QPointF(at, box.top() + 20), QPointF(at, box.bottom()))
        self._words(painter, f"keep {self._place(kept)}", at, box.top() + 28, box, theme.voltage, leftwards=True)

    def _words(
        self, painter: QPainter, words: str, at: float, y: float, box: QRectF, colour: str, *, leftwards: bool = False
    ) -> None:
        """Write beside a place on the scale, within the box."""
        painter.setFont(font(8.0, bold=True))
        painter.setPen(QColor(colour))
        width = painter.fontMetrics().horizontalAdvance(words)
        left = at - width - 5 if leftwards else at - width / 2
        painter.drawText(QPointF(min(max(left, box.left() + 4), box.right() - width - 4), y), words)

    def _beside(self, mark: Mark, taken: dict[int, int], box: QRectF) -> float:
        """Return where a mark stands, beside those that stand at its position already."""
        beside = taken.get(round(mark.position), 0)
        taken[round(mark.position)] = beside + 1
        shift = (beside + 1) // 2 * (6.0 if beside % 2 else -6.0)
        return min(max(self._x(mark.position) + shift, box.left() + HEAD), box.right() - HEAD)

    def _stem(self, mark: Mark, longest: float, box: QRectF) -> float:
        """Return the height of a stem: it grows with the logarithm of the time."""
        share = log(max(mark.load_s, SHORTEST_S) / SHORTEST_S) / log(longest / SHORTEST_S)
        return SHORTEST_PX + min(1.0, share) * (box.height() - LABELS_PX - BASE_PX - SHORTEST_PX)

    def _paint_mark(self, painter: QPainter, mark: Mark, foot: QPointF, stem: float) -> None:
        theme = self._theme
        head = QPointF(foot.x(), foot.y() - stem)
        failed = mark.outcome in FAILED
        colour = theme.muted if mark.earlier else theme.temperature if failed else theme.voltage
        style = Qt.PenStyle.DotLine if mark.earlier else Qt.PenStyle.SolidLine
        painter.setPen(QPen(QColor(colour), 3.6 if mark.soak else 2.2, style))
        painter.drawLine(foot, head)
        draw_head(painter, mark.outcome, head, theme)
        if mark.number == self._chosen:
            painter.setPen(QPen(QColor(theme.accent), 1.6))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(head, 9, 9)
        self._heads.append((head, mark))

    def _paint_narrowed(self, painter: QPainter, picture: EdgePicture, box: QRectF, ticks: list[float]) -> None:
        theme, steps = self._theme, picture.interval_history
        self._paint_ground(painter, box, ticks)
        title = "Edge, test by test" if len(picture.rows) < 2 else f"Edge, {picture.narrowed_of}, test by test"
        self._paint_title(painter, box, title, "downwards", theme.temperature)
        paint_narrowing(painter, steps, box, self._x, theme)
        first, last = (steps[i].edge.high - steps[i].edge.low for i in (0, -1))
        quantity = picture.axis.quantity
        self._beside_box(
            painter, box, f"{quantity.show(last)} wide", f"{quantity.show(first)} at first", theme.temperature
        )

    def _beside_box(self, painter: QPainter, box: QRectF, number: str, said: str, colour: str) -> None:
        """Write a number and what it is right of a row."""
        y = box.center().y()
        painter.setFont(font(8.0, bold=True))
        painter.setPen(QColor(colour))
        painter.drawText(QPointF(box.right() + 6, y - 1), number)
        painter.setFont(font(7.5))
        painter.setPen(QColor(self._theme.muted))
        painter.drawText(QPointF(box.right() + 6, y + 12), said)

    def _paint_gain(self, painter: QPainter, row: GainRow, box: QRectF, ticks: list[float]) -> None:
        theme = self._theme
        unit = row.quantity.on_axes[0]
        colour = theme.of(row.quantity.name)
        self._paint_ground(painter, box, ticks)
        self._paint_title(painter, box, row.title, "% of stock" if row.relative else unit, colour)
        values = [value for _, value in row.points]
        low, high = min(values), max(values)
        least = LEAST_RELATIVE * abs(values[0]) if row.relative else LEAST_SPAN.get(row.quantity.name, 0.0)
        span = max(high - low, least) or abs(high) * 0.02 or 1.0
        low -= (span - (high - low)) / 2.0
        inner = box.adjusted(0, 9, 0, -9)
        places = [
            QPointF(self._x(position), inner.bottom() - (value - low) / span * inner.height())
            for position, value in row.points
        ]
        painter.setPen(QPen(QColor(colour), 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(QPolygonF(places))
        painter.setBrush(QColor(theme.sheet))
        for place in places:
            painter.drawEllipse(place, 2.8, 2.8)
        last, first = row.points[-1][1], row.points[0][1]
        said = "over stock" if row.relative else f"{row.quantity.show(first)} at stock"
        self._beside_box(painter, box, _value(row, last, first), said, colour)

    def _paint_ticks(self, painter: QPainter, ticks: list[float], top: float) -> None:
        painter.setFont(font(7.5))
        painter.setPen(QColor(self._theme.muted))
        unit = self._picture.axis.quantity.unit if self._picture is not None else ""
        for tick in ticks:
            words = f"{self._place(tick)} {unit}" if tick else "stock"
            width = painter.fontMetrics().horizontalAdvance(words)
            painter.drawText(QPointF(self._x(tick) - width / 2, top + 14), words)


def _low_rows(picture: EdgePicture) -> int:
    return len(picture.gains) + bool(picture.interval_history)


def _ticks(picture: EdgePicture) -> list[float]:
    """Return the positions that are marked: stock, and those at which the controls have round values."""
    axis, furthest = picture.axis, picture.furthest
    low, high = sorted((axis.value(0.0), axis.value(furthest)))
    step = furthest / MOST_TICKS
    places = sorted(axis.position(value) for value in round_ticks(low, high, MOST_TICKS))
    return [0.0, *(place for place in places if place > 0.5 * step)]


def _value(row: GainRow, last: float, first: float) -> str:
    if row.relative:
        return f"{100.0 * (last / first - 1.0):+.1f} %".replace("-", "−")
    return row.quantity.show(last)


class EdgeLegend(QWidget):
    """Which mark means what."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.setFixedHeight(18)
        self.setAccessibleName(
            "Marks: " + ", ".join(words for _, words in LEGEND) + "; the longer the stem, the longer"
        )

    def sizeHint(self) -> QSize:
        """Return room for the words."""
        return QSize(560, 18)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw the marks with their words."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(8.0))
        x = float(HEAD + 2)
        for outcome, words in LEGEND:
            draw_head(painter, outcome, QPointF(x, 9), self._theme)
            painter.setPen(QColor(self._theme.muted))
            painter.drawText(QPointF(x + 9, 13), words)
            x += 28 + painter.fontMetrics().horizontalAdvance(words)
        painter.setPen(QColor(self._theme.muted))
        painter.drawText(QPointF(x - 4, 13), "stem: how long; dotted: before")
        painter.end()
