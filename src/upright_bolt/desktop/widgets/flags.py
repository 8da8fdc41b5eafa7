"""Flags on the time axis: what was done, and what the machine did by itself."""

from dataclasses import dataclass

import pyqtgraph as pg
from PyQt6.QtGui import QColor

from upright_bolt.desktop.widgets.chart import AXIS_W, Chart
from upright_bolt.desktop.widgets.theme import Theme, font
from upright_bolt.model.event import Event, Kept, LimitsReset, Tried, WasPutBack
from upright_bolt.text.events import short

ROWS = 3
MOST = 12
ROW_PX = 17
LETTER_PX = 5.6
ROUND_PX, LONGEST = 14.0, 34
RIGHT_PX = 2.0


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
        self._make_room(1)

    def draw(self, events: list[Event], from_s: float, to_s: float) -> None:
        """Show the events between two times, the newest if there are too many."""
        visible = [event for event in events if from_s <= event.time_s <= to_s][-MOST:]
        room = self.width() - AXIS_W - RIGHT_PX
        per_px = (to_s - from_s) / max(1, room)
        flags = [_Flag(event, *_fitting(event, from_s, to_s, per_px)) for event in visible]
        wanted = tuple((flag.event.time_s, flag.words, flag.leftwards) for flag in flags)
        if wanted == self._shown:
            return
        self._shown = wanted
        for chart, item in self._items:
            chart.removeItem(item)
        self._items = []
        self._make_room(self._fill_rows(flags, per_px))

    def _make_room(self, rows: int) -> None:
        """Be as high as the rows in use."""
        if round(ROW_PX * rows) != self.height():
            self.setFixedHeight(round(ROW_PX * rows))
            self.setYRange(ROWS - rows, ROWS, padding=0)

    def _fill_rows(self, flags: list["_Flag"], per_px: float) -> int:
        """Draw the flags, each in the first row that has room; returns how many rows are in use, at least one."""
        free = [float("-inf")] * ROWS
        for flag in flags:
            width = per_px * _px(flag.words)
            begins = flag.event.time_s - width if flag.leftwards else flag.event.time_s
            row = next((r for r in range(ROWS) if free[r] <= begins), None)
            self._line(flag.event)
            if row is not None and flag.words:
                free[row] = begins + width
                self._flag(flag, row)
        return max(1, sum(end > float("-inf") for end in free))

    def _line(self, event: Event) -> None:
        pen = self.pen(self._colour(event), width=1.0, style="dot")
        for chart in self._below:
            line = pg.InfiniteLine(event.time_s, angle=90, pen=pen)
            chart.addItem(line, ignoreBounds=True)
            self._items.append((chart, line))

    def _flag(self, flag: "_Flag", row: int) -> None:
        words = pg.TextItem(
            f" {flag.words} ",
            color=self.theme.paper,
            fill=QColor(self._colour(flag.event)),
            anchor=(1.0 if flag.leftwards else 0.0, 0.5),
        )
        words.setFont(font(7.0, bold=True))
        words.setPos(flag.event.time_s, ROWS - row - 0.5)
        self.addItem(words, ignoreBounds=True)
        self._items.append((self, words))

    def _colour(self, event: Event) -> str:
        theme = self.theme
        if isinstance(event, Tried | Kept | WasPutBack):
            return theme.accent
        return theme.temperature if isinstance(event, LimitsReset) else theme.ink


@dataclass(frozen=True, slots=True)
class _Flag:
    event: Event
    words: str
    leftwards: bool


def _fitting(event: Event, from_s: float, to_s: float, per_px: float) -> tuple[str, bool]:
    """Return an event's words, shortened to the side with more room, and whether they go to the left."""
    right, left = (to_s - event.time_s) / per_px, (event.time_s - from_s) / per_px
    text = short(event)
    leftwards = _px(text) > right and left > right
    most = min(LONGEST, int((max(right, left) - ROUND_PX) / LETTER_PX) if _px(text) > right else LONGEST)
    return (text if len(text) <= most else text[: max(0, most - 1)] + "…"), leftwards


def _px(text: str) -> float:
    return ROUND_PX + LETTER_PX * len(text)
