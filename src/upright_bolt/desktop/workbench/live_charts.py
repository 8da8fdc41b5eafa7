"""The live charts of the Workbench: flags, clock, power, temperature and lanes on one time axis."""

from functools import partial
from math import ceil

import numpy as np
import pyqtgraph as pg
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QWidget

from upright_bolt.desktop.step_queue import StepQueue
from upright_bolt.desktop.widgets.basic import Elided, column, heading, label
from upright_bolt.desktop.widgets.chart import NOT_MEASURED, Chart
from upright_bolt.desktop.widgets.flags import Flags
from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.desktop.workbench.lanes import Lanes
from upright_bolt.model.constraint import CODE, ORDER, Constraint
from upright_bolt.model.quantity import CLOCK, POWER, SCORE, SHARE, SPEED, TEMPERATURE
from upright_bolt.presentation.history import Floats, History, thinned
from upright_bolt.presentation.pace import Pace

SPAN_S = 600.0
AHEAD = 0.035
SCROLL_S = 5.0
WORDS_W = 108
MOST_POINTS = 900
SHOWN_FOR = ("clock.cpu", "power.package", "temperature.package")
"""Beginnings of sensors' names without which there is no chart of clock, power and temperature."""
NOTHING = (
    "This machine measures no clock, no watts and no temperature. A run shows its pace as well: the work done in each "
    "ten seconds."
)


class Figure(QWidget):
    """The number of the moment beside a chart, two lines of what goes with it, and one of a graphics chip."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(WORDS_W)
        self._figure = label("", "figure")
        self._lines = [label("", "muted"), label("", "muted")]
        self._chip = label("", "strong")
        layout = column(self, margins=(8, 2, 0, 0), gap=1)
        layout.addWidget(self._figure)
        for line in (*self._lines, self._chip):
            layout.addWidget(line)
        self._chip.hide()
        layout.addStretch()

    def show_texts(self, figure: str, first: str = "", second: str = "") -> None:
        """Show them."""
        self._figure.setText(figure)
        self._lines[0].setText(first)
        self._lines[1].setText(second)

    def show_chip(self, text: str) -> None:
        """Show what a graphics chip has; nothing while it sleeps."""
        self._chip.setText(text)
        self._chip.setVisible(bool(text))


ROOM_FOR_CHIP_PX = 470
"""Lower charts have no room for the chip's lanes: what holds it is said in words."""
NEAR_BOARD = 0.6
"""The board's limit is drawn once so much of it is in sight; else it would press all the rest down."""
ABOVE_LEVEL = 1.4
"""Charts reach so far above a level that is marked, so that it does not run through their title."""


class LiveCharts(QWidget):
    """Draws a ``History`` and a ``Pace``. Drag or zoom to look at a span; a double click returns to the present.

    There is a chart for what the machine measures (where that is nothing, one of how busy it is), and one of a run's
    pace while one is in sight.
    """

    def __init__(
        self, history: History, pace: Pace, theme: Theme, ceiling_c: float | None, highest_mhz: float | None
    ) -> None:
        super().__init__()
        self._history = history
        self._pace = pace
        self._ceiling_c = ceiling_c
        self._following = True
        self._anchor: float | None = None
        self._steps = StepQueue(self)
        self._stale = False
        self.clock = Chart("Clock", CLOCK, theme, times=False)
        self.power = Chart("Power", POWER, theme, times=False)
        self.temperature = Chart("Temperature", TEMPERATURE, theme, times=False)
        self.busy = Chart("Busy", SHARE, theme, times=False)
        self.pace = Chart("Pace", SCORE, theme, times=False)
        self.lanes = Lanes(theme, WORDS_W, history.measured)
        self.chip_lanes = Lanes(theme, WORDS_W, chip=True)
        self._chip_words = heading(f"{history.chip} held back by")
        charts = [self.clock, self.power, self.temperature, self.busy, self.pace]
        self._shown = [
            chart
            for chart, begins in zip(charts, SHOWN_FOR, strict=False)
            if any(name.startswith(begins) for name in history.measured)
        ]
        nothing_else = not self._shown
        if nothing_else:
            self._shown = [self.busy]
        self.flags = Flags(theme, [*charts, self.lanes.chart])
        self._figures = [Figure() for _ in charts]
        self._add_curves(theme, highest_mhz)
        self._grid = grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(0)
        grid.setVerticalSpacing(3)
        grid.addWidget(self.flags, 0, 0)
        for row, (chart, figure) in enumerate(zip(charts, self._figures, strict=True), start=1):
            grid.addWidget(chart, row, 0)
            grid.addWidget(figure, row, 1)
            self._show_row(row, shown=chart in self._shown)
        nothing = label(NOTHING, "muted", wraps=True)
        nothing.setVisible(nothing_else)
        grid.addWidget(nothing, 6, 0, 1, 2)
        self.held = Elided("", "muted")
        words = QHBoxLayout()
        words.setSpacing(8)
        words.addWidget(heading("Held back by"))
        words.addWidget(self.held, 1)
        grid.addLayout(words, 7, 0, 1, 2)
        grid.addWidget(self.lanes, 8, 0, 1, 2)
        grid.addWidget(self._chip_words, 9, 0, 1, 2)
        grid.addWidget(self.chip_lanes, 10, 0, 1, 2)
        self._show_chip(shown=False)
        self._link([*charts, self.lanes.chart, self.chip_lanes.chart])

    def _show_row(self, row: int, *, shown: bool) -> None:
        """Show a chart with its figure, or leave its room to the others."""
        if self._grid.rowStretch(row) != int(shown):
            self._grid.setRowStretch(row, int(shown))
        for place in range(2):
            item = self._grid.itemAtPosition(row, place)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.setVisible(shown)

    def _link(self, charts: list[Chart]) -> None:
        self._time = self.lanes.chart  # always in sight: the others' time axes follow it
        for chart in (*charts, self.flags):
            if chart is not self._time:
                chart.setXLink(self._time)
            chart.moved.connect(self._look_around)
            chart.returned.connect(self.follow)

    def _add_curves(self, theme: Theme, highest_mhz: float | None) -> None:
        # Lowest and highest core as a band, the mean as a line: dozens of lines would hide each other.
        band_edge = self.clock.pen(theme.clock, width=0.5)
        band_edge.setColor(pg.mkColor(theme.clock + "55"))
        self._low = pg.PlotDataItem(pen=band_edge, connect="finite")
        self._high = pg.PlotDataItem(pen=band_edge, connect="finite")
        self.clock.addItem(pg.FillBetweenItem(self._low, self._high, brush=pg.mkBrush(theme.clock + "30")))
        self.clock.addItem(self._low)
        self.clock.addItem(self._high)
        self._mean = self.clock.curve(theme.clock)
        self._sustained = self.power.curve(theme.power, width=1.0, style="dash")
        self._burst = self.power.curve(theme.power, width=1.0, style="dot")
        self._power = self.power.curve(theme.power)
        self._board = self.power.mark_level(0.0, "board limit", theme.power)
        self._board.setVisible(False)
        self._temperature = self.temperature.curve(theme.temperature)
        self._chip_clock = self.clock.curve(theme.score, style="dash")
        self._chip_temperature = self.temperature.curve(theme.score, style="dash")
        self._together = self.power.curve(theme.score, style="dash")
        self.power.addItem(pg.FillBetweenItem(self._power, self._together, brush=pg.mkBrush(theme.score + "30")))
        self._busy = self.busy.curve(theme.ink)
        self._slices = self.pace.curve(theme.score)
        self.busy.setYRange(0, 110, padding=0)
        # Fixed scales, from the machine's own bounds: a scale that follows the data hides how near it is to them.
        self.clock.setYRange(0, (highest_mhz or 4000.0) * CLOCK.on_axes[1] * 1.08, padding=0)
        top = (self._ceiling_c or 100.0) * ABOVE_LEVEL
        self.temperature.setYRange(20, top, padding=0)
        if self._ceiling_c is not None:
            self.temperature.mark_level(self._ceiling_c, f"ceiling {self._ceiling_c:.0f} °C", theme.temperature)

    def follow(self) -> None:
        """Show the last ten minutes, and go on doing so."""
        self._following = True
        self._anchor = None
        self.draw()

    def _look_around(self) -> None:
        # Whoever looks around wants to keep what they see while new samples come in.
        self._following = False
        self.draw()

    def draw(self) -> None:
        """Draw what is in sight, each chart in a turn of the event loop of its own: the window answers in between."""
        if not len(self._history):
            return
        self._scroll()
        # Samples that come during a round are drawn by the next one, all at once.
        self._stale = True
        # A round that is going on begins the next one itself, with whatever has come by then.
        if not self._steps.busy:
            self._begin()

    def _scroll(self) -> None:
        """Move the time axis along with the present."""
        now = float(self._history.column("time")[-1])
        anchor = ceil(now / SCROLL_S) * SCROLL_S  # moving the axis paints everything anew: not at every sample
        if self._following and anchor != self._anchor:
            self.lanes.chart.time_axis.zero = self._anchor = anchor
            self._time.setXRange(anchor - SPAN_S, anchor + AHEAD * SPAN_S, padding=0)

    def _begin(self) -> None:
        """Begin a round of drawing, if anything is new since the last one."""
        if not self._stale:
            return
        self._stale = False
        history = self._history
        (from_s, to_s), _ = self._time.getPlotItem().getViewBox().viewRange()
        # Taken once for all charts of a round, so that they agree although they are drawn one after another.
        seen = history.seen(from_s, to_s)
        self._steps.begin(
            [
                partial(self._draw_clock, seen),
                partial(self._draw_power, seen),
                partial(self._draw_temperature, seen),
                *([partial(_set, self._busy, seen["time"], seen["busy"])] if self.busy in self._shown else []),
                partial(self._draw_pace, from_s, to_s),
                partial(self._draw_lanes, seen),
                *([partial(self._draw_chip_lanes, seen)] if history.chip else []),
                partial(self.flags.draw, history.events, from_s, to_s),
                self._show_words,
                self._begin,
            ]
        )

    def _draw_pace(self, from_s: float, to_s: float) -> None:
        """Draw the pace of the runs in sight; without one its chart gives way to the others."""
        times, scores = self._pace.points()
        seen = (times >= from_s) & (times <= to_s)
        known = scores[seen & ~np.isnan(scores)]
        self._show_row(len(self._figures), shown=bool(known.size))
        if not known.size or self._pace.quantity is None:
            return
        self.pace.entitle("Pace", self._pace.quantity.unit)
        self._slices.setData(times, scores)
        self.pace.setYRange(0, float(known.max()) * 1.25, padding=0)
        self._figures[-1].show_texts(f"{known[-1]:,.0f}", self._pace.quantity.unit, "in ten seconds")

    def _draw_lanes(self, seen: dict[str, Floats]) -> None:
        self.lanes.draw(seen["time"], seen["held"])
        self.lanes.show_now(ORDER[int(self._history.column("held")[-1])])

    def _draw_chip_lanes(self, seen: dict[str, Floats]) -> None:
        """Draw what held the graphics chip; one without work leaves its room to the others, as in a low window."""
        held = seen["chip_held"]
        # A GPU that only draws the desktop tells nothing about what holds it back.
        worked = bool((~np.isnan(held) & (held != CODE[Constraint.NO_WORK])).any())
        self._show_chip(shown=worked and self.height() >= ROOM_FOR_CHIP_PX)
        now = self._history.last("chip_held")
        self.chip_lanes.draw(seen["time"], held)
        self.chip_lanes.show_now(None if now is None else ORDER[int(now)])

    def _show_chip(self, *, shown: bool) -> None:
        for widget in (self._chip_words, self.chip_lanes):
            if widget.isVisibleTo(self) != shown:
                widget.setVisible(shown)

    def _show_words(self) -> None:
        self._say_missing()
        self._show_figures()

    def _draw_clock(self, seen: dict[str, Floats]) -> None:
        for curve, name in ((self._low, "clock_low"), (self._high, "clock_high"), (self._mean, "clock_mean")):
            _set(curve, seen["time"], seen[name] * CLOCK.on_axes[1])
        _set(self._chip_clock, seen["time"], seen["chip_clock"] * CLOCK.on_axes[1])

    def _draw_temperature(self, seen: dict[str, Floats]) -> None:
        _set(self._temperature, seen["time"], seen["temperature"])
        _set(self._chip_temperature, seen["time"], seen["chip_temperature"])

    def _draw_power(self, seen: dict[str, Floats]) -> None:
        for curve, name in ((self._power, "power"), (self._sustained, "sustained"), (self._burst, "burst")):
            _set(curve, seen["time"], seen[name])
        together = seen["power"] + seen["chip_power"]  # stacked: the chip's watts on top of the processor's
        _set(self._together, seen["time"], together)
        board = _highest(seen["board"])  # what processor and chip share, where the board declares it
        drawn = max(
            [v for watts in (seen["power"], seen["burst"], together) if (v := _highest(watts)) is not None] or [0.0]
        )
        measured = _highest(seen["power"]) is not None
        board = board if board is not None and measured and drawn > NEAR_BOARD * board else None
        self._board.setVisible(board is not None)
        if board is not None:
            self._board.setValue(board)
            self._board.label.setFormat(f"board limit {POWER.show(board)}")
        top = max(drawn, 10.0) * 1.3 if board is None else max(drawn, board) * ABOVE_LEVEL
        self.power.setYRange(0, top, padding=0)

    def _say_missing(self) -> None:
        history = self._history
        for chart, name in (
            (self.clock, "clock_mean"),
            (self.power, "power"),
            (self.temperature, "temperature"),
        ):
            # The last forty readings: a single one that is missing is no missing sensor.
            missing = _highest(history.column(name)[-40:]) is None and len(history) > 2
            chart.say(NOT_MEASURED if missing else "")

    def _show_figures(self) -> None:
        history = self._history
        clock, power, temperature, share, _ = self._figures
        busy = history.last("busy")
        share.show_texts("–" if busy is None else f"{busy:.0f} %", "all processors")
        clock.show_texts(
            "–" if history.last("clock_mean") is None else CLOCK.show(history.last("clock_mean")),
            "not measured" if history.last("clock_mean") is None else "busy cores, mean",
            "" if busy is None else f"busy {busy:.0f} %",
        )
        top = history.highest.get("power")
        limit = history.last("sustained")
        power.show_texts(
            "–" if history.last("power") is None else f"{history.last('power'):.1f} W",
            "not measured" if top is None else f"highest {top:.1f} W",
            "" if limit is None else f"sustained {POWER.show(limit)}",
        )
        top = history.highest.get("temperature")
        fan = history.last("fan")
        temperature.show_texts(
            "–" if history.last("temperature") is None else f"{history.last('temperature'):.0f} °C",
            "not measured" if top is None else f"highest {top:.0f} °C",
            "" if fan is None else f"fan {SPEED.show(fan)}",
        )
        shown = (("chip_clock", clock, CLOCK.show), ("chip_power", power, lambda w: f"{w:.1f} W"),
                 ("chip_temperature", temperature, lambda c: f"{c:.0f} °C"))  # fmt: skip
        for name, figure, show in shown:
            value = history.last(name)
            figure.show_chip("" if value is None else f"{history.chip} {show(value)}")


def _set(curve: pg.PlotDataItem, times: Floats, values: Floats) -> None:
    curve.setData(*thinned(times, values, MOST_POINTS))


def _highest(values: Floats) -> float | None:
    if not len(values):
        return None
    known = values[~np.isnan(values)]
    return float(known.max()) if len(known) else None
