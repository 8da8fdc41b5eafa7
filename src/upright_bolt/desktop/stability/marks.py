"""Marks of a search: their shape tells how a rung ended."""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.model.search import Outcome

HEAD = 4.5


def draw_head(painter: QPainter, outcome: Outcome | None, at: QPointF, theme: Theme, r: float = HEAD) -> None:
    """Draw the mark of an outcome, ``r`` pixels to either side; None for a rung that goes on."""
    x, y = at.x(), at.y()
    good, bad = QColor(theme.voltage), QColor(theme.temperature)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if outcome is Outcome.WRONG:
        painter.setPen(QPen(bad, 2.0))
        painter.drawLine(QPointF(x - r, y - r), QPointF(x + r, y + r))
        painter.drawLine(QPointF(x - r, y + r), QPointF(x + r, y - r))
    elif outcome in (Outcome.DIED, Outcome.RESET):
        painter.setPen(QPen(bad, 1.8))
        painter.setBrush(QColor(theme.sheet))
        painter.drawPolygon(QPolygonF([QPointF(x, y - r - 1), QPointF(x + r + 1, y + r), QPointF(x - r - 1, y + r)]))
    elif outcome is Outcome.FROZE:
        painter.setPen(QPen(QColor(theme.ink), 1.4))
        painter.setBrush(QColor(theme.ink))
        painter.drawRect(QRectF(x - r, y - r, 2 * r, 2 * r))
    elif outcome in (Outcome.STOPPED, Outcome.HOT, Outcome.REFUSED):
        painter.setPen(QPen(good, 1.8))
        painter.drawArc(QRectF(x - r, y - r, 2 * r, 2 * r), 0, 180 * 16)
    elif outcome is None:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(theme.accent))
        painter.drawEllipse(at, r, r)
    else:
        painter.setPen(QPen(good, 1.8))
        painter.setBrush(QColor(theme.sheet))
        painter.drawEllipse(at, r, r)
