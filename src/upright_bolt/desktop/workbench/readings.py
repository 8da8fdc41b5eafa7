"""Every sensor with its number of the moment: the whole machine in groups, cores and processors as tables."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QWidget

from upright_bolt.desktop.widgets.basic import column, label
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.presentation.reading_groups import ReadingGroup, ReadingTable, groups_of, tables_of

COLUMNS = 3
GAP = 28
VALUE_W = 74
RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


class Readings(QWidget):
    """Groups in columns of about one height, the tables below them.

    Attributes:
        values: the number of each sensor, by its index.
    """

    def __init__(self, presenter: Presenter) -> None:
        super().__init__()
        self._presenter = presenter
        self.values: dict[int, QLabel] = {}
        layout = column(self, gap=14)
        sensors = presenter.outline.sensors
        across = QHBoxLayout()
        across.setSpacing(GAP)
        for groups in _balanced(groups_of(sensors)):
            down = column(gap=10)
            for group in groups:
                down.addLayout(self._group(group))
            down.addStretch()
            across.addLayout(down, 1)
        layout.addLayout(across)
        tables = QHBoxLayout()
        tables.setSpacing(GAP)
        for table in tables_of(sensors):
            tables.addLayout(self._table(table))
        tables.addStretch()
        layout.addLayout(tables)

    def _group(self, group: ReadingGroup) -> QGridLayout:
        grid = _grid()
        grid.setColumnStretch(0, 1)
        grid.addWidget(label(group.title, "strong"), 0, 0, 1, 2)
        for row, index in enumerate(group.sensors, start=1):
            grid.addWidget(label(self._presenter.outline.sensors[index].title, "muted", wraps=True), row, 0)
            grid.addWidget(self._value(index), row, 1, RIGHT)
        return grid

    def _table(self, table: ReadingTable) -> QGridLayout:
        grid = _grid()
        for place, head in enumerate(table.heads):
            words = label(head, "muted" if place else "strong")
            grid.addWidget(words, 0, place, RIGHT if place else Qt.AlignmentFlag.AlignLeft)
        for row, (number, indices) in enumerate(table.rows, start=1):
            grid.addWidget(label(number, "muted"), row, 0)
            for place, index in enumerate(indices, start=1):
                if index is not None:
                    grid.addWidget(self._value(index), row, place, RIGHT)
        grid.setRowStretch(len(table.rows) + 1, 1)
        return grid

    def _value(self, index: int) -> QLabel:
        value = label("")
        value.setMinimumWidth(VALUE_W)
        value.setAlignment(RIGHT)
        self.values[index] = value
        return value

    def show_state(self) -> None:
        """Show the newest sample, if this is in sight."""
        sample = self._presenter.sample
        if sample is None or not self.isVisible():
            return
        sensors = self._presenter.outline.sensors
        for index, value in self.values.items():
            value.setText(sensors[index].quantity.show(sample.values[index]))


def _grid() -> QGridLayout:
    grid = QGridLayout()
    grid.setHorizontalSpacing(10)
    grid.setVerticalSpacing(3)
    return grid


def _balanced(groups: list[ReadingGroup]) -> list[list[ReadingGroup]]:
    """Return the groups in their order, each put into the column that is the shortest so far."""
    columns: list[list[ReadingGroup]] = [[] for _ in range(COLUMNS)]
    heights = [0] * COLUMNS
    for group in groups:
        place = heights.index(min(heights))
        columns[place].append(group)
        heights[place] += len(group.sensors) + 2
    return columns
