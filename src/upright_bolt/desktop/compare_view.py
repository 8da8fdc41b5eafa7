"""The Compare view: chosen runs overlaid, their numbers against the baseline, and the finding in words."""

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QBrush, QColor
from PyQt6.QtWidgets import QAbstractItemView, QHBoxLayout, QHeaderView, QTableWidget, QTableWidgetItem, QWidget

from upright_bolt.analysis.compare import Compared, compare, finding, interval_text
from upright_bolt.analysis.numbers import NUMBERS
from upright_bolt.desktop.compare_charts import Overlay, WattPicture
from upright_bolt.desktop.pieces import column, heading, label, rule
from upright_bolt.desktop.presenter import Presenter
from upright_bolt.desktop.run_list import RunColumn
from upright_bolt.desktop.theme import Theme, font, run_colours
from upright_bolt.model.run import LETTERS, RunRecord, RunState

KEYS = ("score", "clock_burst_mhz", "clock_sustained_mhz", "power_sustained_w", "temp_max_c", "temp_sustained_c",
        "score_per_watt")  # fmt: skip
LIST_W = 292


class CompareView(QWidget):
    """Compares up to six runs; the first taken is the baseline."""

    def __init__(self, presenter: Presenter, theme: Theme) -> None:
        super().__init__()
        self._presenter = presenter
        self._theme = theme
        self.chosen: list[int] = []
        self.runs = RunColumn(theme)
        self.runs.setFixedWidth(LIST_W)
        self.runs.list.toggled.connect(self.toggle)
        self.runs.list.removed.connect(presenter.delete_run)
        self.overlay = Overlay(theme)
        self.watts = WattPicture(theme)
        self.table = QTableWidget(0, len(KEYS) + 2)
        self._dress_table()
        self._finding = label("", wraps=True)
        self._finding.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        right = QWidget()
        inner = column(right, margins=(12, 10, 14, 10), gap=6)
        inner.addWidget(heading("Overlaid from load start, and what a watt buys"))
        pictures = QHBoxLayout()
        pictures.setSpacing(10)
        pictures.addWidget(self.overlay, 5)
        side = column(gap=4)
        side.addWidget(self.watts, 3)
        side.addWidget(
            label("Score per minute over settled watts: higher and further left buys more.", "muted", wraps=True)
        )
        side.addStretch(1)
        pictures.addLayout(side, 2)
        inner.addLayout(pictures, 1)
        self._against = heading("Against the baseline")
        inner.addWidget(self._against)
        inner.addWidget(self.table)
        inner.addWidget(self._finding)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.runs)
        layout.addWidget(rule(upright=True))
        layout.addWidget(right, 1)
        presenter.on_runs(self._runs_changed)

    def _dress_table(self) -> None:
        titles = {number.key: number.title for number in NUMBERS}
        heads = ["Run", *(_in_two_lines(titles[key]) for key in KEYS), "Held back by"]
        table = self.table
        table.setHorizontalHeaderLabels(heads)
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        table.setAccessibleName("Comparison")
        table.setShowGrid(False)
        table.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        table.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        down, across = table.verticalHeader(), table.horizontalHeader()
        if down is not None and across is not None:
            down.hide()
            down.setDefaultSectionSize(38)
            across.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
            across.setSectionResizeMode(0, QHeaderView.ResizeMode.Fixed)
            across.setSectionResizeMode(len(heads) - 1, QHeaderView.ResizeMode.Fixed)
            table.setColumnWidth(0, 178)
            table.setColumnWidth(len(heads) - 1, 140)
            across.setDefaultAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            for i in (0, len(heads) - 1):
                item = table.horizontalHeaderItem(i)
                if item is not None:
                    item.setTextAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)

    def toggle(self, run_id: int) -> None:
        """Take a run in, or out."""
        if run_id in self.chosen:
            self.chosen.remove(run_id)
        elif len(self.chosen) < len(LETTERS):
            self.chosen.append(run_id)
        self.show_chosen()

    def choose(self, run_ids: list[int]) -> None:
        """Compare just these runs; the first is the baseline."""
        self.chosen = run_ids[: len(LETTERS)]
        self.show_chosen()

    def _runs_changed(self) -> None:
        known = {run.id for run in self._presenter.runs}
        self.chosen = [run_id for run_id in self.chosen if run_id in known]
        if not self.chosen:
            finished = [run for run in self._presenter.runs if run.end.state is RunState.FINISHED]
            baseline = self._presenter.baseline_id
            newest = [run.id for run in finished if run.id != baseline][:1]
            self.chosen = ([baseline] if baseline is not None else []) + newest
        self.show_chosen()

    def show_chosen(self) -> None:
        """Draw everything anew for the chosen runs."""
        presenter = self._presenter
        by_id = {run.id: run for run in presenter.runs}
        runs = [by_id[run_id] for run_id in self.chosen if run_id in by_id]
        self.runs.show_runs(presenter.runs, self.chosen)
        self._fill_table(runs)
        machines = {run.head.machine for run in runs}
        self.watts.show_runs([run for run in presenter.runs if run.head.machine in machines], runs)
        ids = [run.id for run in runs]

        def draw(telemetry: object) -> None:
            if isinstance(telemetry, dict) and ids == self.chosen:
                self.overlay.show_runs(runs, telemetry)

        presenter.telemetry(ids, draw)

    def _fill_table(self, runs: list[RunRecord]) -> None:
        table = self.table
        table.setRowCount(len(runs))
        rows = compare(runs, runs[0], self._presenter.runs) if runs else []
        for i, row in enumerate(rows):
            self._fill_row(i, row, is_base=i == 0)
        height = 38 * max(1, len(runs)) + 48
        table.setFixedHeight(height)
        self._against.setText(f"AGAINST {LETTERS[0]}, {runs[0].name.upper()}" if runs else "NO RUN IS CHOSEN")
        sentences = []
        for i, row in enumerate(rows[1:], start=1):
            unlike = " ".join(row.unlike)
            sentences.append(f"{LETTERS[i]}: {finding(row, runs[0])}" + (f" Unlike: {unlike}" if unlike else ""))
        hint = "Take in a second run to compare it." if len(runs) == 1 else ""
        self._finding.setText("\n".join(sentences) or hint)

    def _fill_row(self, place: int, row: Compared, *, is_base: bool) -> None:
        numbers = {number.key: number for number in NUMBERS}
        times = f" × {row.repeats}" if row.repeats > 1 else ""
        name = QTableWidgetItem(f"{LETTERS[place]}   {row.run.name}{times}")
        name.setForeground(QBrush(QColor(run_colours(self._theme)[place])))
        name.setFont(font(9.0, bold=True))
        self.table.setItem(place, 0, name)
        for j, key in enumerate(KEYS, start=1):
            number = numbers[key]
            value = number.quantity.show(row.values[key]).replace(" units/min", "")
            change = "" if is_base else row.change(number)
            item = QTableWidgetItem(f"{value}\n{change}" if change else value)
            item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            item.setForeground(QBrush(QColor(self._theme.of(number.quantity.name))))
            item.setToolTip(interval_text(row.difference.get(key)))
            self.table.setItem(place, j, item)
        name.setToolTip(row.run.name)
        shares = row.run.end.numbers.constraint_share
        words = "\n".join(f"{word} {share:.0%}" for word, share in list(shares.items())[:2] if share >= 0.005)
        self.table.setItem(place, len(KEYS) + 1, QTableWidgetItem(words))


def _in_two_lines(title: str) -> str:
    first, _, second = title.replace(", ", " ").partition(" ")
    return f"{first}\n{second}"
