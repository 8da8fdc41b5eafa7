"""The marks of a search's tests, by how each ended: on its chart and in the legend below it.

Ring: passed. Cross: wrong results. Triangle: a worker died, or the driver reset the chip. Square: the machine froze.
Half ring: ended before its time. Dot: goes on.
"""

from dataclasses import dataclass

import pyqtgraph as pg
from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QBrush, QPainterPath, QPen, QPixmap
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QWidget
from pyqtgraph.graphicsItems.ScatterPlotItem import renderSymbol

from upright_bolt.desktop.widgets.basic import label
from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.model.search import Outcome

SIZE = 10.0
LEGEND = ((Outcome.PASSED, "passed"), (Outcome.WRONG, "wrong results"), (Outcome.DIED, "died or was reset"),
          (Outcome.FROZE, "froze"), (Outcome.STOPPED, "ended early"))  # fmt: skip


@dataclass(frozen=True, slots=True)
class Shape:
    """How an outcome is drawn: a symbol of the plotting library, or a path of width 1 around the origin."""

    symbol: str | QPainterPath
    pen: QPen
    brush: QBrush


def shape_of(outcome: Outcome | None, theme: Theme) -> Shape:
    """Return the shape of an outcome; None for a test that goes on."""
    good, bad, empty = (
        pg.mkPen(theme.voltage, width=1.8),
        pg.mkPen(theme.temperature, width=1.8),
        pg.mkBrush(theme.sheet),
    )
    if outcome is None:
        return Shape("o", pg.mkPen(None), pg.mkBrush(theme.accent))
    if outcome is Outcome.WRONG:
        return Shape(_cross(), pg.mkPen(theme.temperature, width=2.0), pg.mkBrush(None))
    if outcome in (Outcome.DIED, Outcome.RESET):
        return Shape("t1", bad, empty)
    if outcome is Outcome.FROZE:
        return Shape("s", pg.mkPen(theme.ink), pg.mkBrush(theme.ink))
    if outcome in (Outcome.STOPPED, Outcome.HOT, Outcome.REFUSED):
        return Shape(_half_ring(), good, pg.mkBrush(None))
    return Shape("o", good, empty)


def _cross() -> QPainterPath:
    path = QPainterPath()
    for way in (1.0, -1.0):
        path.moveTo(-0.45, -0.45 * way)
        path.lineTo(0.45, 0.45 * way)
    return path


def _half_ring() -> QPainterPath:
    box, path = QRectF(-0.5, -0.5, 1.0, 1.0), QPainterPath()
    path.arcMoveTo(box, 0.0)
    path.arcTo(box, 0.0, 180.0)
    return path


class EdgeLegend(QWidget):
    """Which mark means what."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(5)
        for outcome, words in LEGEND:
            mark = QLabel()
            mark.setPixmap(_picture(shape_of(outcome, theme)))
            line.addWidget(mark)
            line.addWidget(label(words, "muted"))
            line.addSpacing(8)
        line.addWidget(label("stem: how long; dotted: before", "muted"))
        line.addStretch()
        said = ", ".join(words for _, words in LEGEND)
        self.setAccessibleName(f"Marks: {said}; the longer the stem, the longer")


def _picture(shape: Shape) -> QPixmap:
    return QPixmap.fromImage(renderSymbol(shape.symbol, SIZE, shape.pen, shape.brush))
