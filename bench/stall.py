"""How long the window's event loop is blocked at worst."""

import sys
import time
from pathlib import Path

from PyQt6.QtCore import QEventLoop, Qt, QTimer

from upright_bolt.app import open_session
from upright_bolt.desktop.app import DesktopApp
from upright_bolt.desktop.widgets import theme
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.sample import Sample

BEAT_MS = 2
DAY_S = 24 * 3600.0
LIVE_S = 25.0


class Heart:
    """Beats as often as the event loop lets it, and keeps every pause, and how much of it its thread computed."""

    def __init__(self) -> None:
        self.pauses: list[float] = []
        self.computed: list[float] = []
        self._last = time.perf_counter()
        self._last_computed = time.thread_time()
        self._timer = QTimer()
        self._timer.setTimerType(Qt.TimerType.PreciseTimer)
        self._timer.timeout.connect(self._beat)
        self._timer.start(BEAT_MS)

    def _beat(self) -> None:
        now = time.perf_counter()
        self.pauses.append((now - self._last) * 1000 - BEAT_MS)
        self._last = now
        computed = time.thread_time()
        self.computed.append((computed - self._last_computed) * 1000)
        self._last_computed = computed

    def restart(self) -> None:
        """Forget what was."""
        self.pauses, self.computed = [], []
        self._last = time.perf_counter()
        self._last_computed = time.thread_time()


def _wait(seconds: float) -> None:
    loop = QEventLoop()
    QTimer.singleShot(round(seconds * 1000), loop.quit)
    loop.exec()


def worst_stall_ms(folder: Path) -> tuple[float, str]:
    """Return the longest pause and a sentence."""
    app = DesktopApp(open_session("twin:tern", folder, "bench", exclusive=True), folder, theme.LIGHT)
    window, presenter = app.window, app.presenter
    window.show()
    _wait(2.0)
    _load_a_day(app)
    heart = Heart()
    _wait(1.0)
    heart.restart()
    presenter.start_run("steady", "10min", "bench")
    window.workbench.run.form.pace.setCurrentIndex(1)
    _wait(LIVE_S)
    worst = max(heart.pauses)
    beats = sorted(heart.pauses)
    usual = beats[int(len(beats) * 0.999)]
    window.close()
    app.tear_down()
    return worst, f"Workbench for {LIVE_S:.0f} s at ten times life; 99.9 % of beats below {usual:.1f} ms"


def _load_a_day(app: DesktopApp) -> None:
    presenter = app.presenter
    last = presenter.sample
    if last is None:
        return
    history = presenter.history
    history.__init__(presenter.outline.sensors)  # the day comes before what was sampled
    count = int(DAY_S / 0.5)
    start = last.time_s - DAY_S
    day = [Sample(start + i * 0.5, last.values, Constraint.NO_WORK) for i in range(count)]
    history.add(day, [])


if __name__ == "__main__":
    milliseconds, words = worst_stall_ms(Path(sys.argv[1]))
    print(milliseconds, words)
