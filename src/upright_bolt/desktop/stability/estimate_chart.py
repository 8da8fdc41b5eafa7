"""How the estimate of the edge narrowed, test by test: the band between its bounds, downwards in the order of tests.

A mark in the row of a test says where it was made and how it ended: what passes pushes the band away,
what fails holds it.
"""

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from upright_bolt.analysis.stability.course import Narrowed
from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.model.search import Outcome
from upright_bolt.presentation.stability_picture import outcome_of

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


MARGIN_PX = 7.0
MARK = 2.6


def paint_narrowing(
    painter: QPainter, steps: Sequence[Narrowed], box: QRectF, place: Callable[[float], float], theme: Theme
) -> None:
    """Draw the band in a box.

    Args:
        painter: draws.
        steps: at least two estimates, in their order.
        box: where.
        place: turns a position on the axis into one on the picture.
        theme: gives the colours.
    """
    height = (box.height() - 2 * MARGIN_PX) / (len(steps) - 1)
    rows = [box.top() + MARGIN_PX + number * height for number in range(len(steps))]

    def bound(position: float, row: float) -> QPointF:
        return QPointF(min(max(place(position), box.left() + 1), box.right() - 1), row)

    low = [bound(step.edge.low, row) for step, row in zip(steps, rows, strict=True)]
    high = [bound(step.edge.high, row) for step, row in zip(steps, rows, strict=True)]
    colour = QColor(theme.temperature)
    tint = QColor(colour)
    tint.setAlpha(34)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(tint)
    painter.drawPolygon(QPolygonF([*low, *reversed(high)]))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(colour, 1.0))
    painter.drawPolyline(QPolygonF(low))
    painter.drawPolyline(QPolygonF(high))
    painter.setPen(QPen(colour, 1.4, Qt.PenStyle.DashLine))
    painter.drawPolyline(QPolygonF([bound(step.edge.value, row) for step, row in zip(steps, rows, strict=True)]))
    for step, row in zip(steps, rows, strict=True):
        if step.after is not None:
            draw_head(painter, outcome_of(step.after), bound(step.after.position, row), theme, MARK)
