"""The full example, played through the real window: from a stock laptop to a compared result.

Used where there is no display, and for the pictures in the documentation. Everything goes through the widgets a
person would use: numbers are typed, buttons are clicked.
"""

import time
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QEventLoop, Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QPushButton

from upright_bolt.analysis.comparison.sweep import SHARED
from upright_bolt.desktop.app import DesktopApp
from upright_bolt.desktop.widgets import theme
from upright_bolt.desktop.window import SIZE
from upright_bolt.errors import BoltError
from upright_bolt.session.session import Session
from upright_bolt.signal_handling import ending_signals, handled

PACE, SLOWER, AS_IN_LIFE = "300 × faster", "60 × faster", "as in life"
SETTLE_S = 330.0
PATIENCE_S = 300.0


class Walkthrough:
    """Plays on one app and saves pictures.

    Args:
        session: holds a twin.
        data: the data folder.
        pictures: where pictures go; made if missing.
        tell: called with what is being done.
    """

    def __init__(self, session: Session, data: Path, pictures: Path, tell: Callable[[str], None]) -> None:
        self._pictures = pictures
        self._tell = tell
        self._told_to_end = False
        pictures.mkdir(parents=True, exist_ok=True)
        self.app = DesktopApp(session, data, theme.LIGHT)
        self.window = self.app.window
        self.presenter = self.app.presenter
        self.window.resize(*SIZE)
        self.window.show()

    def play(self) -> tuple[int, int]:
        """Play it and return the ids of the two runs.

        Raises:
            KeyboardInterrupt: told to end by a signal; raised here, since Qt goes on after one in a slot.
        """
        try:
            with handled(self._end_soon, ending_signals()):
                return self._play()
        finally:
            self.window.close()
            self.app.tear_down()

    def _end_soon(self, *_: object) -> None:
        self._told_to_end = True

    def _play(self) -> tuple[int, int]:
        self._tell("Looking at the machine at rest.")
        self._pass_time(SETTLE_S)
        self.window.show_view("machine")
        self._pause()
        self.picture("machine")
        self.window.show_view("workbench")
        self._tell("A ten-minute run of all cores at stock.")
        stock = self.run("10 min", "Stock, at the quay")
        self._pass_time(SETTLE_S)
        self._tell("Drafting sustained limit 25 W, burst 25 W, preference 96, and trying it.")
        for name, text in (("sustained", "25 W"), ("burst", "25 W"), ("epp", "96")):
            self.type_value(name, text)
        self.picture("workbench-draft")
        self._click(self.window.workbench.settings.try_button)
        self._until(lambda: self.presenter.status.trial is not None, "the trial to run")
        self._tell("The same run during the trial.")
        self._set_pace(SLOWER)  # a computer that is kept busy must not miss the middle of the run
        self._begin("10 min", "25 W flat, EPP 96")
        self._until(self._is_well_under_way, "the run to go on")
        self.picture("workbench")
        self._set_pace(PACE)
        tried = self._end()
        self.picture("workbench-result")
        self._tell("Comparing both.")
        self.window.workbench.run.open.click()
        self._pause()
        self.picture("compare")
        self._tell("Every step of the offsets, side by side.")
        compare = self.window.compare
        compare.show_page(1)
        self._until(lambda: compare.sweep.control.findData("core-offset") >= 0, "the sweep")
        compare.sweep.control.setCurrentIndex(compare.sweep.control.findData("core-offset"))
        self._until(lambda: any(len(line.points) > 5 for line in compare.sweep.chart.lines), "the steps")
        self.picture("compare-sweep")
        self._show_heat()
        self.window.show_view("edge")
        self._until(lambda: self.presenter.searches.shown is not None, "the search")
        self.picture("edge")
        self._click(self.window.strip.keep)
        self._until(lambda: self.presenter.status.trial is None, "the trial to be kept")
        self._tell(self.presenter.outcome)
        self._show_profiles()
        return stock, tried

    def _show_heat(self) -> None:
        """Show who gets the heat when processor and graphics chip work at once."""
        sweep = self.window.compare.sweep
        if sweep.result.findData(SHARED) < 0:
            return
        self._tell("Frames and processor score over the processor's limit: who gets the heat.")
        sweep.result.setCurrentIndex(sweep.result.findData(SHARED))
        sweep.control.setCurrentIndex(sweep.control.findData("sustained"))
        self._until(lambda: len(sweep.chart.lines) > 1, "the picture of the heat")
        self.picture("compare-heat")

    def _show_profiles(self) -> None:
        """Use a profile, pull the plug, and see the rules choose another one."""
        profiles = self.presenter.profiles
        if not profiles.status.profiles:
            return
        self._tell("Using the profile quay, then pulling the plug.")
        self.window.show_view("profiles")
        self._until(lambda: "quay" in self.window.profiles.table.use, "the profiles")
        profiles.use("quay")
        self._until(lambda: profiles.status.active == "quay", "quay in force")
        self._until(lambda: self.presenter.on_charger is True, "the power source")
        self.presenter.plug()
        self._until(lambda: profiles.status.active == "at sea", "at sea in force")
        self._pass_time(5.0)
        profiles.refresh()
        self._pause()
        self.picture("profiles")
        self.presenter.plug()
        self._until(lambda: profiles.status.active == "quay", "quay in force again")

    def _is_well_under_way(self) -> bool:
        """Tell whether the run is past its first minutes; or over, where this computer did not let anybody look."""
        progress = self.presenter.progress
        return self.presenter.runs.last is not None or (progress is not None and progress.elapsed_s > 250)

    def run(self, length: str, name: str) -> int:
        """Run through the run column and return the run's id."""
        self._begin(length, name)
        return self._end()

    def _begin(self, length: str, name: str) -> None:
        panel = self.window.workbench.run
        panel.form.length.setEditText(length)
        panel.form.label.setText(name)
        self.presenter.runs.last = None
        self._click(panel.start)

    def _end(self) -> int:
        self._until(lambda: self.presenter.runs.last is not None and self.presenter.progress is None, "the run to end")
        self._set_pace(AS_IN_LIFE)  # or its end is out of sight before one looks
        self._pause()
        run = self.presenter.runs.last
        if run is None:
            raise BoltError("The run did not end.")
        return run.id

    def type_value(self, name: str, text: str) -> None:
        """Type a value into a control's entry. Raises BoltError if it has none."""
        entry = self.window.workbench.settings.rows[name].entry
        if entry is None:
            raise BoltError(f"{name} has no number entry.")
        entry.setFocus()
        entry.selectAll()
        QTest.keyClicks(entry, text)  # type: ignore[call-arg, arg-type]  # PyQt's stubs take these for methods
        QTest.keyClick(entry, Qt.Key.Key_Return)  # type: ignore[call-overload]  # same

    def _click(self, target: QPushButton) -> None:
        QTest.mouseClick(target, Qt.MouseButton.LeftButton)  # type: ignore[call-overload]  # same

    def picture(self, name: str) -> None:
        """Save what the window shows. Raises BoltError if it cannot be saved."""
        self._pause(0.2)
        path = self._pictures / f"{name}.png"
        if not self.window.grab().save(str(path)):
            raise BoltError(f"The picture {path} could not be saved.")

    def _set_pace(self, words: str) -> None:
        self.window.workbench.run.form.pace.setCurrentText(words)

    def _pass_time(self, seconds: float) -> None:
        """Let the machine's own time pass."""
        self._set_pace(PACE)
        self._until(lambda: len(self.presenter.history) > 0, "the first sample")
        due = float(self.presenter.history.column("time")[-1]) + seconds
        self._until(lambda: float(self.presenter.history.column("time")[-1]) >= due, "time to pass")

    def _pause(self, seconds: float = 0.5) -> None:
        loop = QEventLoop()
        QTimer.singleShot(round(seconds * 1000), loop.quit)
        loop.exec()
        if self._told_to_end:
            raise KeyboardInterrupt

    def _until(self, condition: Callable[[], bool], what: str) -> None:
        patience = time.monotonic() + PATIENCE_S
        while not condition():
            if time.monotonic() > patience:
                raise BoltError(f"Waited in vain for {what}. {self.presenter.outcome}")
            self._pause(0.03)
