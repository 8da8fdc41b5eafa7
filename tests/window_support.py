"""The real window, offscreen, opened on a machine, and what a person does with it."""

from typing import Any

import pytest
from PyQt6 import QtTest, sip
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtWidgets import QLabel

import waiting
from upright_bolt.app import open_session
from upright_bolt.desktop.app import DesktopApp, application
from upright_bolt.desktop.widgets import theme
from upright_bolt.model.start import Start

QTest: Any = QtTest.QTest  # the types that come with it take its functions for methods of an instance
FAST = 3  # index in the list of a twin's paces: 300 times as fast as life


@pytest.fixture(scope="session")
def qapp_kept():
    return application()


@pytest.fixture
def open_app(data, qapp_kept):
    """Open a window on a machine; closed in the end."""
    made = []

    def make(machine="twin:tern", looks=theme.LIGHT) -> DesktopApp:
        def opener(word):
            return open_session(word, data, "the window", exclusive=True)

        app = DesktopApp(opener(machine), data, looks, opener)
        app.window.show()
        made.append(app)
        until(lambda: app.presenter.sample is not None)
        return app

    yield make
    for app in made:
        if not sip.isdeleted(app.window):
            app.window.close()
            app.tear_down()


@pytest.fixture
def window(open_app):
    return open_app().window


def until(condition):
    waiting.until(condition, pause=lambda: QTest.qWait(20))


def row(window, name):
    return window.workbench.settings.rows[name]


def type_value(window, name, text):
    entry = row(window, name).entry
    entry.setFocus()
    entry.selectAll()
    QTest.keyClicks(entry, text)
    QTest.keyClick(entry, Qt.Key.Key_Return)


def click(button):
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)


def words_of(widget) -> str:
    return "\n".join(label.text() for label in widget.findChildren(QLabel) if label.isVisibleTo(widget))


def begin_at_once(panel):
    """Choose a start without a wait."""
    panel.form.begins.setCurrentIndex(panel.form.begins.findData(Start.AT_ONCE))


def run_to_end(window, length, name):
    presenter = window.presenter
    presenter.runs.last = None
    panel = window.workbench.run
    panel.form.pace.setCurrentIndex(FAST)
    panel.form.length.setEditText(length)
    panel.form.label.setText(name)
    begin_at_once(panel)
    click(panel.start)
    until(lambda: presenter.runs.last is not None and presenter.progress is None)
    return presenter.runs.last


def draft(window, name="sustained"):
    return window.presenter.draft.get(name)


def drop(window, path):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    event = QDropEvent(
        QPointF(200, 200), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(event)
