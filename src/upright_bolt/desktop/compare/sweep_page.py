"""Sweeps: any result against any control with error bars, and the form that runs a ladder of settings."""

from collections.abc import Iterable
from dataclasses import replace
from functools import partial

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QLabel, QLineEdit, QSpinBox, QWidget

from upright_bolt.analysis.comparison.shared_heat import best_exchange
from upright_bolt.analysis.comparison.sweep import (
    SHARED,
    SweepLine,
    controls_with_runs,
    lines,
    results_of,
    shared,
    shares_power,
    words_of,
)
from upright_bolt.analysis.numbers import NUMBERS, Number
from upright_bolt.desktop.step_queue import StepQueue
from upright_bolt.desktop.widgets.basic import button, column, heading, label, offer
from upright_bolt.desktop.widgets.chart import ValueChart
from upright_bolt.desktop.widgets.theme import LINES, Theme
from upright_bolt.desktop.workbench.run_form import chip_choice
from upright_bolt.model.catalogue import TOGETHER, declaration_of, title_of
from upright_bolt.model.control import Control, ControlState, show_value
from upright_bolt.model.declaration import Kind
from upright_bolt.model.quantity import SHARE
from upright_bolt.model.run import RunRecord
from upright_bolt.model.work import Options, score_quantity
from upright_bolt.model.workloads import WORKLOADS, Mode, workload
from upright_bolt.presentation.history import Floats
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.presentation.records import SweepRequest
from upright_bolt.text.comparison import shared_heat
from upright_bolt.text.times import length, waiting

MOST_LINES = 4
USUAL_CONTROLS = ("core-offset", "sustained", "epp")
FORM_W = 250


WHO_GETS_IT = Number(SHARED, "Who gets the heat: frames and processor score against the highest", SHARE)


class SweepChart(ValueChart):
    """Means with error bars, joined where runs differ in nothing else.

    Attributes:
        lines: what is in sight; empty while it is being drawn.
    """

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme)
        self._steps = StepQueue(self)
        self.lines: tuple[SweepLine, ...] = ()

    def show_lines(self, found: tuple[SweepLine, ...], control: str, words: tuple[str, ...], number: Number) -> None:
        """Draw the lines of the first's work, one after another; that one is strong, the others thin."""
        self.clear_drawn()
        shown = tuple(line for line in found if line.work == found[0].work)[:MOST_LINES]
        declared, title = declaration_of(control), title_of(control)
        self.value_axis.setTicks([list(enumerate(words))] if words else None)
        self.value_axis.setLabel(f"{title}, {declared.quantity.unit}" if declared.quantity.unit else title)
        self._title(number)
        colour = self.theme.of(number.quantity.name)
        self._frame(shown, number)
        for x in dict.fromkeys(x for line in shown for x in line.errors):
            self.write("✕", x, self.viewRange()[1][0], self.theme.ink, (0.5, 1.1))
        self.say("" if shown else "No run that is shown on the left carries both")
        self._steps.begin(
            [
                partial(self._draw_line, line, colour if index == 0 else self.theme.muted, index, number)
                for index, line in enumerate(shown)
            ]
            + [partial(setattr, self, "lines", shown)]
        )

    def show_nothing(self, why: str) -> None:
        """Show an empty chart, and why it is."""
        self.clear_drawn()
        self._legend.setText("")
        self.say(why)

    def clear_drawn(self) -> None:
        """Draw nothing more, and take away what is drawn."""
        self._steps.begin([])
        self.lines = ()
        super().clear_drawn()

    def _title(self, number: Number) -> None:
        colour, muted = self.theme.of(number.quantity.name), self.theme.muted
        unit = number.quantity.on_axes[0]
        self._legend.setText(
            f"<span style='color:{colour}; font-weight:600'>{number.title}</span> <span style='color:{muted}'>{unit}"
            "</span>"
        )

    def _draw_line(self, line: SweepLine, colour: str, index: int, number: Number) -> None:
        scale = _scale(number)
        xs, ys = [p.x for p in line.points], [p.mean * scale for p in line.points]
        curve = pg.PlotDataItem(xs, ys, pen=self.pen(colour, width=1.8 if index == 0 else 1.0, style=LINES[index + 1]))
        self.draw(curve)
        barred = [p for p in line.points if p.half_width is not None]
        if barred:
            self.draw(pg.ErrorBarItem(
                x=_array(p.x for p in barred), y=_array(p.mean * scale for p in barred),
                height=_array(2.0 * (p.half_width or 0.0) * scale for p in barred), beam=0.0,
                pen=self.pen(colour, width=1.4),
            ))  # fmt: skip
        dots = pg.ScatterPlotItem(
            xs, ys, size=8 if index == 0 else 6, pen=pg.mkPen(colour, width=1.5),
            brush=pg.mkBrush(colour if index == 0 else self.theme.sheet),
        )  # fmt: skip
        self.draw(dots)
        if line.words and line.points:
            end = -1 if index else 0
            self.write(line.words, xs[end], ys[end], colour, (1.0 if index else 0.0, 1.3))

    def _frame(self, shown: tuple[SweepLine, ...], number: Number) -> None:
        scale = _scale(number)
        points = [point for line in shown for point in line.points]
        if not points:
            return
        xs = [*(p.x for p in points), *(x for line in shown for x in line.errors)]
        lows = [(p.mean - (p.half_width or 0.0)) * scale for p in points]
        highs = [(p.mean + (p.half_width or 0.0)) * scale for p in points]
        wide = (max(xs) - min(xs)) or max(1.0, abs(xs[0]) * 0.2)
        tall = (max(highs) - min(lows)) or max(1.0, abs(highs[0]) * 0.1)
        self.setXRange(min(xs) - 0.06 * wide, max(xs) + 0.06 * wide, padding=0)
        self.setYRange(min(lows) - 0.12 * tall, max(highs) + 0.28 * tall, padding=0)


def _scale(number: Number) -> float:
    return number.quantity.on_axes[1]


def _array(values: Iterable[float]) -> Floats:
    return np.fromiter(values, dtype=float)


class LadderForm(QWidget):
    """Runs a ladder of settings: control, from, to, step, workload, length, how often."""

    def __init__(self, presenter: Presenter) -> None:
        super().__init__()
        self._presenter = presenter
        self.setFixedWidth(FORM_W)
        self.control = QComboBox()
        self.first, self.last, self.step = QLineEdit(), QLineEdit(), QLineEdit()
        self.workload = QComboBox()
        self.chip = chip_choice(presenter)
        self.length = QLineEdit("3 min")
        self.repeats = QSpinBox()
        self.repeats.setRange(1, 20)
        self.cool_to = QLineEdit()
        self.cool_to.setPlaceholderText("no waiting")
        for name, known in WORKLOADS.items():
            if known.mode not in (Mode.REST, Mode.COMMAND, Mode.HOLD):
                self.workload.addItem(name, name)
                self.workload.setItemData(self.workload.count() - 1, known.purpose, Qt.ItemDataRole.ToolTipRole)
        grid = QGridLayout()
        grid.setVerticalSpacing(5)
        rows = (("Control", self.control), ("From", self.first), ("To", self.last), ("Step", self.step),
                ("Workload", self.workload), ("Chip", self.chip), ("Length of each", self.length),
                ("How often each", self.repeats), ("Cool down to", self.cool_to))  # fmt: skip
        self._chip_word = QLabel()
        for row, (words, widget) in enumerate(rows):
            word = label(words, "muted")
            grid.addWidget(word, row, 0)
            self._chip_word = word if widget is self.chip else self._chip_word
            grid.addWidget(widget, row, 1)
            widget.setAccessibleName(words)
        self.start = button("Run the ladder", "main")
        self.stop = button("Stop and put back")
        self.start.clicked.connect(self._begin)
        self.stop.clicked.connect(presenter.records.stop_series)
        self._progress = label("", "muted", wraps=True)
        layout = column(self, margins=(12, 0, 0, 0), gap=7)
        layout.addWidget(heading("A ladder of settings"))
        layout.addLayout(grid)
        layout.addWidget(self.start)
        layout.addWidget(self.stop)
        layout.addWidget(self._progress)
        layout.addStretch()
        self._offer_controls()
        self.control.currentIndexChanged.connect(lambda _: self._suggest())
        self.workload.currentIndexChanged.connect(lambda _: self._show_chip())
        self._show_chip()
        self._suggest()
        presenter.live.connect(lambda _: self.show_state())
        presenter.settings_changed.connect(lambda _: self.show_state())

    def _offer_controls(self) -> None:
        for name, control in self._presenter.controls.items():
            declared = control.declaration
            open_to = control.state in (ControlState.SETTABLE, ControlState.ASLEEP)
            if declared.kind is Kind.SCALE and open_to and not declared.guarded:
                self.control.addItem(control.title, name)
        if all(self.control.findData(name) >= 0 for name in TOGETHER):
            self.control.insertItem(self.control.findData(TOGETHER[0]), "Core and cache offset", ",".join(TOGETHER))
        index = self.control.findData("sustained")
        self.control.setCurrentIndex(max(0, index))

    def _show_chip(self) -> None:
        """Ask for the graphics chip where one works."""
        for widget in (self.chip, self._chip_word):
            widget.setVisible(workload(self.workload.currentData()).on_gpu)

    def _suggest(self) -> None:
        """Suggest a ladder around what is in force."""
        control = self._presenter.controls.get((self.control.currentData() or "").partition(",")[0])
        if control is None or not isinstance(control.current, float):
            return
        low, high, step = _suggested(control)
        for entry, value in ((self.first, low), (self.last, high), (self.step, step)):
            entry.setText(show_value(control.name, value))

    def _begin(self) -> None:
        self._presenter.records.start_ladder(
            SweepRequest(
                self.control.currentData() or "", self.first.text(), self.last.text(), self.step.text(),
                self.workload.currentData(), self.length.text(), self.repeats.value(), self.cool_to.text(),
                (self.chip.currentData() or "") if self.chip.isVisibleTo(self) else "",
            )
        )  # fmt: skip

    def show_state(self) -> None:
        """Show where a series stands."""
        series = self._presenter.records.series
        no_load = self._presenter.outline.no_load
        self.start.setVisible(series is None)
        self.start.setEnabled(not no_load and self._presenter.progress is None and self.control.count() > 0)
        self.stop.setVisible(series is not None)
        if series is None:
            hint = "Each rung is a trial; all is put back at the end, or when you stop."
            self._progress.setText(no_load or hint)
            return
        run = self._presenter.progress
        at = f", {length(run.elapsed_s)} of {length(run.asked_s)}" if run is not None else ""
        waits = f". {waiting(series.waiting)}" if series.waiting is not None else at
        self._progress.setText(f"Run {series.number} of {series.count}, {series.label}{waits}.")


def _suggested(control: Control) -> tuple[float, float, float]:
    """Return from, to and step of a ladder: six rungs from what is in force towards less, within what is allowed."""
    now = control.current if isinstance(control.current, float) else 0.0
    if control.declaration.quantity.unit == "mV":
        return now, max(control.minimum if control.minimum is not None else now - 100.0, now - 100.0), 10.0
    low = control.minimum if control.minimum is not None else 0.0
    high = control.maximum if control.maximum is not None else now
    step = control.step or 1.0
    stride = max(step, round((high - low) / 6.0 / step) * step)
    return low, low + stride * int((high - low) / stride), stride


class SweepPage(QWidget):
    """The chart with its two choices, and the form beside it."""

    def __init__(self, presenter: Presenter, theme: Theme) -> None:
        super().__init__()
        self._presenter = presenter
        self._runs: list[RunRecord] = []
        self._wanted = ""
        self.control, self.result = QComboBox(), QComboBox()
        self.control.setAccessibleName("Control of the sweep")
        self.result.setAccessibleName("Result of the sweep")
        for combo in (self.control, self.result):
            combo.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.chart = SweepChart(theme)
        self.form = LadderForm(presenter)
        self._said = label("", "muted", wraps=True)
        choices = QHBoxLayout()
        for widget in (self.result, label("over", "muted"), self.control):
            choices.addWidget(widget)
        choices.addStretch()
        left = column(gap=6)
        left.addLayout(choices)
        left.addWidget(self.chart, 1)
        left.addWidget(self._said)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addLayout(left, 1)
        layout.addWidget(self.form)
        for combo in (self.control, self.result):
            combo.currentIndexChanged.connect(lambda _: self.draw())

    def show_runs(self, runs: list[RunRecord]) -> None:
        """Offer what these runs carry, and draw; a thousand of them take a while, so both are worked out elsewhere."""
        self._runs = runs

        def take(found: object) -> None:
            if self._runs is not runs or not isinstance(found, tuple):
                return
            controls, results = found
            titles = {number.key: number.title for number in NUMBERS}
            usual = next((name for name in USUAL_CONTROLS if name in controls), None)
            offer(self.control, [(title_of(name), name) for name in controls], usual)
            both = any(shares_power(run) for run in runs)
            shares = [(WHO_GETS_IT.title, SHARED)] if both else []
            newest = SHARED if runs and shares_power(runs[0]) else "score"
            offer(self.result, [*shares, *((titles[key], key) for key in results)], newest)
            if self._wanted in results:
                self.result.setCurrentIndex(self.result.findData(self._wanted))
            self._wanted = ""
            self.draw()

        self._presenter.compute(lambda: (controls_with_runs(runs), results_of(runs)), take)

    def want(self, key: str) -> None:
        """Choose a result as soon as there are runs that have it."""
        self._wanted = key

    def draw(self) -> None:
        """Draw the chosen result over the chosen control."""
        runs, control, key = self._runs, self.control.currentData(), self.result.currentData()
        number = WHO_GETS_IT if key == SHARED else next((n for n in NUMBERS if n.key == key), None)
        if control is None or number is None:
            self.chart.show_nothing("No control had different values in the runs shown on the left")
            return

        def show(found: object) -> None:
            chosen = (self._runs, self.control.currentData(), self.result.currentData())
            if isinstance(found, tuple) and chosen == (runs, control, key):
                own = score_quantity(found[0].work[0], Options()) if found and key == "score" else number.quantity
                self.chart.show_lines(found, control, words_of(control, runs), replace(number, quantity=own))
                self._say(found)

        found = (lambda: shared(runs, control)) if key == SHARED else (lambda: lines(runs, control, key))
        self._presenter.compute(found, show)

    def _say_shared(self, found: tuple[SweepLine, ...]) -> None:
        """Say at which step the graphics chip gained most for what the processor lost."""
        exchange = best_exchange([run for run in self._runs if shares_power(run)])
        count = sum(len(point.runs) for point in found[0].points) if found else 0
        said = [shared_heat(exchange)] if exchange is not None else []
        self._said.setText(" ".join([*said, f"{count} runs."]))

    def _say(self, found: tuple[SweepLine, ...]) -> None:
        if self.result.currentData() == SHARED:
            self._say_shared(found)
            return
        same = [line for line in found if line.work == found[0].work]
        count = sum(len(point.runs) for line in same for point in line.points)
        more = f", {len(same) - MOST_LINES} more lines are not drawn" if len(same) > MOST_LINES else ""
        work = " on ".join(found[0].work) if found else "no workload"
        self._said.setText(
            f"{count} runs of {work}{more}. Joined: runs that differ in nothing else. "
            "Bars: where the mean lies in 95 of 100 cases. ✕: a run gave wrong results there."
        )
