"""The Compare view: chosen runs overlaid, their numbers against the baseline, and the finding in words."""

from collections.abc import Sequence
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QBrush, QColor, QResizeEvent, QShowEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QStackedWidget,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from upright_bolt.analysis.comparison.compare import Compared, compare
from upright_bolt.analysis.numbers import NUMBERS, Number, value_of
from upright_bolt.desktop.compare.charts import Overlay, WattPicture
from upright_bolt.desktop.compare.run_list import USUAL_FACTS, RunColumn
from upright_bolt.desktop.compare.run_report import RunReport
from upright_bolt.desktop.compare.sweep_page import SweepPage
from upright_bolt.desktop.step_queue import StepQueue
from upright_bolt.desktop.widgets.basic import Bounded, button, column, heading, label, rule
from upright_bolt.desktop.widgets.files_button import FilesButton
from upright_bolt.desktop.widgets.theme import Theme, font, run_colours
from upright_bolt.model.run import LETTERS, RunRecord, RunRole, RunState
from upright_bolt.model.workloads import Mode, workload
from upright_bolt.presentation.preferences import RunFact
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.text.comparison import change, interval_text, verdict_with_conditions
from upright_bolt.text.constraints import shares
from upright_bolt.text.faults import does_not_count, fault_words
from upright_bolt.text.search import search_label

KEYS = ("score", "score_settled", "clock_sustained_mhz", "power_sustained_w", "temp_max_c", "settled_per_watt")
OF_CHIP = ("score", "score_settled", "graphics_mhz", "graphics_w", "graphics_c", "frames_per_watt")
"""The same of runs on a graphics chip."""
LIST_W = 292
RUN_W, NUMBER_W, ERRORS_W, HELD_W = 140, 86, 86, 134
ROW_PX, HEAD_PX = 38, 56
MOST_TABLE, MOST_FINDING_PX, LEAST_FINDING_PX = 0.36, 96, 40
"""The table's largest part of the view's height, and how high the findings get before they scroll, or have to."""


class CompareView(QWidget):
    """Compares up to six runs; the first taken is the baseline."""

    def __init__(self, presenter: Presenter, theme: Theme, facts: Sequence[RunFact] = USUAL_FACTS) -> None:
        super().__init__()
        self._presenter = presenter
        self._theme = theme
        self._later, self._appearing = StepQueue(self), StepQueue(self)
        self.chosen: list[int] = []
        self._by_hand = False
        self.runs = RunColumn(theme, facts)
        self.runs.setFixedWidth(LIST_W)
        self.runs.list.toggled.connect(self.toggle)
        self.runs.list.removed.connect(presenter.runs.delete)
        self.runs.list.opened.connect(self.open_sheet)
        self.runs.filtered.connect(self._show_sweep)
        self.overlay = Overlay(theme)
        self.overlay.resized.connect(lambda: self._appear(*self._parts()))
        self.watts = WattPicture(theme)
        self.table = QTableWidget(0, 0)
        self._keys: tuple[str, ...] = ()
        self._dress_table()
        self._finding = label("", wraps=True)
        self._finding.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        right = QWidget()
        inner = column(right, margins=(12, 10, 14, 10), gap=6)
        inner.addLayout(self._head())
        overlaid = QWidget()
        pictures = QHBoxLayout(overlaid)
        pictures.setContentsMargins(0, 0, 0, 0)
        pictures.setSpacing(10)
        pictures.addWidget(self.overlay, 5)
        side = column(gap=4)
        side.addWidget(self.watts, 3)
        side.addWidget(
            label("Settled score over settled watts: higher and further left buys more.", "muted", wraps=True)
        )
        side.addStretch(1)
        pictures.addLayout(side, 2)
        self.sweep = SweepPage(presenter, theme)
        self.pages = QStackedWidget()
        self.pages.addWidget(overlaid)
        self.pages.addWidget(self.sweep)
        inner.addWidget(self.pages, 1)
        self._against = heading("Against the baseline")
        inner.addWidget(self._against)
        inner.addWidget(self.table)
        inner.addWidget(Bounded(self._finding, MOST_FINDING_PX, LEAST_FINDING_PX))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.runs)
        layout.addWidget(rule(upright=True))
        layout.addWidget(right, 1)
        presenter.runs.changed.connect(lambda _: self._runs_changed())

    def _head(self) -> QHBoxLayout:
        """Return the row that chooses the picture, and carries runs out and in."""
        row = QHBoxLayout()
        row.setSpacing(0)
        self.tabs = []
        for page, words in enumerate(("Overlaid from load start", "Any result over any control")):
            tab = button(words, "segment")
            tab.setCheckable(True)
            tab.setAutoExclusive(True)
            tab.setMinimumWidth(tab.sizeHint().width() + 18)  # the chosen one is bold
            tab.clicked.connect(lambda _checked, page=page: self.show_page(page))
            self.tabs.append(tab)
            row.addWidget(tab)
        self.tabs[0].setChecked(True)
        row.addStretch()
        self.files = FilesButton(self._presenter, lambda: self.chosen)
        row.addWidget(self.files)
        return row

    def showEvent(self, event: QShowEvent | None) -> None:
        """Appear bit by bit."""
        super().showEvent(event)
        self._appear(*self._parts())

    def _parts(self) -> list[QWidget]:
        """Return what takes long to paint."""
        return [self.runs, self.table, *self.overlay.parts(), self.watts]

    def _appear(self, *parts: QWidget) -> None:
        """Paint one part after another when all have to be: the view is shown, or has got another size."""
        for part in parts:
            part.setUpdatesEnabled(False)
        waiting = [part for part in self._parts() if not part.updatesEnabled()]
        self._appearing.begin([partial(part.setUpdatesEnabled, True) for part in waiting])  # noqa: FBT003 - Qt's own

    def show_page(self, page: int) -> None:
        """Show the overlaid runs (0) or the sweep (1)."""
        if page == 0:
            self._appear(*self.overlay.parts())
        self.pages.setCurrentIndex(page)
        self.tabs[page].setChecked(True)
        self._show_sweep()

    def _show_sweep(self) -> None:
        if self.pages.currentIndex() == 1:
            self.sweep.show_runs(self.runs.shown)

    def open_sheet(self, run_id: int) -> None:
        """Open one run by itself."""
        run = next((run for run in self._presenter.runs.all if run.id == run_id), None)
        if run is not None:
            sheet = RunReport(self._presenter.records, run, self)
            sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
            sheet.open()

    def _dress_table(self) -> None:
        table = self.table
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        table.setAccessibleName("Comparison")
        table.setShowGrid(False)
        table.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        table.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        down, across = table.verticalHeader(), table.horizontalHeader()
        if down is not None and across is not None:
            down.hide()
            down.setDefaultSectionSize(ROW_PX)
            across.setMinimumSectionSize(NUMBER_W)
            across.setDefaultAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._name_columns(KEYS)

    def _name_columns(self, keys: tuple[str, ...]) -> None:
        """Have a column for each of these numbers, beside those that are always there."""
        if keys == self._keys:
            return
        self._keys, table = keys, self.table
        titles = {number.key: number.title for number in NUMBERS}
        heads = ["Run", *(_in_two_lines(titles[key]) for key in keys), "Errors", "Held back by"]
        table.clear()
        table.setColumnCount(len(heads))
        table.setHorizontalHeaderLabels(heads)
        across = table.horizontalHeader()
        if across is None:
            return
        across.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        for place, width in ((0, RUN_W), (len(heads) - 2, ERRORS_W), (len(heads) - 1, HELD_W)):
            across.setSectionResizeMode(place, QHeaderView.ResizeMode.Fixed)
            table.setColumnWidth(place, width)
            item = table.horizontalHeaderItem(place)
            if item is not None:
                item.setTextAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)

    def toggle(self, run_id: int) -> None:
        """Take a run in, or out."""
        self._by_hand = True
        if run_id in self.chosen:
            self.chosen.remove(run_id)
        elif len(self.chosen) < len(LETTERS):
            self.chosen.append(run_id)
        self.show_chosen()

    def choose(self, run_ids: list[int]) -> None:
        """Compare just these runs; the first is the baseline."""
        self._by_hand = True
        self.chosen = run_ids[: len(LETTERS)]
        self.show_chosen()

    def show_search(self, number: int, run_ids: list[int]) -> None:
        """Show the runs of a search, as any result over the offset."""
        self.choose(run_ids)
        self.runs.filter.setText(search_label(number).lower())
        self.sweep.want("full_mhz")
        self.show_page(1)

    def _runs_changed(self) -> None:
        known = {run.id for run in self._presenter.runs.all}
        self.chosen = [run_id for run_id in self.chosen if run_id in known]
        if not self.chosen or not self._by_hand:
            self._by_hand = False
            self.chosen = self._usual()
        self.show_chosen()

    def _usual(self) -> list[int]:
        """Return this machine's newest run, after the baseline if that is of the same work."""
        presenter = self._presenter
        here = [run for run in presenter.runs.all if run.head.machine == presenter.outline.spec]
        finished = [
            run
            for run in here
            if run.end.state is RunState.FINISHED and run.head.role not in (RunRole.WARM_UP, RunRole.RUNG)
        ]
        if not finished:
            return []
        alike = [run.id for run in finished if run.head.workload == finished[0].head.workload]
        baseline = presenter.runs.baseline_id
        if baseline not in alike:
            return alike[:1]
        return [baseline, *[run_id for run_id in alike if run_id != baseline][:1]]

    def show_chosen(self) -> None:
        """Draw everything anew for the chosen runs."""
        presenter = self._presenter
        by_id = {run.id: run for run in presenter.runs.all}
        runs = [by_id[run_id] for run_id in self.chosen if run_id in by_id]
        self.runs.show_runs(presenter.runs.all, self.chosen)
        self._show_sweep()
        self._fill_table(runs)
        alike = {(run.head.machine, run.head.workload) for run in runs}
        like = [r for r in presenter.runs.all if (r.head.machine, r.head.workload) in alike]
        self._later.begin([partial(self.watts.show_runs, like, runs)])
        ids = [run.id for run in runs]

        def draw(telemetry: object) -> None:
            if isinstance(telemetry, dict) and ids == self.chosen:
                self.overlay.show_runs(runs, telemetry)

        presenter.runs.telemetry(ids, draw)

    def _fill_table(self, runs: list[RunRecord]) -> None:
        table = self.table
        self._name_columns(_keys_of(runs))
        table.setRowCount(len(runs))
        rows = compare(runs, runs[0], self._presenter.runs.all) if runs else []
        for i, row in enumerate(rows):
            self._fill_row(i, row, is_base=i == 0)
        self._fit_table()
        self.overlay.bands.make_room(len(runs))
        self._against.setText(f"AGAINST {LETTERS[0]}, {runs[0].name.upper()}" if runs else "NO RUN IS CHOSEN")
        sentences = []
        for i, row in enumerate(rows[1:], start=1):
            sentences.append(f"{LETTERS[i]}: {verdict_with_conditions(row, runs[0])}")
        hint = "Take in a second run to compare it." if len(runs) == 1 else ""
        self._finding.setText("\n".join(sentences) or hint)

    def _fit_table(self) -> None:
        """Give the table the height of its rows, as far as the pictures keep theirs."""
        rows = ROW_PX * max(1, self.table.rowCount()) + HEAD_PX
        bar = self.table.horizontalScrollBar()
        if bar is not None and self.width() - LIST_W < RUN_W + len(self._keys) * NUMBER_W + ERRORS_W + HELD_W:
            rows += bar.sizeHint().height()
        height = min(rows, max(2 * ROW_PX + HEAD_PX, round(MOST_TABLE * self.height())))
        self.table.setFixedHeight(height)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Share the height out anew."""
        super().resizeEvent(event)
        self._fit_table()

    def _fill_row(self, index: int, row: Compared, *, is_base: bool) -> None:
        numbers = {number.key: number for number in NUMBERS}
        times = f" × {row.repeats}" if row.repeats > 1 else ""
        name = QTableWidgetItem(f"{LETTERS[index]}   {row.run.name}{times}")
        name.setForeground(QBrush(QColor(run_colours(self._theme)[index])))
        name.setFont(font(9.0, bold=True))
        self.table.setItem(index, 0, name)
        for j, key in enumerate(self._keys, start=1):
            number = numbers[key]
            value = number.quantity.show(row.values[key]).replace(" units/min", "").replace(" frames/min", "")
            spread = row.spread.get(key)
            second = ["" if spread is None else f"±{spread:.1f}", "" if is_base else change(row, number)]
            item = QTableWidgetItem(f"{value}\n{'  '.join(part for part in second if part)}".rstrip())
            face = font(8.5)
            face.setStrikeOut(does_not_count(row.run, number) and row.values[key] is not None)
            item.setFont(face)
            item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            item.setForeground(QBrush(QColor(self._theme.of(number.quantity.name))))
            item.setToolTip(_explained(row, number))
            self.table.setItem(index, j, item)
        name.setToolTip(row.run.name)
        wrong = fault_words(row.run)
        self.table.setItem(
            index, len(self._keys) + 1, QTableWidgetItem(f"✕ {wrong.replace(' ', chr(10), 1)}" if wrong else "0")
        )
        words = "\n".join(shares(row.run.end.numbers)[:2])
        self.table.setItem(index, len(self._keys) + 2, QTableWidgetItem(words))


def _keys_of(runs: list[RunRecord]) -> tuple[str, ...]:
    """Return the numbers that are compared: where a graphics chip worked, its own; the processor's where that did."""
    if not any(value_of(run, "graphics_mhz") is not None for run in runs):
        return KEYS
    alone = all(workload(run.head.workload).mode is Mode.GPU for run in runs)
    return OF_CHIP if alone else (*KEYS[:2], "processor_score", *KEYS[2:5], *OF_CHIP[2:])


def _explained(row: Compared, number: Number) -> str:
    """Return what a cell's numbers mean."""
    key = number.key
    over = f"{row.repeats} runs" if row.repeats > 1 else "slices of ten seconds"
    unit = "%" if number.ratio else number.quantity.unit
    said = [f"± {row.spread[key]:.1f} {unit}: standard deviation over {over}"] if key in row.spread else []
    interval = interval_text(row.difference.get(key), number)
    return "\n".join([*said, *([f"Change: {interval}"] if interval else [])])


def _in_two_lines(title: str) -> str:
    first, comma, second = title.replace("Score per watt", "Per watt").partition(", ")
    if not comma:
        first, _, second = title.partition(" ")
    return f"{first}\n{second}"
