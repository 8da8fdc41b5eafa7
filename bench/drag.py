"""What one step of a drag costs: Python calls from the mouse event to the painted strip."""

import sys
from pathlib import Path

from upright_bolt.app import open_session


def drag_calls(folder: Path) -> tuple[float, str]:
    """Return the Python calls of one drag step on tern's sustained limit, painting included."""
    from PyQt6.QtCore import QEvent, QPointF, Qt
    from PyQt6.QtGui import QMouseEvent
    from PyQt6.QtWidgets import QApplication

    from upright_bolt.desktop.app import DesktopApp
    from window_support import QTest

    app = DesktopApp(open_session("twin:tern", folder, "bench", exclusive=True), folder)
    app.window.show()
    QTest.qWait(1000)
    app.thread.close()  # nothing else may run while calls are counted
    QTest.qWait(200)
    strip = app.window.workbench.settings.rows["sustained"].strip
    told: list[object] = []
    for topic in (app.presenter.live, app.presenter.settings_changed, app.presenter.runs.changed, app.presenter.said):
        topic.connect(told.append)
    calls = 0

    def count(_frame: object, event: str, _arg: object) -> None:
        nonlocal calls
        calls += event == "call"

    for x in (60.0, 75.0):  # the first step makes the draft, the second moves it
        at = QPointF(x, 15.0)
        event = QMouseEvent(
            QEvent.Type.MouseMove, at, strip.mapToGlobal(at), Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
        )  # fmt: skip
        calls = 0
        sys.setprofile(count)
        QApplication.sendEvent(strip, event)
        QApplication.processEvents()
        sys.setprofile(None)
    app.window.close()
    app.tear_down()
    return float(calls), f"one topic announced, {len(told)} others"
