"""The button that carries runs out of Compare and into it."""

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QMenu, QPushButton

from upright_bolt.presentation.presenter import Presenter

WAYS = (
    ("report", "Report of the comparison …", "report.html", "Pages (*.html)"),
    ("table", "Table of the comparison …", "comparison.csv", "Tables (*.csv)"),
    ("list", "Table of all runs …", "runs.csv", "Tables (*.csv)"),
    ("telemetry", "Telemetry of the first run …", "telemetry.csv", "Tables (*.csv)"),
    ("json", "Everything of these runs, to be imported …", "runs.json", "Runs (*.json)"),
)


class FilesButton(QPushButton):
    """A button with a menu.

    Args:
        presenter: has the runs.
        chosen: returns the ids of the runs that are compared, the baseline first.
    """

    def __init__(self, presenter: Presenter, chosen: Callable[[], list[int]]) -> None:
        super().__init__("Files")
        self._presenter = presenter
        self._chosen = chosen
        self._menu = QMenu(self)
        for kind, words, name, pattern in WAYS:
            action = self._menu.addAction(words)
            if action is not None:
                action.triggered.connect(
                    lambda _checked, kind=kind, name=name, pattern=pattern: self._ask(kind, name, pattern)
                )
        self._menu.addSeparator()
        action = self._menu.addAction("Take in runs from a file …")
        if action is not None:
            action.triggered.connect(lambda _checked: self._ask_in())
        self.setMenu(self._menu)

    def write(self, kind: str, path: Path) -> None:
        """Write the compared runs to a file."""
        by_id = {run.id: run for run in self._presenter.runs.all}
        runs = [by_id[run_id] for run_id in self._chosen() if run_id in by_id]
        if runs:
            self._presenter.records.export(kind, runs, self._presenter.runs.all, path)

    def _ask(self, kind: str, name: str, pattern: str) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Write to", name, pattern)
        if path:
            self.write(kind, Path(path))

    def _ask_in(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Take in runs", "", "Runs (*.json);;All files (*)")
        if path:
            self._presenter.records.bring_in(Path(path))
