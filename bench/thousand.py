"""Compare with a thousand runs of ten minutes: the event loop's time for opening and switching, and its worst pause."""

import json
import sys
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from bench.stall import Heart, _wait
from upright_bolt.app import open_session
from upright_bolt.desktop.app import DesktopApp
from upright_bolt.desktop.widgets import theme
from upright_bolt.model.run import RunRecord
from upright_bolt.model.work import Work
from upright_bolt.session.session import SAMPLE_S
from upright_bolt.session.starting import start_run
from upright_bolt.store.runs import RunStore

RUNS = 1000
LENGTH_S = 600.0
SWITCHES = 12
PATIENCE_S = 60.0


def fill(folder: Path) -> None:
    """Make one run of ten minutes on tern, and keep it a thousand times over, each time with other numbers."""
    session = open_session("twin:tern", folder, "bench", exclusive=True)
    store = RunStore(folder / "runs.sqlite")
    clock = session.machine.clock
    run = start_run(session, Work("steady", LENGTH_S), "seed", store)
    while session.end_run() is None:
        session.tick()
        clock.wait_until(clock.now_s() + SAMPLE_S)
    record, events = store.get(run.id), store.events(run.id)
    times, columns = store.telemetry(run.id)
    table = [[float(t), *(float(column[i]) for column in columns.values())] for i, t in enumerate(times)]
    store.take_in((_other(record, i), table, events) for i in range(RUNS - 1))
    store.close()
    session.close()


def _other(record: RunRecord, i: int) -> RunRecord:
    watts = 10.0 + i % 40
    settings = {**record.head.settings, "sustained": watts, "burst": watts + 5 * (i % 3)}
    head = replace(record.head, label=f"run at {watts:.0f} W, {i}", settings=settings, key=f"{i:032x}")
    return replace(record, head=head, end=replace(record.end, score=(record.end.score or 0.0) * (0.6 + watts / 60.0)))


def measure(folder: Path) -> dict[str, float]:
    """Return times in ms.

    ``opened`` and ``switched``: what the event loop's thread computed for opening Compare, and for the slowest switch.
    ``worst``: its longest pause; ``computed``: the most that it computed in one go.
    """
    fill(folder)
    app = DesktopApp(open_session("twin:tern", folder, "bench", exclusive=True), folder, theme.LIGHT)
    window = app.window
    window.show()
    _until(lambda: len(app.presenter.runs.all) == RUNS)
    _wait(3.0)
    compare = window.compare
    heart = Heart()
    _wait(0.5)
    heart.restart()
    opened = _busy_ms(lambda: window.show_view("compare"), lambda: len(compare.overlay.shown()) > 0)
    switched = []
    for i in range(SWITCHES):
        ids = [1 + i, 500 - i, 900 + i]
        switched.append(_busy_ms(lambda ids=ids: compare.choose(ids), lambda ids=ids: compare.overlay.drawn == ids))
    switched.append(_busy_ms(lambda: compare.show_page(1), lambda: len(compare.sweep.chart.lines) > 0))
    switched.append(_busy_ms(lambda: compare.runs.filter.setText("at 25 W"), lambda: len(compare.runs.shown) < RUNS))
    found = {
        "opened": opened, "switched": max(switched), "worst": max(heart.pauses), "computed": max(heart.computed)
    }  # fmt: skip
    window.close()
    app.tear_down()
    return found


def _busy_ms(act: Callable[[], None], done: Callable[[], bool]) -> float:
    """Do something and return the time that the event loop's thread computed until it was done and drawn."""
    begun = time.thread_time()
    act()
    _until(done)
    _wait(0.3)
    return (time.thread_time() - begun) * 1000.0


def _until(condition: Callable[[], bool]) -> None:
    patience = time.monotonic() + PATIENCE_S
    while not condition():
        if time.monotonic() > patience:
            raise TimeoutError("Compare did not show what it was asked for.")
        _wait(0.02)


if __name__ == "__main__":
    print(json.dumps(measure(Path(sys.argv[1]))))
