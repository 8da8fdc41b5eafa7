"""Constraint lanes: one thin band per constraint, filled while it held the clock back."""

from collections.abc import Container

import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QBrush, QColor
from PyQt6.QtWidgets import QGridLayout, QLabel, QSizePolicy, QWidget

from upright_bolt.desktop.widgets.basic import label, restyle
from upright_bolt.desktop.widgets.chart import Chart
from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.model.constraint import ORDER, Constraint
from upright_bolt.presentation.history import Floats, spans_of
from upright_bolt.sanitize import capital

LANES = (
    Constraint.SUSTAINED,
    Constraint.BURST,
    Constraint.PEAK,
    Constraint.BOARD,
    Constraint.HEAT,
    Constraint.CURRENT,
    Constraint.HOT_SIGNAL,
    Constraint.TURBO_TABLE,
    Constraint.CLOCK_CAP,
    Constraint.NO_WORK,
    Constraint.UNKNOWN,
)
USUAL = {
    Constraint.SUSTAINED: "limit.sustained",
    Constraint.BURST: "limit.burst",
    Constraint.HEAT: "temperature.package",
    Constraint.TURBO_TABLE: "clock.cpu0",
    Constraint.NO_WORK: None,
    Constraint.UNKNOWN: None,
}
"""What has a lane from the beginning, where the sensor is there; any other gets one once it has held."""
OF_CHIP = (Constraint.POWER, Constraint.HEAT, Constraint.VOLTAGE, Constraint.NO_WORK)
"""The same of a graphics chip."""
LANES_OF_CHIP = (*OF_CHIP[:-1], Constraint.CLOCK_CAP, Constraint.NO_WORK, Constraint.UNKNOWN)
LANE_PX = 12


def lane_brush(constraint: Constraint, theme: Theme) -> QBrush:
    """Return a lane's fill: the limited quantity's colour, dotted or barred for others of it, hatched if unknown."""
    colours = {
        Constraint.SUSTAINED: theme.power,
        Constraint.BURST: theme.power,
        Constraint.PEAK: theme.power,
        Constraint.BOARD: theme.power,
        Constraint.POWER: theme.power,
        Constraint.VOLTAGE: theme.voltage,
        Constraint.CURRENT: theme.power,
        Constraint.HEAT: theme.temperature,
        Constraint.HOT_SIGNAL: theme.temperature,
        Constraint.TURBO_TABLE: theme.clock,
        Constraint.CLOCK_CAP: theme.clock,
        Constraint.NO_WORK: theme.line,
    }
    if constraint in (Constraint.PEAK, Constraint.BOARD):
        return QBrush(QColor(colours[constraint]), Qt.BrushStyle.HorPattern)
    if constraint in (Constraint.BURST, Constraint.CLOCK_CAP, Constraint.HOT_SIGNAL):
        return QBrush(QColor(colours[constraint]), Qt.BrushStyle.Dense4Pattern)
    if constraint is Constraint.UNKNOWN:
        return QBrush(QColor(theme.muted), Qt.BrushStyle.BDiagPattern)
    return QBrush(QColor(colours[constraint]))


class Lanes(QWidget):
    """The lanes, with the words beside them; the word of the one that holds now is strong.

    Args:
        theme: colours.
        words_width: room for the words in px.
        measured: names of the machine's sensors.
        ends_now: whether the time axis ends at the present.
        chip: whether they are a graphics chip's, below which stand others with the time.

    Attributes:
        chart: the plot, whose time axis others link to.
    """

    def __init__(
        self,
        theme: Theme,
        words_width: int,
        measured: Container[str] = (),
        *,
        ends_now: bool = True,
        chip: bool = False,
    ) -> None:
        super().__init__()
        self._theme = theme
        self._shown: list[Constraint] = []
        self.chart = Chart("", None, theme, times=not chip, ends_now=ends_now)
        self._foot = 4 if chip else 22
        item = self.chart.getPlotItem()
        item.getAxis("left").setStyle(showValues=False)
        item.showGrid(x=True, y=False)
        self._bars: dict[Constraint, pg.BarGraphItem] = {}
        self._drawn: dict[Constraint, list[tuple[float, float]]] = {}
        self._words: dict[Constraint, QLabel] = {}
        self._rules: list[pg.InfiniteLine] = []
        words = QWidget()
        words.setFixedWidth(words_width)
        self._column = grid = QGridLayout(words)
        grid.setContentsMargins(8, 1, 0, self._foot - 2)
        grid.setSpacing(0)
        layout = QGridLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.chart, 0, 0)
        layout.addWidget(words, 0, 1, Qt.AlignmentFlag.AlignTop)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        usual = [c for c in LANES if c in USUAL and (USUAL[c] is None or USUAL[c] in measured)]
        self._lanes = LANES_OF_CHIP if chip else LANES
        self._make_room(list(OF_CHIP) if chip else usual)

    def _make_room(self, shown: list[Constraint]) -> None:
        """Have a lane for each of these, in the order of ``LANES``."""
        item = self.chart.getPlotItem()
        for constraint in shown:
            if constraint not in self._bars:
                brush = lane_brush(constraint, self._theme)
                bar = pg.BarGraphItem(x0=[], x1=[], y0=[], height=[], pen=None, brush=brush)
                self.chart.addItem(bar)
                self._bars[constraint] = bar
                word = label(capital(constraint.value), "muted")
                word.setFixedHeight(LANE_PX)
                self._words[constraint] = word
        for row, constraint in enumerate(shown):
            self._column.addWidget(self._words[constraint], row, 0)
        for row in range(len(self._rules) + 1, len(shown)):
            line = pg.InfiniteLine(row, angle=0, pen=pg.mkPen(self._theme.faint))
            self.chart.addItem(line, ignoreBounds=True)
            self._rules.append(line)
        item.setLimits(yMin=0, yMax=len(shown))
        item.setYRange(0, len(shown), padding=0)
        self.setFixedHeight(len(shown) * LANE_PX + self._foot)
        self._shown = shown
        self._drawn = {}

    def draw(self, time_s: Floats, held: Floats) -> None:
        """Fill the lanes. Both of shape (n,); ``held`` holds indices in ``Constraint``."""
        found = spans_of(time_s, held)
        new = [ORDER[code] for code in found if ORDER[code] not in self._bars]
        if any(constraint in self._lanes for constraint in new):
            self._make_room([c for c in self._lanes if c in self._bars or c in new])
        shown = self._shown
        for row, constraint in enumerate(shown):
            spans = found.get(ORDER.index(constraint), [])
            # Setting a bar's options repaints the chart, and most lanes stand still from sample to sample.
            if spans == self._drawn.get(constraint, []):
                continue
            self._drawn[constraint] = spans
            y = len(shown) - row - 0.88
            self._bars[constraint].setOpts(
                x0=[a for a, _ in spans], x1=[b for _, b in spans], y0=[y] * len(spans), height=[0.76] * len(spans)
            )

    def show_now(self, holding: Constraint | None) -> None:
        """Make the word of the present constraint strong."""
        for constraint, word in self._words.items():
            restyle(word, "role", "strong" if constraint is holding else "muted")
