"""The pictures of Compare: chosen runs overlaid from load start, and what each watt buys."""

from functools import partial

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QWidget

from upright_bolt.analysis.phases import at_most
from upright_bolt.desktop.chart import AXIS_W, Chart
from upright_bolt.desktop.lanes import lane_brush
from upright_bolt.desktop.pieces import column
from upright_bolt.desktop.step_queue import StepQueue
from upright_bolt.desktop.theme import LINES, Theme, font, run_colours
from upright_bolt.model.constraint import ORDER
from upright_bolt.model.quantity import CLOCK, POWER, TEMPERATURE
from upright_bolt.model.run import LETTERS, RunRecord
from upright_bolt.presentation.history import Floats, spans_of, thinned
from upright_bolt.session.numbers import HELD_BY

MOST_POINTS = 500
BAND_PX = 17
WORDS_PART = 0.18
CURVES = (("clock.mean", 0.001), ("power.package", 1.0), ("temperature.package", 1.0))
Telemetry = tuple[Floats, dict[str, Floats]]


class Overlay(QWidget):
    """Clock, power and temperature of the chosen runs on one time axis from load start."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        quantities = (("Clock", CLOCK), ("Power", POWER), ("Temperature", TEMPERATURE))
        self.charts = [Chart(title, quantity, theme, times=False, ends_now=False) for title, quantity in quantities]
        self._length = 60.0
        self._items: list[tuple[Chart, pg.GraphicsObject]] = []
        layout = column(self, gap=3)
        for chart in self.charts:
            layout.addWidget(chart, 1)
            chart.returned.connect(self._whole)
            if chart is not self.charts[0]:
                chart.setXLink(self.charts[0])
        self._bands = Bands(theme)
        self._bands.setXLink(self.charts[0])
        layout.addWidget(self._bands)
        self._stages, self._appearing = StepQueue(self), StepQueue(self)

    def _whole(self) -> None:
        self.charts[0].setXRange(-3, self._length * 1.03, padding=0)

    def show_runs(self, runs: list[RunRecord], telemetry: dict[int, Telemetry]) -> None:
        """Draw the runs, in the order of their letters, chart by chart."""
        self._length = max((run.end.duration_s for run in runs), default=60.0)
        curves = zip(self.charts, CURVES, strict=True)
        self._stages.begin([
            self._clear,
            *(partial(self._chart, chart, name, scale, runs, telemetry) for chart, (name, scale) in curves),
            partial(self._bands.show_runs, runs, telemetry),
        ])  # fmt: skip

    def _clear(self) -> None:
        for chart, item in self._items:
            chart.removeItem(item)
        self._items = []
        self._whole()

    def _chart(
        self, chart: Chart, name: str, scale: float, runs: list[RunRecord], telemetry: dict[int, Telemetry]
    ) -> None:
        drawn = 0
        lowest, highest = float("inf"), 0.0
        for letter, run in enumerate(runs):
            times, columns = telemetry.get(run.id, (None, {}))
            values = columns.get(name)
            if times is None or values is None or np.isnan(values).all():
                continue
            x, y = thinned(times, values * scale, MOST_POINTS)
            self._draw(chart, letter, x, y)
            known = y[~np.isnan(y)]
            lowest, highest = min(lowest, float(known.min())), max(highest, float(known.max()))
            drawn += 1
        bottom = 0.0 if name != "temperature.package" or not drawn else max(0.0, lowest - 6)
        chart.setYRange(bottom, highest * 1.25 if drawn else 1.0, padding=0)
        chart.say("" if drawn or not runs else "Not measured in these runs")

    def appear(self) -> None:
        """Paint one chart after another when all have to be: the view is shown, or has got another size."""
        charts = [*self.charts, self._bands]
        for chart in charts:
            chart.setUpdatesEnabled(False)
        self._appearing.begin([partial(chart.setUpdatesEnabled, True) for chart in charts])  # noqa: FBT003 - Qt's own

    def _draw(self, chart: Chart, letter: int, x: Floats, y: Floats) -> None:
        colour = run_colours(self._theme)[letter]
        curve = chart.curve(colour, width=1.6, style=LINES[letter])
        curve.setData(x, y)
        known = ~np.isnan(y)
        end = pg.TextItem(LETTERS[letter], color=colour, anchor=(0.0, 0.5))
        end.setFont(font(8.5, bold=True))
        end.setPos(float(x[known][-1]), float(y[known][-1]))
        chart.addItem(end, ignoreBounds=True)
        self._items += [(chart, curve), (chart, end)]


MOST_BANDS = 4000
"""Rows of telemetry that bands are drawn of: several to a pixel."""


class Bands(Chart):
    """One band per run, filled by what held the clock back: colour by the limited quantity, words on it."""

    def __init__(self, theme: Theme) -> None:
        super().__init__("", None, theme, times=True, ends_now=False)
        self._drawn: list[pg.GraphicsObject] = []
        item = self.getPlotItem()
        item.showGrid(x=True, y=False)
        item.setMouseEnabled(x=True, y=False)

    def show_runs(self, runs: list[RunRecord], telemetry: dict[int, Telemetry]) -> None:
        """Draw the bands, the first run on top."""
        for made in self._drawn:
            self.removeItem(made)
        self._drawn = []
        self.setYRange(0, max(1, len(runs)), padding=0)
        self.getPlotItem().getAxis("left").setTicks([[(len(runs) - i - 0.5, LETTERS[i]) for i in range(len(runs))]])
        self.setFixedHeight(BAND_PX * max(1, len(runs)) + 24)
        for i, run in enumerate(runs):
            times, columns = telemetry.get(run.id, (None, {}))
            if times is not None and HELD_BY in columns and len(times):
                self._band(len(runs) - i - 1, *at_most(MOST_BANDS, times, columns[HELD_BY]))

    def _band(self, row: int, times: Floats, held: Floats) -> None:
        found = spans_of(times, held)
        for code, constraint in enumerate(ORDER):
            spans = found.get(code)
            if not spans:
                continue
            count = len(spans)
            bar = pg.BarGraphItem(
                x0=[a for a, _ in spans], x1=[b for _, b in spans], y0=[row + 0.1] * count, height=[0.8] * count,
                pen=None, brush=lane_brush(constraint, self.theme),
            )  # fmt: skip
            self._add(bar)
            start, end = max(spans, key=lambda span: span[1] - span[0])
            if end - start > WORDS_PART * float(times[-1]):
                solid = lane_brush(constraint, self.theme).style() is Qt.BrushStyle.SolidPattern
                colour = self.theme.paper if solid else self.theme.ink
                words = pg.TextItem(constraint.value, color=colour, anchor=(0.5, 0.5))
                words.setFont(font(7.0, bold=True))
                words.setPos((start + end) / 2, row + 0.5)
                self._add(words)

    def _add(self, item: pg.GraphicsObject) -> None:
        self.addItem(item, ignoreBounds=True)
        self._drawn.append(item)


def _settled(run: RunRecord) -> tuple[float | None, float | None]:
    """Return watts and score of a run's settled part."""
    return run.end.numbers.power_sustained_w, run.end.numbers.score_settled


class WattPicture(Chart):
    """Settled score against settled watts, of every run of a machine without errors: what a watt buys."""

    def __init__(self, theme: Theme) -> None:
        super().__init__("Settled score over settled power", None, theme, times=False, ends_now=False)
        item = self.getPlotItem()
        item.setMouseEnabled(x=False, y=False)
        item.getAxis("left").setWidth(AXIS_W)
        item.setAxisItems({"bottom": pg.AxisItem("bottom")})
        axis = item.getAxis("bottom")
        axis.setPen(pg.mkPen(theme.line))
        axis.setTextPen(pg.mkPen(theme.muted))
        axis.setTickFont(font(7.5))
        axis.setStyle(tickLength=0)
        axis.setHeight(20)
        self._others = pg.ScatterPlotItem(size=7, pen=pg.mkPen(theme.muted, width=1.5), brush=pg.mkBrush(theme.sheet))
        self._dots = pg.ScatterPlotItem()
        self.addItem(self._others)
        self.addItem(self._dots)
        self._letters: list[pg.TextItem] = []

    def show_runs(self, runs: list[RunRecord], chosen: list[RunRecord]) -> None:
        """Draw every run that has both numbers; the chosen ones filled and with their letters."""
        for words in self._letters:
            self.removeItem(words)
        self._letters = []
        known = [_settled(run) for run in runs if not run.broke]
        indices = np.array([(w, s) for w, s in known if w is not None and s is not None], dtype=float).reshape(-1, 2)
        self._others.setData(x=indices[:, 0], y=indices[:, 1])
        spots = []
        for letter, run in enumerate(chosen):
            watts, score = _settled(run)
            if watts is None or score is None or run.broke:
                continue
            colour = run_colours(self.theme)[letter]
            spots.append({"pos": (watts, score), "size": 9, "pen": pg.mkPen(colour), "brush": pg.mkBrush(colour)})
            words = pg.TextItem(LETTERS[letter], color=colour, anchor=(0.5, 1.25))
            words.setFont(font(8.5, bold=True))
            words.setPos(watts, score)
            self.addItem(words, ignoreBounds=True)
            self._letters.append(words)
        self._dots.setData(spots)
        if len(indices):
            low, high = indices.min(axis=0), indices.max(axis=0)
            self.setXRange(max(0.0, low[0] - 4), high[0] + 4, padding=0)
            self.setYRange(0, high[1] * 1.18, padding=0)
        self.say("" if len(indices) else "Not measured in these runs")
