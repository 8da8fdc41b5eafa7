"""Every sensor with its number of the moment, in columns by quantity."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QLabel, QWidget

from upright_bolt.desktop.pieces import label
from upright_bolt.presentation.presenter import Presenter

COLUMNS = 3


class Readings(QWidget):
    """The table of sensors, filled column by column."""

    def __init__(self, presenter: Presenter) -> None:
        super().__init__()
        self._presenter = presenter
        self._values: list[QLabel] = []
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(3)
        sensors = presenter.outline.sensors
        rows = -(-len(sensors) // COLUMNS)
        for i, sensor in enumerate(sensors):
            value = label("", "strong")
            value.setMinimumWidth(86)
            self._values.append(value)
            row, column = i % rows, 3 * (i // rows)
            grid.addWidget(label(sensor.title, "muted"), row, column)
            grid.addWidget(value, row, column + 1, Qt.AlignmentFlag.AlignRight)
        for column in range(COLUMNS):
            grid.setColumnStretch(3 * column + 2, 1)

    def show_state(self) -> None:
        """Show the newest sample, if this is in sight."""
        sample = self._presenter.sample
        if sample is None or not self.isVisible():
            return
        for words, sensor, value in zip(self._values, self._presenter.outline.sensors, sample.values, strict=True):
            words.setText(sensor.quantity.show(value))
