"""The chart of a search: its tests along each axis, and below them what each position brought, all on one scale.

The shape of a test's mark tells how it ended, see ``marks``, and the length of its stem for how long it went on.
"""

from collections import defaultdict
from collections.abc import Sequence
from math import log
from typing import Any

import pyqtgraph as pg
from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QSizePolicy

from upright_bolt.analysis.stability.belief import Estimate
from upright_bolt.desktop.stability.marks import SIZE, shape_of
from upright_bolt.desktop.widgets.theme import Theme, font
from upright_bolt.model.search import FAILED
from upright_bolt.presentation.stability_picture import AxisRow, EdgePicture, GainRow, Mark, outcome_of
from upright_bolt.presentation.ticks import round_ticks
from upright_bolt.sanitize import capital
from upright_bolt.text.search import place_words

GUTTER, RIGHT = 112, 92
FOOT, GAP = 22, 8
AXIS_PX, GAIN_PX = (92, 150), (40, 92)
"""Least and most height of a row."""
SHORTEST_S, LONG_S = 10.0, 600.0
BASE, SHORTEST, TALLEST = 0.09, 0.08, 0.63
"""Foot and heights of stems, as shares of a row: of tests of up to SHORTEST_S, and of the longest or of LONG_S."""
BESIDE = 0.01
"""How far marks of one position stand apart, as a share of the scale."""
LEAST_SPAN = {"temperature": 8.0, "power": 1.0, "clock": 60.0}
LEAST_RELATIVE = 0.02
"""What is spread over a row at least, in the number's unit, so that noise does not look like an effect."""
MOST_TICKS = 9
PADDING = 0.03
"""Beside the scale, so that the word at its start has room."""
ROOM_BESIDE = 0.15
"""A share of the scale that has room for a few words."""
TINT = 34


class EdgeChart(pg.GraphicsLayoutWidget):
    """The chart.

    Signals:
        picked: the number of a test that was clicked.

    Attributes:
        chosen: the number of the test that is marked; None for none.
        marks: the marks of each axis, from top to bottom.
    """

    picked = pyqtSignal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._picture: EdgePicture | None = None
        self.chosen: int | None = None
        self.marks: list[pg.ScatterPlotItem] = []
        self.setBackground(theme.paper)
        self.ci.layout.setContentsMargins(0, 4, 0, 0)
        self.ci.layout.setVerticalSpacing(GAP)
        self.ci.layout.setHorizontalSpacing(4)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Rungs of the search along its axis, and what each brought")

    def minimumSizeHint(self) -> QSize:
        """Return room for the rows at their lowest."""
        rows, gains = (1, 0) if self._picture is None else (len(self._picture.rows), _low_rows(self._picture))
        return QSize(420, rows * (AXIS_PX[0] + GAP) + gains * (GAIN_PX[0] + GAP) + FOOT)

    def show_picture(self, picture: EdgePicture | None, chosen: int | None = None) -> None:
        """Draw another picture, with the test ``chosen`` marked."""
        if (picture, chosen) == (self._picture, self.chosen):
            return
        self._picture, self.chosen = picture, chosen
        words = [] if picture is None else [mark.words for row in picture.rows for mark in row.marks]
        self.setAccessibleDescription(". ".join(words))
        self.ci.clear()
        self.marks = []
        if picture is not None:
            self.marks = _Drawing(self.ci, picture, chosen, self._theme).marks
        for heads in self.marks:
            heads.sigClicked.connect(self._clicked)
        self.updateGeometry()

    def _clicked(self, _heads: pg.ScatterPlotItem, spots: list[pg.SpotItem], _event: object) -> None:
        mark: Mark = spots[0].data()
        if not mark.earlier:
            self.picked.emit(mark.number)


class _Drawing:
    """Draws a picture row by row.

    Args:
        rows: where; empty.
        picture: what.
        chosen: the number of the test that is marked; None for none.
        theme: gives the colours.

    Attributes:
        marks: the marks of each axis, from top to bottom.
    """

    def __init__(self, rows: pg.GraphicsLayout, picture: EdgePicture, chosen: int | None, theme: Theme) -> None:
        self._rows, self._picture, self._chosen, self._theme = rows, picture, chosen, theme
        self._count = 0
        self.marks: list[pg.ScatterPlotItem] = []
        rows.layout.setColumnFixedWidth(0, GUTTER)
        rows.layout.setColumnStretchFactor(1, 1)
        rows.layout.setColumnFixedWidth(2, RIGHT)
        axis = picture.axis
        unit = f"{'clock' if axis.stock else 'offset'}, {axis.quantity.unit}"
        for row in picture.rows:
            self._draw_axis(self._row(capital(row.title), unit, theme.voltage, heights=AXIS_PX), row)
        if picture.interval_history:
            self._draw_history()
        for gain in picture.gains:
            self._draw_gain(gain)
        bottom = rows.getItem(self._count - 1, 1).getAxis("bottom")
        bottom.setStyle(showValues=True)
        bottom.setHeight(FOOT)
        rows.layout.setRowMinimumHeight(self._count - 1, FOOT + rows.layout.rowMinimumHeight(self._count - 1))

    def _row(self, title: str, unit: str, colour: str, number: str = "", said: str = "",
             heights: tuple[int, int] = GAIN_PX) -> pg.PlotItem:  # fmt: skip
        """Add a row below the others: its title, an empty plot, and a number with what it is."""
        theme, row = self._theme, self._count
        self._count += 1
        title_label = self._words(row, 0, f"<b style='color:{colour}'>{title}</b>", unit, GUTTER)
        plot = self._rows.addPlot(row, 1, enableMenu=False)
        self._words(row, 2, f"<b style='color:{colour}'>{number}</b>" if number else "", said, RIGHT)
        box = plot.getViewBox()
        plot.hideButtons()
        plot.setMouseEnabled(x=False, y=False)
        box.setBackgroundColor(theme.sheet)
        box.setBorder(pg.mkPen(theme.line))
        plot.setXRange(0.0, self._picture.furthest, padding=PADDING)
        plot.setYRange(0.0, 1.0, padding=0.0)
        plot.hideAxis("left")
        bottom = plot.getAxis("bottom")
        bottom.setPen(pg.mkPen(theme.line))
        bottom.setTextPen(pg.mkPen(theme.muted))
        bottom.setTickFont(font(7.5))
        bottom.setStyle(tickLength=0, showValues=False, hideOverlappingLabels=False)
        bottom.setHeight(1)
        bottom.setTicks([[(tick, self._tick_words(tick)) for tick in _ticks(self._picture)]])
        plot.showGrid(x=True, alpha=0.12)
        least, most = heights
        layout = self._rows.layout
        layout.setRowMinimumHeight(row, max(least, title_label.item.boundingRect().height() - 4))
        layout.setRowMaximumHeight(row, most)
        layout.setRowStretchFactor(row, most)
        return plot

    def _words(self, row: int, column: int, first: str, second: str, width: int) -> pg.LabelItem:
        """Write two lines beside a row."""
        text = f"{first}<br><span style='color:{self._theme.muted}; font-size:7.5pt'>{second}</span>"
        made = pg.LabelItem(text, size="8.5pt", justify="left")
        made.item.setFont(font(8.5))
        made.item.setTextWidth(width)
        self._rows.addItem(made, row, column)
        return made

    def _tick_words(self, tick: float) -> str:
        return f"{self._place(tick)} {self._picture.axis.quantity.unit}" if tick else "stock"

    def _place(self, position: float) -> str:
        """Return the value at a position, without its unit."""
        return place_words(self._picture.axis, position)

    def _draw_axis(self, plot: pg.PlotItem, row: AxisRow) -> None:
        theme = self._theme
        if row.edge is not None:
            self._draw_edge(plot, row.edge)
        self._line(plot, [0.0, row.kept], [BASE / 2, BASE / 2], pen=pg.mkPen(theme.voltage, width=5))
        plot.addItem(pg.InfiniteLine(BASE, angle=0, pen=pg.mkPen(theme.line)))
        taken: defaultdict[int, int] = defaultdict(int)
        longest = max(LONG_S, *(mark.load_s for mark in row.marks)) if row.marks else LONG_S
        spots = []
        for mark in row.marks:
            shift = (taken[round(mark.position)] + 1) // 2 * (1 if taken[round(mark.position)] % 2 else -1)
            taken[round(mark.position)] += 1
            x, y = max(0.0, mark.position + shift * BESIDE * self._picture.furthest), BASE + _stem(mark, longest)
            self._line(plot, [x, x], [BASE, y], pen=self._stem_pen(mark))
            shape = shape_of(mark.outcome, theme)
            spots.append({"pos": (x, y), "size": SIZE, "symbol": shape.symbol, "pen": shape.pen, "brush": shape.brush,
                          "data": mark})  # fmt: skip
            if mark.number == self._chosen and not mark.earlier:
                self._line(plot, [x], [y], pen=None, symbol="o", symbolSize=19, symbolBrush=None,
                          symbolPen=pg.mkPen(theme.accent, width=1.6))  # fmt: skip
        heads = pg.ScatterPlotItem(spots, hoverable=True, hoverSize=SIZE + 3, tip=_tip)
        plot.addItem(heads)
        self.marks.append(heads)
        if row.kept:
            line = pg.InfiniteLine(row.kept, pen=pg.mkPen(theme.voltage, width=2.4), span=(0.0, 0.86))
            plot.addItem(line)
            self._write(plot, f"keep {self._place(row.kept)}", row.kept, 0.9, theme.voltage, beside=True)

    def _stem_pen(self, mark: Mark) -> object:
        theme = self._theme
        colour = theme.muted if mark.earlier else theme.temperature if mark.outcome in FAILED else theme.voltage
        style = Qt.PenStyle.DotLine if mark.earlier else Qt.PenStyle.SolidLine
        return pg.mkPen(colour, width=3.6 if mark.soak else 2.2, style=style)

    def _draw_edge(self, plot: pg.PlotItem, edge: Estimate) -> None:
        theme, furthest = self._theme, self._picture.furthest
        tint = _tint(theme.temperature)
        region = pg.LinearRegionItem(
            (max(0.0, edge.low), min(edge.high, furthest)), movable=False, brush=tint, pen=pg.mkPen(None)
        )
        plot.addItem(region)
        if edge.value <= furthest:
            line = pg.mkPen(theme.temperature, width=1.4, style=Qt.PenStyle.DashLine)
            plot.addItem(pg.InfiniteLine(edge.value, pen=line, span=(0.0, 0.86)))
        place, low, high = (self._place(position) for position in (edge.value, edge.low, edge.high))
        self._write(plot, f"edge {place}, from {low} to {high}", edge.value, 1.0, theme.temperature)

    @staticmethod
    def _line(plot: pg.PlotItem, x: Sequence[float], y: Sequence[float], **style: Any) -> pg.PlotDataItem:  # noqa: ANN401
        return plot.plot(x, y, antialias=True, **style)

    def _write(self, plot: pg.PlotItem, words: str, x: float, y: float, colour: str, *, beside: bool = False) -> None:
        """Write over a place on the scale, or ``beside`` it, within the row."""
        furthest = self._picture.furthest
        share = min(max(x / furthest, 0.0), 1.0)
        # Words over a place are centred in the middle of the scale, and turned inwards towards its ends.
        anchor = share if not beside else 1.02 if share > ROOM_BESIDE else -0.02
        made = pg.TextItem(words, color=colour, anchor=(anchor, 0.0))
        made.setFont(font(8.0, bold=True))
        made.setPos(share * furthest, y)
        plot.addItem(made, ignoreBounds=True)

    def _draw_history(self) -> None:
        """Draw how the estimate narrowed: the band between its bounds, downwards in the order of tests.

        A mark in the row of a test says where it was made and how it ended: what passes pushes the band away, what
        fails holds it.
        """
        theme, picture = self._theme, self._picture
        steps = picture.interval_history
        first, last = (steps[i].edge.high - steps[i].edge.low for i in (0, -1))
        show = picture.axis.quantity.show
        title = "Edge, test by test" if len(picture.rows) < 2 else f"Edge, {picture.narrowed_of}, test by test"
        plot = self._row(title, "downwards", theme.temperature, f"{show(last)} wide", f"{show(first)} at first")
        down = list(range(len(steps)))
        plot.setYRange(len(steps) - 1, 0.0, padding=0.1)
        plot.invertY()
        sides = [
            self._line(plot, [min(bound, picture.furthest) for bound in bounds], down, pen=pg.mkPen(theme.temperature))
            for bounds in ([step.edge.low for step in steps], [step.edge.high for step in steps])
        ]
        plot.addItem(pg.FillBetweenItem(*sides, brush=_tint(theme.temperature)))
        dashed = pg.mkPen(theme.temperature, width=1.4, style=Qt.PenStyle.DashLine)
        self._line(plot, [min(step.edge.value, picture.furthest) for step in steps], down, pen=dashed)
        spots = []
        for row, step in enumerate(steps):
            if step.after is not None:
                shape = shape_of(outcome_of(step.after), theme)
                spots.append({"pos": (step.after.position, row), "symbol": shape.symbol, "pen": shape.pen,
                              "brush": shape.brush, "size": SIZE * 0.6})  # fmt: skip
        plot.addItem(pg.ScatterPlotItem(spots))

    def _draw_gain(self, row: GainRow) -> None:
        unit = "% of stock" if row.relative else row.quantity.on_axes[0]
        colour = self._theme.of(row.quantity.name)
        values = [value for _, value in row.points]
        said = "over stock" if row.relative else f"{row.quantity.show(values[0])} at stock"
        plot = self._row(row.title, unit, colour, _value(row, values[-1], values[0]), said)
        low, high = min(values), max(values)
        least = LEAST_RELATIVE * abs(values[0]) if row.relative else LEAST_SPAN.get(row.quantity.name, 0.0)
        spare = max(0.0, least - (high - low)) / 2.0 or (high == low) * (abs(high) * 0.01 or 1.0)
        plot.setYRange(low - spare, high + spare, padding=0.14)
        self._line(plot, [position for position, _ in row.points], values, pen=pg.mkPen(colour, width=1.6), symbol="o",
                  symbolSize=6, symbolPen=pg.mkPen(colour, width=1.6), symbolBrush=self._theme.sheet)  # fmt: skip


def _stem(mark: Mark, longest: float) -> float:
    """Return the height of a stem: it grows with the logarithm of the time."""
    share = log(max(mark.load_s, SHORTEST_S) / SHORTEST_S) / log(longest / SHORTEST_S)
    return SHORTEST + min(1.0, share) * (TALLEST - SHORTEST)


def _tip(x: float, y: float, data: Mark) -> str:  # noqa: ARG001 - named by the plotting library
    return data.words


def _tint(colour: str) -> QColor:
    tint = QColor(colour)
    tint.setAlpha(TINT)
    return tint


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
