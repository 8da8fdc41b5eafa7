"""Charts of one quantity over time or another one: title, unit and axes in the theme's colours, limits drawn in."""

from math import ceil

import pyqtgraph as pg
from PyQt6.QtCore import QEvent, QObject, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPen
from PyQt6.QtWidgets import QGraphicsItem, QSizePolicy

from upright_bolt.desktop.widgets.theme import Theme, font
from upright_bolt.model.quantity import Quantity, clock_text

AXIS_W = 40
NOT_MEASURED = "Not measured"
STYLES = {
    "solid": Qt.PenStyle.SolidLine,
    "dash": Qt.PenStyle.DashLine,
    "dot": Qt.PenStyle.DotLine,
    "dash-dot": Qt.PenStyle.DashDotLine,
}


class TimeAxis(pg.AxisItem):
    """A time axis in minutes and seconds, counted from ``zero`` (the present, or the load start)."""

    STEPS_S = (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 1800, 3600, 7200, 14400)

    def __init__(self, *, ends_now: bool) -> None:
        super().__init__("bottom")
        self.zero = 0.0
        self._ends_now = ends_now

    def tickValues(self, low: float, high: float, size: float) -> list[tuple[float, list[float]]]:
        """Return ticks at whole steps from zero."""
        wanted = (high - low) / max(2.0, size / 72.0)
        step = next((s for s in self.STEPS_S if s >= wanted), self.STEPS_S[-1])
        first = ceil((low - self.zero) / step)
        values: list[float] = []
        while self.zero + first * step <= high and len(values) < 50:
            values.append(self.zero + first * step)
            first += 1
        return [(float(step), values)]

    def tickStrings(self, values: list[float], _scale: float, _spacing: float) -> list[str]:
        """Return the words at the ticks."""
        return ["now" if self._ends_now and abs(v - self.zero) < 0.5 else clock_text(v - self.zero) for v in values]


class Chart(pg.PlotWidget):
    """A chart.

    Args:
        title: what is drawn; empty for a bare strip of lanes or flags.
        quantity: its unit and colour.
        times: True if the time axis is written below.

    Signals:
        moved: a person has dragged or zoomed the time axis.
        returned: a person has double-clicked.
    """

    moved = pyqtSignal()
    returned = pyqtSignal()

    def __init__(
        self, title: str, quantity: Quantity | None, theme: Theme, *, times: bool, ends_now: bool = True
    ) -> None:
        self.time_axis = TimeAxis(ends_now=ends_now)
        super().__init__(axisItems={"bottom": self.time_axis}, background=theme.paper, enableMenu=False)
        self.theme = theme
        item = self.getPlotItem()
        item.hideButtons()
        item.setMouseEnabled(x=True, y=False)
        item.setContentsMargins(0, 0, 0, 0)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setFrameStyle(0)
        self._dress_axes(times=times)
        item.getViewBox().setBackgroundColor(theme.sheet)
        item.getViewBox().setBorder(pg.mkPen(theme.line))
        item.getViewBox().sigRangeChangedManually.connect(lambda *_: self.moved.emit())
        self._legend = pg.LabelItem(justify="left")
        self._legend.setParentItem(item.getViewBox())
        self._legend.anchor(itemPos=(0, 0), parentPos=(0, 0), offset=(6, 1))
        self._title_colour = theme.of(quantity.name) if quantity else theme.ink
        self._entitled = ("", "")
        if title:
            self.entitle(title, "" if quantity is None else quantity.on_axes[0])
        self._empty = pg.TextItem("", color=theme.muted, anchor=(0.5, 0.5))
        self._empty.setFont(font(9.0))
        self.viewport().installEventFilter(self)

    def entitle(self, title: str, unit: str) -> None:
        """Write title and unit into the corner."""
        if (title, unit) != self._entitled:
            self._entitled = (title, unit)
            self._legend.setText(f"<span style='color:{self._title_colour}; font-weight:600'>{title}</span>"
                                 f" <span style='color:{self.theme.muted}'>{unit}</span>")  # fmt: skip

    def eventFilter(self, _object: QObject | None, event: QEvent | None) -> bool:
        """Return to the present on a double click."""
        if event is not None and event.type() == QEvent.Type.MouseButtonDblClick:
            self.returned.emit()
        return False

    def _dress_axes(self, *, times: bool) -> None:
        item, theme = self.getPlotItem(), self.theme
        for name in ("left", "bottom"):
            axis = item.getAxis(name)
            axis.setPen(pg.mkPen(theme.line))
            axis.setTextPen(pg.mkPen(theme.muted))
            axis.setTickFont(font(7.5))
            axis.setStyle(tickLength=0, hideOverlappingLabels=False)
            axis.setCacheMode(QGraphicsItem.CacheMode.DeviceCoordinateCache)  # it changes far less often
        item.getAxis("left").setWidth(AXIS_W)
        item.showGrid(x=True, y=True, alpha=0.12)
        if times:
            item.getAxis("bottom").setHeight(20)
        else:
            item.getAxis("bottom").setStyle(showValues=False)
            item.getAxis("bottom").setHeight(2)

    def pen(self, colour: str, *, width: float = 1.5, style: str = "solid") -> QPen:
        """Return a pen in the theme's colour."""
        return pg.mkPen(QColor(colour), width=width, style=STYLES[style])

    def curve(self, colour: str, *, width: float = 1.5, style: str = "solid") -> pg.PlotDataItem:
        """Add an empty curve."""
        made = pg.PlotDataItem(pen=self.pen(colour, width=width, style=style), connect="finite", antialias=True)
        self.addItem(made)
        return made

    def mark_level(self, value: float, words: str, colour: str) -> pg.InfiniteLine:
        """Draw a dashed level with words on it."""
        line = pg.InfiniteLine(
            value,
            angle=0,
            pen=self.pen(colour, width=1.0, style="dash"),
            label=words,
            labelOpts={"position": 0.99, "color": colour, "anchors": [(1.0, -0.1), (1.0, -0.1)]},
        )
        line.label.setFont(font(7.5))
        self.addItem(line)
        return line

    def say(self, sentence: str) -> None:
        """Write a sentence across an empty chart; an empty one takes it away."""
        if sentence:
            self._empty.setText(sentence)
            if self._empty.scene() is None:
                self.addItem(self._empty, ignoreBounds=True)
            (x0, x1), (y0, y1) = self.getPlotItem().getViewBox().viewRange()
            self._empty.setPos((x0 + x1) / 2, (y0 + y1) / 2)
        elif self._empty.scene() is not None:
            self.removeItem(self._empty)


class ValueChart(Chart):
    """A chart over a quantity other than time, which a person looks at and does not move.

    Attributes:
        value_axis: the axis below.
    """

    def __init__(self, theme: Theme) -> None:
        super().__init__("", None, theme, times=False, ends_now=False)
        item = self.getPlotItem()
        item.setMouseEnabled(x=False, y=False)
        item.getAxis("left").setWidth(56)
        axis = pg.AxisItem("bottom")
        item.setAxisItems({"bottom": axis})
        axis.setPen(pg.mkPen(theme.line))
        axis.setTextPen(pg.mkPen(theme.muted))
        axis.setTickFont(font(7.5))
        axis.setStyle(tickLength=0)
        axis.setHeight(38)
        self.value_axis = axis
        self._drawn: list[pg.GraphicsObject] = []

    def draw(self, item: pg.GraphicsObject) -> None:
        """Draw something until the next ``clear_drawn``."""
        self.addItem(item, ignoreBounds=True)
        self._drawn.append(item)

    def write(self, text: str, x: float, y: float, colour: str, anchor: tuple[float, float]) -> None:
        """Write words at a place; ``anchor`` says which part of them lies there, from 0 to 1 each way."""
        words = pg.TextItem(text, color=colour, anchor=anchor)
        words.setFont(font(7.5))
        words.setPos(x, y)
        self.draw(words)

    def clear_drawn(self) -> None:
        """Take away what is drawn."""
        for made in self._drawn:
            self.removeItem(made)
        self._drawn = []
