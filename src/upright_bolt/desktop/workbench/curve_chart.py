"""A graphics chip's curve: voltage over clock as it was seen at stock, what is asked of it, and what came out.

Dots: seen at stock. Dashed line: what is asked. Squares: seen with the curve moved.
"""

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from upright_bolt.analysis.clock_voltage import Asked, Curve
from upright_bolt.desktop.widgets.theme import Theme, font
from upright_bolt.model.quantity import CLOCK, VOLTAGE
from upright_bolt.presentation.ticks import round_ticks

LEFT, RIGHT, TOP, FOOT = 52, 14, 26, 34
MOST_TICKS = 8
ROOM = 0.06
"""Of the span left free beyond the outermost pairs."""
NOTHING_SEEN = "No clock of this chip was seen under load yet."
NO_VOLTAGE = "Clocks of this chip were seen under load, but its driver tells no voltage."
LEGEND = (("dot", "seen at stock"), ("line", "asked"), ("square", "seen since"))


class CurveChart(QWidget):
    """The picture."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._curve: Curve | None = None
        self._asked: Asked | None = None
        self._missing = NOTHING_SEEN
        self._x: tuple[float, float] = (0.0, 1.0)
        self._y: tuple[float, float] = (0.0, 1.0)
        self.setAccessibleName("Voltage over clock of the graphics chip")
        self.setMinimumHeight(280)

    def sizeHint(self) -> QSize:
        """Return room for a curve."""
        return QSize(620, 320)

    def show_curve(self, curve: Curve | None, asked: Asked | None) -> None:
        """Draw another curve, and what is asked of it."""
        self._curve, self._asked = curve, asked
        seen = [] if curve is None else _pairs(curve)
        self._x = _spread([mhz for mhz, _ in seen])
        line = [] if curve is None or asked is None else _asked_line(curve, asked)
        self._y = _spread([v for _, v in [*seen, *line]])
        told = ", ".join(f"{CLOCK.show(mhz)} at {VOLTAGE.show(v)}" for mhz, v in seen)
        self._missing = "" if seen else NO_VOLTAGE if curve is not None and curve.stock else NOTHING_SEEN
        self.setAccessibleDescription(told or self._missing)
        self.update()

    def _at(self, clock_mhz: float, volts: float) -> QPointF:
        (x0, x1), (y0, y1) = self._x, self._y
        width, height = self.width() - LEFT - RIGHT, self.height() - TOP - FOOT
        return QPointF(LEFT + width * (clock_mhz - x0) / (x1 - x0), TOP + height * (1.0 - (volts - y0) / (y1 - y0)))

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw ground, curve, what is asked, and what came out."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_ground(painter)
        curve = self._curve
        if curve is not None:
            stock = [self._at(pair.clock_mhz, pair.volts) for pair in curve.stock if pair.volts is not None]
            painter.setPen(QPen(QColor(self._theme.voltage), 1.8))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(QPolygonF(stock))
            painter.setBrush(QColor(self._theme.voltage))
            for place in stock:
                painter.drawEllipse(place, 3.2, 3.2)
            self._paint_asked(painter, curve)
            painter.setPen(QPen(QColor(self._theme.power), 1.8))
            painter.setBrush(QColor(self._theme.sheet))
            for mhz, volts in _moved(curve):
                at = self._at(mhz, volts)
                painter.drawRect(QRectF(at.x() - 3.5, at.y() - 3.5, 7, 7))
        self._paint_legend(painter)
        painter.end()

    def _paint_ground(self, painter: QPainter) -> None:
        theme = self._theme
        box = QRectF(LEFT, TOP, self.width() - LEFT - RIGHT, self.height() - TOP - FOOT)
        painter.setPen(QPen(QColor(theme.line), 1))
        painter.setBrush(QColor(theme.sheet))
        painter.drawRect(box)
        if self._missing:
            painter.setFont(font(9.0))
            painter.setPen(QColor(theme.muted))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, self._missing)
            return
        painter.setFont(font(7.5))
        for mhz in round_ticks(*self._x, MOST_TICKS):
            x = self._at(mhz, self._y[0]).x()
            painter.setPen(QPen(QColor(theme.faint), 1))
            painter.drawLine(QPointF(x, box.top() + 1), QPointF(x, box.bottom() - 1))
            painter.setPen(QColor(theme.muted))
            painter.drawText(QRectF(x - 34, box.bottom() + 3, 68, 14), Qt.AlignmentFlag.AlignCenter, f"{mhz:.0f}")
        for volts in round_ticks(*self._y, MOST_TICKS):
            y = self._at(self._x[0], volts).y()
            painter.setPen(QPen(QColor(theme.faint), 1))
            painter.drawLine(QPointF(box.left() + 1, y), QPointF(box.right() - 1, y))
            painter.setPen(QColor(theme.muted))
            place = QRectF(2, y - 7, LEFT - 8, 14)
            painter.drawText(place, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{volts:.2f}")
        painter.drawText(QPointF(8, TOP - 9), "V")
        painter.drawText(
            QRectF(box.left(), box.bottom() + 17, box.width(), 14), Qt.AlignmentFlag.AlignRight, "clock, MHz"
        )

    def _paint_asked(self, painter: QPainter, curve: Curve) -> None:
        """Draw the curve moved as far as is asked, and cut flat at the clock that is held."""
        asked = self._asked
        if asked is None:
            return
        theme = self._theme
        painter.setPen(QPen(QColor(theme.accent), 2.0, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        line = _asked_line(curve, asked)
        if not line:
            return
        points = [self._at(*point) for point in line]
        end, volts = points[-1], line[-1][1]
        painter.drawPolyline(QPolygonF(points))
        painter.drawLine(end, QPointF(end.x(), self.height() - FOOT))
        painter.setFont(font(8.0, bold=True))
        painter.setPen(QColor(theme.accent))
        words = f"{CLOCK.show(asked.clock_mhz)} at {VOLTAGE.show(volts)}"
        width = painter.fontMetrics().horizontalAdvance(words)
        painter.drawText(QPointF(max(LEFT + 4.0, end.x() - width - 8), self.height() - FOOT - 8.0), words)

    def _paint_legend(self, painter: QPainter) -> None:
        theme = self._theme
        painter.setFont(font(8.0))
        x = float(LEFT)
        for mark, words in LEGEND:
            at = QPointF(x + 5, TOP - 13)
            if mark == "dot":
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(QColor(theme.voltage))
                painter.drawEllipse(at, 3.2, 3.2)
            elif mark == "line":
                painter.setPen(QPen(QColor(theme.accent), 2.0, Qt.PenStyle.DashLine))
                painter.drawLine(QPointF(x - 2, at.y()), QPointF(x + 11, at.y()))
            else:
                painter.setPen(QPen(QColor(theme.power), 1.8))
                painter.setBrush(QColor(theme.sheet))
                painter.drawRect(QRectF(at.x() - 3.5, at.y() - 3.5, 7, 7))
            painter.setPen(QColor(theme.muted))
            painter.drawText(QPointF(x + 15, TOP - 9), words)
            x += 36 + painter.fontMetrics().horizontalAdvance(words)


def _asked_line(curve: Curve, asked: Asked) -> list[tuple[float, float]]:
    """Return the stock curve moved as far as is asked, up to the clock that is held; nothing beyond what was seen."""
    there = curve.volts_at(asked.clock_mhz)
    if there is None:
        return []
    less = 0.0 if asked.volts is None else there - asked.volts
    below = [
        (pair.clock_mhz, pair.volts - less)
        for pair in curve.stock
        if pair.volts is not None and pair.clock_mhz < asked.clock_mhz
    ]
    return [*below, (asked.clock_mhz, there - less)]


def _moved(curve: Curve) -> list[tuple[float, float]]:
    return [(p.clock_mhz, p.volts) for pairs in curve.moved.values() for p in pairs if p.volts is not None]


def _pairs(curve: Curve) -> list[tuple[float, float]]:
    stock = [(pair.clock_mhz, pair.volts) for pair in curve.stock if pair.volts is not None]
    return stock + _moved(curve)


def _spread(values: list[float]) -> tuple[float, float]:
    """Return the bounds of a scale around values."""
    if not values:
        return 0.0, 1.0
    low, high = min(values), max(values)
    room = ROOM * (high - low) or 0.05 * abs(high) or 1.0
    return low - room, high + room
