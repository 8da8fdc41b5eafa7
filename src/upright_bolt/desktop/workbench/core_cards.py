"""Cores now: one small card per core with clock, busy share and temperature."""

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen, QResizeEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from upright_bolt.desktop.widgets.theme import Theme, font
from upright_bolt.model.quantity import CLOCK
from upright_bolt.presentation.machine_info import CoreNow

CARD_H = 44
GAP = 6
LEAST_W = 88


class CoreCards(QWidget):
    """Draws the cards in as many columns as fit."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._cores: tuple[CoreNow, ...] = ()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        """Return the height that the cards need."""
        return QSize(300, self._rows() * (CARD_H + GAP) - GAP if self._cores else 0)

    def _fit(self) -> None:
        self.setMinimumHeight(self.sizeHint().height())
        self.updateGeometry()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Take the height that the new width needs."""
        super().resizeEvent(event)
        self._fit()

    def _columns(self) -> int:
        return max(1, min(len(self._cores) or 1, (self.width() + GAP) // (LEAST_W + GAP)))

    def _rows(self) -> int:
        return -(-len(self._cores) // self._columns())

    def show_cores(self, cores: tuple[CoreNow, ...]) -> None:
        """Show the numbers of the moment."""
        if len(cores) != len(self._cores):
            self._cores = cores
            self._fit()
        self._cores = cores
        words = [f"core {c.name} {CLOCK.show(c.clock_mhz)}" for c in cores]
        self.setAccessibleName("Cores now: " + ", ".join(words))
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        columns = self._columns()
        width = (self.width() - GAP * (columns - 1)) / columns
        for i, core in enumerate(self._cores):
            left = (i % columns) * (width + GAP)
            self._card(painter, QRectF(left, (i // columns) * (CARD_H + GAP), width, CARD_H), core)
        painter.end()

    def _card(self, painter: QPainter, box: QRectF, core: CoreNow) -> None:
        theme = self._theme
        painter.setPen(QPen(QColor(theme.line), 1))
        painter.setBrush(QColor(theme.sheet))
        painter.drawRoundedRect(box.adjusted(0.5, 0.5, -0.5, -0.5), 3, 3)
        inner = box.adjusted(7, 3, -7, -4)
        painter.setFont(font(8.0))
        painter.setPen(QColor(theme.muted))
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, core.name)
        painter.setPen(QColor(theme.ink))
        painter.setFont(font(8.5, bold=True))
        clock = "–" if core.clock_mhz is None else CLOCK.show(core.clock_mhz)
        painter.drawText(inner, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, clock)
        self._bar(painter, inner, core.busy)
        painter.setFont(font(7.5))
        painter.setPen(QColor(theme.muted))
        busy = "–" if core.busy is None else f"{core.busy:.0f} %"
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, busy)
        if core.temp_c is not None:
            painter.setPen(QColor(theme.temperature))
            painter.drawText(inner, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom, f"{core.temp_c:.0f} °C")

    def _bar(self, painter: QPainter, inner: QRectF, busy: float | None) -> None:
        y = inner.top() + 19
        painter.setPen(QPen(QColor(self._theme.faint), 3))
        painter.drawLine(QPointF(inner.left(), y), QPointF(inner.right(), y))
        if busy:
            painter.setPen(QPen(QColor(self._theme.clock), 3))
            painter.drawLine(QPointF(inner.left(), y), QPointF(inner.left() + inner.width() * busy / 100.0, y))
