"""Our own small drawings: the bolt and one sign per view."""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QIcon, QPainter, QPainterPath, QPen, QPixmap, QPolygonF


def bolt(painter: QPainter, box: QRectF, colour: str) -> None:
    """Draw an upright bolt: a hexagon head over a threaded shank."""
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(colour))
    w, h, x, y = box.width(), box.height(), box.left(), box.top()
    head = [(0.18, 0.0), (0.82, 0.0), (1.0, 0.16), (0.82, 0.32), (0.18, 0.32), (0.0, 0.16)]
    painter.drawPolygon(QPolygonF([QPointF(x + a * w, y + b * h) for a, b in head]))
    for i in range(4):
        top = y + h * (0.38 + i * 0.15)
        slant = [(0.30, 0.04), (0.70, 0.0), (0.70, 0.09), (0.30, 0.13)]
        painter.drawPolygon(QPolygonF([QPointF(x + a * w, top + b * h) for a, b in slant]))


def view_sign(painter: QPainter, name: str, box: QRectF, colour: str) -> None:
    """Draw the sign of a view."""
    painter.setPen(QPen(QColor(colour), 1.5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    signs = {
        "machine": _machine, "workbench": _workbench, "edge": _edge, "compare": _compare, "profiles": _profiles,
        "more": _more,
    }  # fmt: skip
    signs[name](painter, box, QColor(colour))


def _machine(painter: QPainter, box: QRectF, _colour: QColor) -> None:
    x, y, w, h = box.left(), box.top(), box.width(), box.height()
    painter.drawRoundedRect(QRectF(x + 0.12 * w, y + 0.1 * h, 0.76 * w, 0.56 * h), 2, 2)
    painter.drawLine(QPointF(x, y + 0.85 * h), QPointF(x + w, y + 0.85 * h))


def _workbench(painter: QPainter, box: QRectF, colour: QColor) -> None:
    x, y, w, h = box.left(), box.top(), box.width(), box.height()
    for i, knob in enumerate((0.3, 0.68, 0.45)):
        top = y + h * (0.2 + 0.3 * i)
        painter.drawLine(QPointF(x, top), QPointF(x + w, top))
        painter.setBrush(colour)
        painter.drawEllipse(QPointF(x + knob * w, top), 2.4, 2.4)
        painter.setBrush(Qt.BrushStyle.NoBrush)


def _edge(painter: QPainter, box: QRectF, _colour: QColor) -> None:
    x, y, w, h = box.left(), box.top(), box.width(), box.height()
    path = QPainterPath(QPointF(x, y + 0.9 * h))
    path.cubicTo(QPointF(x + 0.4 * w, y + 0.85 * h), QPointF(x + 0.58 * w, y + 0.6 * h), QPointF(x + 0.62 * w, y))
    painter.drawPath(path)
    for part in (0.02, 0.3, 0.58, 0.86):
        painter.drawLine(QPointF(x + 0.86 * w, y + part * h), QPointF(x + 0.86 * w, y + (part + 0.12) * h))


def _compare(painter: QPainter, box: QRectF, _colour: QColor) -> None:
    x, y, w, h = box.left(), box.top(), box.width(), box.height()
    for shift in (0.0, 0.3):
        path = QPainterPath(QPointF(x, y + h * (0.75 - shift)))
        path.cubicTo(
            QPointF(x + 0.3 * w, y + h * (0.2 - shift / 3)), QPointF(x + 0.6 * w, y + h * (0.9 - shift)),
            QPointF(x + w, y + h * (0.45 - shift)),
        )  # fmt: skip
        painter.drawPath(path)


def _profiles(painter: QPainter, box: QRectF, colour: QColor) -> None:
    """Draw two columns of marks side by side: the same scales, set otherwise."""
    x, y, w, h = box.left(), box.top(), box.width(), box.height()
    painter.setBrush(colour)
    for left, marks in ((0.02, (0.3, 0.12, 0.24)), (0.56, (0.1, 0.32, 0.2))):
        for row, mark in enumerate(marks):
            top = y + h * (0.2 + 0.3 * row)
            painter.drawLine(QPointF(x + left * w, top), QPointF(x + (left + 0.42) * w, top))
            painter.drawEllipse(QPointF(x + (left + mark) * w, top), 1.6, 1.6)


def _more(painter: QPainter, box: QRectF, colour: QColor) -> None:
    painter.setBrush(colour)
    for place in (0.2, 0.5, 0.8):
        painter.drawEllipse(QPointF(box.left() + place * box.width(), box.top() + 0.5 * box.height()), 1.8, 1.8)


def app_icon(ink: str, mark: str) -> QIcon:
    """Return the application's icon."""
    pixmap = QPixmap(128, 128)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setBrush(QColor(ink))
    painter.setPen(Qt.PenStyle.NoPen)
    painter.drawRoundedRect(QRectF(0, 0, 128, 128), 24, 24)
    bolt(painter, QRectF(36, 20, 56, 88), mark)
    painter.end()
    return QIcon(pixmap)
