"""A graphics chip's curve: voltage over clock as it was seen at stock, what is asked of it, and what came out.

Dots: seen at stock. Dashed line: what is asked. Squares: seen with the curve moved.
"""

import pyqtgraph as pg
from PyQt6.QtCore import QSize

from upright_bolt.analysis.clock_voltage import Asked, Curve
from upright_bolt.desktop.widgets.chart import ValueChart
from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.model.quantity import CLOCK, VOLTAGE

ROOM = 0.06
"""Of the span left free beyond the outermost pairs."""
NOTHING_SEEN = "No clock of this chip was seen under load yet."
NO_VOLTAGE = "Clocks of this chip were seen under load, but its driver tells no voltage."


class CurveChart(ValueChart):
    """The picture."""

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme)
        self.setAccessibleName("Voltage over clock of the graphics chip")
        self.setMinimumHeight(280)
        self.value_axis.setLabel("clock, MHz")
        self.value_axis.enableAutoSIPrefix(enable=False)
        self.getPlotItem().showGrid(x=True, y=True, alpha=0.2)
        marks = ((theme.voltage, "● seen at stock"), (theme.accent, "╌╌ asked"), (theme.power, "□ seen since"))
        shown = "&nbsp;&nbsp; ".join(f"<span style='color:{colour}'>{words}</span>" for colour, words in marks)
        self._legend.setText(f"<span style='color:{theme.muted}'>V</span>&nbsp;&nbsp; {shown}")

    def sizeHint(self) -> QSize:
        """Return room for a curve."""
        return QSize(620, 320)

    def show_curve(self, curve: Curve | None, asked: Asked | None) -> None:
        """Draw another curve, and what is asked of it."""
        self.clear_drawn()
        stock = [] if curve is None else _stock(curve)
        moved = [] if curve is None else _moved(curve)
        line = [] if curve is None or asked is None else _asked_line(curve, asked)
        seen = stock + moved
        (x0, x1), (y0, y1) = _spread([mhz for mhz, _ in seen]), _spread([v for _, v in [*seen, *line]])
        self.setXRange(x0, x1, padding=0.0)
        self.setYRange(y0, y1 + ROOM * (y1 - y0), padding=0.0)
        told = ", ".join(f"{CLOCK.show(mhz)} at {VOLTAGE.show(v)}" for mhz, v in seen)
        missing = "" if seen else NO_VOLTAGE if curve is not None and curve.stock else NOTHING_SEEN
        self.setAccessibleDescription(told or missing)
        self.say(missing)
        for name in ("left", "bottom"):  # numbers on the axes of an empty chart would mean nothing
            self.getPlotItem().getAxis(name).setStyle(showValues=bool(seen))
        theme = self.theme
        self._mark(stock, "o", theme.voltage, theme.voltage)
        self.draw(pg.PlotDataItem(*_columns(stock), pen=self.pen(theme.voltage, width=1.8), antialias=True))
        if line and asked is not None:
            self._draw_asked(line, asked, y0)
        self._mark(moved, "s", theme.power, theme.sheet)

    def _mark(self, pairs: list[tuple[float, float]], symbol: str, colour: str, filling: str) -> None:
        self.draw(
            pg.ScatterPlotItem(
                *_columns(pairs), symbol=symbol, size=7, pen=pg.mkPen(colour, width=1.8), brush=pg.mkBrush(filling)
            )
        )

    def _draw_asked(self, line: list[tuple[float, float]], asked: Asked, foot: float) -> None:
        """Draw the curve moved as far as is asked, and cut flat at the clock that is held."""
        (clock, volts), accent = line[-1], self.theme.accent
        xs, ys = _columns([*line, (clock, foot)])
        self.draw(pg.PlotDataItem(xs, ys, pen=self.pen(accent, width=2.0, style="dash"), antialias=True))
        self.write(f"{CLOCK.show(asked.clock_mhz)} at {VOLTAGE.show(volts)}", clock, foot, accent, (1.05, 1.2))


def _columns(pairs: list[tuple[float, float]]) -> tuple[list[float], list[float]]:
    return [x for x, _ in pairs], [y for _, y in pairs]


def _asked_line(curve: Curve, asked: Asked) -> list[tuple[float, float]]:
    """Return the stock curve moved as far as is asked, up to the clock that is held; nothing beyond what was seen."""
    there = curve.volts_at(asked.clock_mhz)
    if there is None:
        return []
    less = 0.0 if asked.volts is None else there - asked.volts
    below = [
        (pair.clock_mhz, pair.volts - less)
        for pair in curve.stock
        if pair.volts is not None and pair.clock_mhz < asked.clock_mhz
    ]
    return [*below, (asked.clock_mhz, there - less)]


def _moved(curve: Curve) -> list[tuple[float, float]]:
    return [(p.clock_mhz, p.volts) for pairs in curve.moved.values() for p in pairs if p.volts is not None]


def _stock(curve: Curve) -> list[tuple[float, float]]:
    return [(pair.clock_mhz, pair.volts) for pair in curve.stock if pair.volts is not None]


def _spread(values: list[float]) -> tuple[float, float]:
    """Return the bounds of a scale around values."""
    if not values:
        return 0.0, 1.0
    low, high = min(values), max(values)
    room = ROOM * (high - low) or 0.05 * abs(high) or 1.0
    return low - room, high + room
