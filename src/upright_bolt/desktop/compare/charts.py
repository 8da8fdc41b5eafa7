"""The pictures of Compare: chosen runs overlaid from load start, and what each watt buys."""

from functools import partial

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QWidget

from upright_bolt.analysis.phases import at_most
from upright_bolt.desktop.step_queue import StepQueue
from upright_bolt.desktop.widgets.basic import column
from upright_bolt.desktop.widgets.chart import AXIS_W, NOT_MEASURED, Chart
from upright_bolt.desktop.widgets.theme import LINES, Theme, font, run_colours
from upright_bolt.desktop.workbench.lanes import lane_brush
from upright_bolt.model.constraint import ORDER
from upright_bolt.model.quantity import CLOCK, POWER, TEMPERATURE
from upright_bolt.model.run import LETTERS, RunRecord
from upright_bolt.presentation.history import Floats, spans_of, thinned
from upright_bolt.session.numbers import HELD_BY

MOST_POINTS = 500
BAND_PX = 17
WORDS_PART = 0.18
LETTER_PX = 11.0
NEAR_END = 0.12
"""Lines that end within this part of the highest number of each other have their letters side by side."""
NEAR = 0.04
"""Dots that lie within this part of the picture of each other have their letters side by side."""
CURVES = (("clock.mean", CLOCK), ("power.package", POWER), ("temperature.package", TEMPERATURE))
Telemetry = tuple[Floats, dict[str, Floats]]


class Curve:
    """One run's line in one chart, with its letter at the end."""

    def __init__(self, chart: Chart, colour: str, letter: int) -> None:
        self.line = chart.curve(colour, width=1.6, style=LINES[letter])
        self._end = pg.TextItem(LETTERS[letter], color=colour, anchor=(0.0, 0.5))
        self._end.setFont(font(8.5, bold=True))
        chart.addItem(self._end, ignoreBounds=True)

    def show(self, x: Floats, y: Floats, beside: int) -> None:
        """Draw it through these points, its letter to the right of so many others that end where it does."""
        known = ~np.isnan(y)
        self.line.setData(x, y)
        self._end.setAnchor((-1.1 * beside, 0.5))
        self._end.setPos(float(x[known][-1]), float(y[known][-1]))
        for item in (self.line, self._end):
            item.show()

    def hide(self) -> None:
        """Draw nothing."""
        for item in (self.line, self._end):
            item.hide()


class Overlay(QWidget):
    """Clock, power and temperature of the chosen runs on one time axis from load start.

    Attributes:
        drawn: numbers of the runs that are in sight; empty while they are being drawn.

    Signals:
        resized: all of it has to be painted anew.
    """

    resized = pyqtSignal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        quantities = (("Clock", CLOCK), ("Power", POWER), ("Temperature", TEMPERATURE))
        self.charts = [Chart(title, quantity, theme, times=False, ends_now=False) for title, quantity in quantities]
        self._length, self._letters = 60.0, 1
        self._looks_around = False
        self.drawn: list[int] = []
        self._curves: dict[tuple[str, int], Curve] = {}
        layout = column(self, gap=3)
        for chart in self.charts:
            layout.addWidget(chart, 1)
            chart.returned.connect(self._return)
            chart.moved.connect(self._look_around)
            if chart is not self.charts[0]:
                chart.setXLink(self.charts[0])
        self.bands = Bands(theme)
        self.bands.setXLink(self.charts[0])
        layout.addWidget(self.bands)
        self._stages = StepQueue(self)

    def _look_around(self) -> None:
        self._looks_around = True

    def _return(self) -> None:
        self._looks_around = False
        self._whole()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Keep the letters at the ends of the lines in sight."""
        super().resizeEvent(event)
        self.resized.emit()
        if not self._looks_around:
            self._whole()

    def _whole(self) -> None:
        room = max(100, self.charts[0].width() - AXIS_W)
        letters = LETTER_PX * (1 + self._letters)
        self.charts[0].setXRange(-3, self._length * (1.01 + letters / max(1.0, room - letters)), padding=0)

    def show_runs(self, runs: list[RunRecord], telemetry: dict[int, Telemetry]) -> None:
        """Draw the runs, in the order of their letters, chart by chart."""
        self._letters = len(runs)
        self._length = max((run.end.duration_s for run in runs), default=60.0)
        self.drawn = []
        curves = zip(self.charts, CURVES, strict=True)
        self._stages.begin([
            self._return,
            *(partial(self._chart, chart, name, of.on_axes[1], runs, telemetry) for chart, (name, of) in curves),
            partial(self.bands.show_runs, runs, telemetry),
            partial(self.drawn.extend, [run.id for run in runs]),
        ])  # fmt: skip

    def _chart(
        self, chart: Chart, name: str, scale: float, runs: list[RunRecord], telemetry: dict[int, Telemetry]
    ) -> None:
        points = [_points(telemetry.get(run.id), name, scale) for run in runs]
        for (of, letter), curve in self._curves.items():
            if of == name and (letter >= len(points) or points[letter] is None):
                curve.hide()
        known = [found[1] for found in points if found is not None]
        values = np.concatenate(known) if known else np.array([0.0, 0.8])
        ends: list[float] = []
        for letter, found in enumerate(points):
            if found is not None:
                end = float(found[1][~np.isnan(found[1])][-1])
                beside = sum(abs(end - other) < NEAR_END * float(np.nanmax(values)) for other in ends)
                self._curve(chart, name, letter).show(*found, beside)
                ends.append(end)
        bottom = max(0.0, float(np.nanmin(values)) - 6) if name == "temperature.package" and known else 0.0
        chart.setYRange(bottom, float(np.nanmax(values)) * 1.25, padding=0)
        chart.say("" if known or not runs else NOT_MEASURED)

    def shown(self) -> list[Curve]:
        """Return the curves in sight."""
        return [curve for curve in self._curves.values() if curve.line.isVisible()]

    def parts(self) -> list[Chart]:
        """Return what takes long to paint."""
        return [*self.charts, self.bands]

    def _curve(self, chart: Chart, name: str, letter: int) -> Curve:
        """Return the curve of one quantity and letter, made at its first use."""
        if (name, letter) not in self._curves:
            self._curves[name, letter] = Curve(chart, run_colours(self._theme)[letter], letter)
        return self._curves[name, letter]


def _points(telemetry: Telemetry | None, name: str, scale: float) -> tuple[Floats, Floats] | None:
    """Return what is drawn of one quantity of a run; None if it was not measured."""
    times, values = (None, None) if telemetry is None else (telemetry[0], telemetry[1].get(name))
    if times is None or values is None or np.isnan(values).all():
        return None
    return thinned(times, values * scale, MOST_POINTS)


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

    def make_room(self, runs: int) -> None:
        """Be as high as the bands of so many runs."""
        self.setFixedHeight(BAND_PX * max(1, runs) + 24)

    def show_runs(self, runs: list[RunRecord], telemetry: dict[int, Telemetry]) -> None:
        """Draw the bands, the first run on top."""
        for made in self._drawn:
            self.removeItem(made)
        self._drawn = []
        self.setYRange(0, max(1, len(runs)), padding=0)
        self.getPlotItem().getAxis("left").setTicks([[(len(runs) - i - 0.5, LETTERS[i]) for i in range(len(runs))]])
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
                words = pg.TextItem(
                    constraint.value, color=self.theme.ink, anchor=(0.5, 0.5), fill=pg.mkBrush(self.theme.sheet)
                )
                words.setFont(font(7.0, bold=True))
                words.setPos((start + end) / 2, row + 0.5)
                self._add(words)

    def _add(self, item: pg.GraphicsObject) -> None:
        self.addItem(item, ignoreBounds=True)
        self._drawn.append(item)


def _settled(run: RunRecord) -> tuple[float | None, float | None]:
    """Return watts and score of a run's settled part."""
    return run.end.numbers.power_sustained_w, run.end.numbers.score_settled


def _near(known: Floats, one: tuple[float, float], other: tuple[float, float]) -> bool:
    """Tell whether two dots lie so close together that their letters would be written over each other."""
    span = np.maximum(known.max(axis=0) - known.min(axis=0) + np.array([8.0, 0.0]), 1e-9)
    span[1] = known[:, 1].max()
    return bool(np.all(np.abs(np.array(one) - np.array(other)) < 2 * NEAR * span))


class WattPicture(Chart):
    """Settled score against settled watts, of every run of a machine without errors: what a watt buys."""

    def __init__(self, theme: Theme) -> None:
        super().__init__("Score over power", None, theme, times=False, ends_now=False)
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
        self._known: Floats = np.empty((0, 2))

    def show_runs(self, runs: list[RunRecord], chosen: list[RunRecord]) -> None:
        """Draw every run that has both numbers; the chosen ones filled and with their letters."""
        for words in self._letters:
            self.removeItem(words)
        self._letters = []
        known = [_settled(run) for run in runs if not run.broke]
        indices = np.array([(w, s) for w, s in known if w is not None and s is not None], dtype=float).reshape(-1, 2)
        if not np.array_equal(indices, self._known):
            self._known = indices
            self._others.setData(x=indices[:, 0], y=indices[:, 1])
        spots = []
        for letter, run in enumerate(chosen):
            watts, score = _settled(run)
            if watts is None or score is None or run.broke:
                continue
            colour = run_colours(self.theme)[letter]
            spots.append({"pos": (watts, score), "size": 9, "pen": pg.mkPen(colour), "brush": pg.mkBrush(colour)})
            beside = sum(_near(indices, (watts, score), spot["pos"]) for spot in spots[:-1])
            # to the left of the dot, since runs at one limit stand in a column
            words = pg.TextItem(LETTERS[letter], color=colour, anchor=(1.4 + 1.1 * beside, 0.5))
            words.setFont(font(8.5, bold=True))
            words.setPos(watts, score)
            self.addItem(words, ignoreBounds=True)
            self._letters.append(words)
        self._dots.setData(spots)
        if len(indices):
            low, high = indices.min(axis=0), indices.max(axis=0)
            self.setXRange(max(0.0, low[0] - 4), high[0] + 4, padding=0)
            self.setYRange(0, high[1] * 1.18, padding=0)
        self.say("" if len(indices) else NOT_MEASURED)
