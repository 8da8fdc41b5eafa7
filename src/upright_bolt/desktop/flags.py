"""Flags on the time axis: what was done, and what the machine did by itself."""

import pyqtgraph as pg
from PyQt6.QtGui import QColor

from upright_bolt.desktop.chart import Chart
from upright_bolt.desktop.theme import Theme, font
from upright_bolt.model.event import Event, Kept, LimitsReset, Tried, WasPutBack
from upright_bolt.wording.events import short

ROWS = 3
MOST = 12
HEIGHT = 52
LETTER_PX = 5.6


class Flags(Chart):
    """A strip of flags above the charts, with a thin line down through each of them."""

    def __init__(self, theme: Theme, below: list[Chart]) -> None:
        super().__init__("", None, theme, times=False)
        self._below = below
        self._shown: tuple[tuple[float, str, bool], ...] = ()
        self._items: list[tuple[Chart, pg.GraphicsObject]] = []
        item = self.getPlotItem()
        item.getAxis("left").setTicks([])
        item.getAxis("bottom").setTicks([])
        item.getAxis("left").setPen(pg.mkPen(None))
        item.getAxis("bottom").setPen(pg.mkPen(None))
        item.getViewBox().setBackgroundColor(None)
        item.getViewBox().setBorder(None)
        item.showGrid(x=False, y=False)
        item.setMouseEnabled(x=False, y=False)
        item.setYRange(0, ROWS, padding=0)
        self.setFixedHeight(HEIGHT)

    def draw(self, events: list[Event], from_s: float, to_s: float) -> None:
        """Show the events between two times, the newest if there are too many."""
        visible = [event for event in events if from_s <= event.time_s <= to_s][-MOST:]
        turn = from_s + 0.72 * (to_s - from_s)
        wanted = tuple((event.time_s, _short(event), event.time_s > turn) for event in visible)
        if wanted == self._shown:
            return
        self._shown = wanted
        for chart, item in self._items:
            chart.removeItem(item)
        self._items = []
        per_px = (to_s - from_s) / max(1, self.width() - 60)
        free = [float("-inf")] * ROWS
        for event in visible:
            width, leftwards = per_px * (14 + LETTER_PX * len(_short(event))), event.time_s > turn
            begins = event.time_s - width if leftwards else event.time_s
            row = next((r for r in range(ROWS) if free[r] <= begins), None)
            self._line(event)
            if row is not None:
                free[row] = begins + width
                self._flag(event, row, leftwards=leftwards)

    def _line(self, event: Event) -> None:
        pen = self.pen(self._colour(event), width=1.0, style="dot")
        for chart in self._below:
            line = pg.InfiniteLine(event.time_s, angle=90, pen=pen)
            chart.addItem(line, ignoreBounds=True)
            self._items.append((chart, line))

    def _flag(self, event: Event, row: int, *, leftwards: bool) -> None:
        words = pg.TextItem(
            f" {_short(event)} ",
            color=self.theme.paper,
            fill=QColor(self._colour(event)),
            anchor=(1.0 if leftwards else 0.0, 0.5),
        )
        words.setFont(font(7.0, bold=True))
        words.setPos(event.time_s, ROWS - row - 0.5)
        self.addItem(words, ignoreBounds=True)
        self._items.append((self, words))

    def _colour(self, event: Event) -> str:
        theme = self.theme
        if isinstance(event, Tried | Kept | WasPutBack):
            return theme.accent
        return theme.temperature if isinstance(event, LimitsReset) else theme.ink


def _short(event: Event) -> str:
    text = short(event)
    return text if len(text) <= 34 else text[:33] + "…"
