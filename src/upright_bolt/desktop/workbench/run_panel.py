"""The run column of the Workbench: choose, start, watch, and see the result against the baseline."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QProgressBar,
    QVBoxLayout,
    QWidget,
)

from upright_bolt.analysis.comparison.conditions import Condition, conditions
from upright_bolt.analysis.numbers import NUMBERS, values_of
from upright_bolt.desktop.widgets.basic import button, column, heading, label, rule
from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.desktop.workbench.run_form import RunForm
from upright_bolt.model.quantity import CLOCK, clock_text
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.sanitize import capital
from upright_bolt.session.run_progress import RunStage
from upright_bolt.text.comparison import change, condition_pair, condition_title
from upright_bolt.text.faults import does_not_count
from upright_bolt.text.times import time_of_day, waiting

WIDTH = 262
SHOWN = ("score", "score_settled", "clock_sustained_mhz", "power_sustained_w", "temp_max_c", "temp_sustained_c",
         "settled_per_watt", "errors")  # fmt: skip


NEEDS = {
    "clock_sustained_mhz": "clock.cpu0", "power_sustained_w": "power.package", "settled_per_watt": "power.package",
    "temp_max_c": "temperature.package", "temp_sustained_c": "temperature.package",
}  # fmt: skip
"""Sensors without which there is no such number."""
OF_SOME = ("latency_median_ms", "latency_p95_ms", "latency_p99_ms", "low_1_fps", "low_01_fps", "late_share", "drain_w",
           "hours_full", "wakeups_per_s", "times_spread", "blocks_checked", "carries_w", "draws_w")  # fmt: skip
"""Numbers that some workloads have; shown where they were measured."""


class RunPanel(QWidget):
    """The run column.

    Signals:
        compared: open the last run and the baseline in Compare.
    """

    compared = pyqtSignal()

    def __init__(self, presenter: Presenter, theme: Theme) -> None:
        super().__init__()
        self._presenter = presenter
        self._theme = theme
        self._was_running = True  # shown once at first
        self.setFixedWidth(WIDTH)
        layout = column(self, margins=(14, 10, 14, 10), gap=7)
        layout.addWidget(heading("Run"))
        self.form = RunForm(presenter)
        layout.addWidget(self.form)
        self._add_progress(layout)
        layout.addWidget(rule())
        self._add_result(layout)
        layout.addStretch()
        presenter.live.connect(lambda _: self.show_progress())
        presenter.runs.changed.connect(lambda _: self._show_runs())

    def _add_progress(self, layout: QVBoxLayout) -> None:
        self.start = button("Start the run", "main")
        self.stop = button("Stop and keep what is there")
        self.start.clicked.connect(self._begin)
        self.stop.clicked.connect(self._stop)
        self.skip = button("Begin now")
        self.skip.setToolTip("Do not wait until the machine has come to rest; the run is kept as begun at once")
        self.skip.clicked.connect(self._presenter.runner.skip_waiting)
        self._waiting = label("", "muted", wraps=True)
        head = QHBoxLayout()
        self._done = label("", "strong")
        self._left = label("", "muted")
        head.addWidget(self._done)
        head.addStretch()
        head.addWidget(self._left)
        self._bar = QProgressBar()
        self._bar.setTextVisible(False)
        self._bar.setRange(0, 1000)
        layout.addWidget(self.start)
        layout.addLayout(head)
        layout.addWidget(self._bar)
        layout.addWidget(self._waiting)
        layout.addWidget(self.skip)
        layout.addWidget(self.stop)
        self._why_not = label(self._presenter.outline.no_load, "muted", wraps=True)
        self._why_not.setVisible(bool(self._presenter.outline.no_load))
        layout.addWidget(self._why_not)

    def _add_result(self, layout: QVBoxLayout) -> None:
        layout.addWidget(heading("Against the baseline"))
        self.baseline = QComboBox()
        self.baseline.setAccessibleName("Baseline")
        self.baseline.activated.connect(lambda _: self._presenter.runs.choose_baseline(self.baseline.currentData()))
        layout.addWidget(self.baseline)
        grid = QGridLayout()
        grid.setVerticalSpacing(5)
        grid.setHorizontalSpacing(6)
        grid.setColumnStretch(0, 1)
        self._columns = [label("base", "muted"), label("run", "muted"), label("change", "muted")]
        for i, made in enumerate(self._columns, start=1):
            grid.addWidget(made, 0, i, Qt.AlignmentFlag.AlignRight)
        self._cells: dict[str, list[QLabel]] = {}
        self._titles: dict[str, QLabel] = {}
        for row, number in enumerate((n for n in NUMBERS if n.key in (*SHOWN, *OF_SOME)), start=1):
            self._titles[number.key] = title = label(_brief(number.title), "muted")
            grid.addWidget(title, row, 0)
            cells = [label(), label(role="strong"), label(role="strong")]
            cells[2].setStyleSheet(f"color: {self._theme.of(number.quantity.name)}")
            for i, cell in enumerate(cells, start=1):
                grid.addWidget(cell, row, i, Qt.AlignmentFlag.AlignRight)
            self._cells[number.key] = cells
        layout.addLayout(grid)
        self._note = QFrame()
        self._note.setProperty("role", "note")
        note = QVBoxLayout(self._note)
        note.setContentsMargins(9, 7, 9, 7)
        self._finding = label("", "muted", wraps=True)
        note.addWidget(self._finding)
        self._note.hide()
        layout.addWidget(self._note)
        self._conditions = QGridLayout()
        self._conditions.setVerticalSpacing(4)
        self._conditions.setColumnStretch(1, 1)
        self._conditions_head = heading("Conditions")
        layout.addWidget(self._conditions_head)
        layout.addLayout(self._conditions)
        self._conditions_shown: tuple[Condition, ...] = ()
        self.open = button("Open both in Compare")
        self.open.clicked.connect(self.compared)
        layout.addWidget(self.open)

    def _begin(self) -> None:
        self._presenter.start_asked(self.form.asked())

    def _show_baselines(self) -> None:
        presenter = self._presenter
        self.baseline.clear()
        self.baseline.addItem("No baseline", None)
        for run in presenter.runs.all:
            if run.head.machine == presenter.outline.spec:
                name = run.head.label or "no name"
                self.baseline.addItem(f"Run {run.id}, {name}, {time_of_day(run.head.started_at)}", run.id)
        index = self.baseline.findData(presenter.runs.baseline_id)
        self.baseline.setCurrentIndex(max(0, index))
        self.baseline.setToolTip(self.baseline.currentText())  # a long name has no room

    def _stop(self) -> None:
        if self._presenter.records.series is not None:
            self._presenter.records.stop_series()
        else:
            self._presenter.runner.stop()

    def _show_runs(self) -> None:
        self._show_baselines()
        self._show_result()

    def show_progress(self) -> None:
        """Show where a run or series stands, and what it has measured so far."""
        presenter = self._presenter
        progress = presenter.progress
        series = presenter.records.series
        running = progress is not None or series is not None
        self.start.setVisible(not running)
        self.start.setEnabled(not presenter.outline.no_load)
        self.stop.setVisible(running)
        self._bar.setVisible(running)
        self._done.setVisible(running)
        self._left.setVisible(running)
        found = progress.waiting if progress is not None else (series.waiting if series is not None else None)
        self._waiting.setVisible(found is not None)
        self.skip.setVisible(found is not None)
        self._waiting.setText(f"{waiting(found)}." if found is not None else "")
        if progress is not None:
            if progress.stage is RunStage.WORKING:
                self._done.setText(f"{clock_text(progress.elapsed_s)} of {clock_text(progress.asked_s)}")
                self._left.setText(f"{clock_text(progress.asked_s - progress.elapsed_s)} left")
            else:
                self._done.setText(capital(progress.stage.value))
                self._left.setText("")
            if series is not None:
                self._done.setText(f"{series.number} of {series.count}: {self._done.text()}")
            self._bar.setValue(round(1000 * progress.elapsed_s / progress.asked_s))
        elif series is not None:
            self._done.setText(f"{series.number} of {series.count}: resting")
            self._left.setText("")
            self._bar.setValue(0)
        if running or self._was_running:
            self._show_result()
        self._was_running = running

    def _show_result(self) -> None:
        presenter = self._presenter
        row, words = presenter.runs.against_baseline(presenter.progress)
        baseline = presenter.runs.baseline
        self.open.setEnabled(row is not None and baseline is not None and row.run.id != baseline.id)
        self._columns[0].setText(f"run {baseline.id}" if baseline else "base")
        self._columns[1].setText(f"run {row.run.id}" if row else "run")
        base = values_of(baseline) if baseline is not None else None
        for number in NUMBERS:
            cells = self._cells.get(number.key)
            if cells is None:
                continue
            cells[0].setText(_figure(number.key, base[number.key]) if base else "–")
            cells[1].setText(_figure(number.key, row.values[number.key]) if row else "–")
            face = cells[1].font()
            face.setStrikeOut(row is not None and does_not_count(row.run, number))
            cells[1].setFont(face)
            cells[2].setText(change(row, number) if row else "")
            usual = number.key in SHOWN and self._measurable(number.key)
            known = usual or (row is not None and row.values[number.key] is not None)
            for widget in (self._titles[number.key], *cells):
                widget.setVisible(known)
        self._show_conditions(conditions(row.run, baseline) if row is not None and baseline is not None else ())
        self._finding.setText(words)
        self._note.setVisible(bool(words))

    def _measurable(self, key: str) -> bool:
        """Tell whether this machine has the sensor that a number is made of."""
        return NEEDS.get(key, "") in ("", *self._presenter.outline.index)

    def _show_conditions(self, found: tuple[Condition, ...]) -> None:
        self._conditions_head.setVisible(bool(found))
        if found == self._conditions_shown:
            return
        self._conditions_shown = found
        while (item := self._conditions.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        for index, entry in enumerate(found):
            self._conditions.addWidget(label(condition_title(entry.kind), "muted"), index, 0)
            self._conditions.addWidget(label(condition_pair(entry)), index, 1, Qt.AlignmentFlag.AlignRight)
            verdict = label("alike", "muted") if entry.alike else label("≠ unlike", "strong")
            self._conditions.addWidget(verdict, index, 2, Qt.AlignmentFlag.AlignRight)


def _brief(title: str) -> str:
    return title.replace("Score per watt", "Per watt").replace("temperature", "temp.").replace("Temperature", "Temp.")


def _figure(key: str, value: float | None) -> str:
    """Return a number without its unit, which the row's title implies; a dash where not measured."""
    if value is None:
        return "–"
    if key.endswith("_mhz"):
        unit, scale = CLOCK.on_axes
        return f"{value * scale:.{2 if unit == 'GHz' else 0}f}"
    whole = key in ("errors", "blocks_checked", "wakeups_per_s") or (key.startswith("score") and value >= 100)
    return f"{value:,.0f}" if whole else f"{value:.1f}"
