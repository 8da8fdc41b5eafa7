"""The window on every machine, theme and size: nothing overlaps, is cut, pale, unnamed or out of reach."""

import platform
from dataclasses import replace

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QLineEdit, QPushButton, QWidget

import window_faults
from search_support import SearchScene
from trees import TREES, build_tree
from upright_bolt.desktop.help_dialog import HelpDialog
from upright_bolt.desktop.preferences_dialog import PreferencesDialog
from upright_bolt.desktop.widgets import theme
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.control import ControlState
from upright_bolt.model.trial import Drift
from upright_bolt.presentation.ports import Snapshot
from upright_bolt.simulator.chip import TWINS
from upright_bolt.text.search import story
from window_support import QTest, run_to_end, until

SIZES = ((1024, 700), (1280, 800), (1920, 1080))
MACHINES = ("host", *(f"twin:{name}" for name in TWINS), *(f"tree:{name}" for name in TREES))
LOOKS = (theme.LIGHT, theme.DARK)


def opened(open_app, tmp_path, machine, looks):
    kind, _, name = machine.partition(":")
    word = f"tree:{build_tree(name, tmp_path / name)}" if kind == "tree" else machine
    return open_app(word, looks)


def say_the_longest(app) -> None:
    """Let the window say the longest that it can have to say of this machine, all at once."""
    presenter = app.presenter
    app.thread.close()  # nothing newer takes its place
    for constraint in Constraint:
        kinds = tuple(constraint for _ in presenter.outline.about.topology.kinds)
        sample = replace(presenter.sample, constraint=constraint, kinds=kinds, time_s=presenter.sample.time_s + 0.5)
        before = app.window.workbench.charts.held.text()
        presenter.take(Snapshot(samples=[sample]))
        app.window.workbench.show_state()
        if len(app.window.workbench.charts.held.text()) < len(before):
            app.window.workbench.charts.held.setText(before)
    settable = [c for c in presenter.controls.values() if c.settable and c.current is not None]
    asked = {c.name: (c.choices[-1] if c.choices else c.current) for c in settable}
    presenter.draft_values(dict.fromkeys(asked))
    presenter._draft.change(asked)
    drift = tuple(Drift(name, value, value) for name, value in asked.items())
    presenter.status = replace(presenter.status, kept=asked, drift=drift)
    presenter.settings_changed(None)
    presenter.drafted("")
    closed = [c.name for c in presenter.controls.values() if c.state is not ControlState.SETTABLE]
    presenter.say(
        "✕ " + " ".join(f"{name}: this machine does not let it be written, for a long reason." for name in closed[:4])
    )
    QTest.qWait(50)


@pytest.mark.parametrize("looks", LOOKS, ids=lambda looks: looks.name)
@pytest.mark.parametrize("machine", MACHINES)
def test_nothing_is_wrong_with_the_window(machine, looks, open_app, tmp_path):
    app = opened(open_app, tmp_path, machine, looks)
    if machine.startswith("twin:"):
        run_to_end(app.window, "20 s", "Stock")
        run_to_end(app.window, "1 min", "A label as long as a careful person gives one: 25 W flat, lid closed, quay")
    say_the_longest(app)
    faults = []
    for size in SIZES:
        app.window.resize(*size)
        for view in app.window.views:
            app.window.show_view(view)
            QTest.qWait(120)
            until(lambda: all(w.updatesEnabled() for w in app.window.findChildren(QWidget) if w.isVisible()))
            QTest.qWait(30)
            faults += [f"{view} {size}: {fault}" for fault in faults_that_stay(app.window, size)]
    assert not faults, f"{len(faults)} faults on {machine} ({platform.node()}):\n" + "\n".join(dict.fromkeys(faults))


@pytest.mark.parametrize("looks", LOOKS, ids=lambda looks: looks.name)
@pytest.mark.parametrize("machine", ["twin:tern", "twin:tern-two-rails"])
def test_nothing_is_wrong_with_the_picture_of_a_search(machine, looks, open_app, data):
    scene = SearchScene(data, machine)
    search = scene.carry_on(scene.ask(soak_s=60.0))
    scene.twin.close()
    app = open_app(machine, looks)
    until(lambda: app.presenter.searches.shown is not None)
    app.presenter.searches.story = story(replace(search, end=None), cut_off=True)
    app.presenter.say("✕ " + app.presenter.searches.story)
    app.window.show_view("edge")
    faults = []
    for size in SIZES:
        app.window.resize(*size)
        for page in (False, True):
            app.window.edge._ask(wanted=page)
            QTest.qWait(150)
            faults += [f"{size}: {fault}" for fault in faults_that_stay(app.window, size)]
    assert not faults, "\n".join(dict.fromkeys(faults))


def faults_that_stay(window, size) -> list[str]:
    """Return the faults that are still there once a slow computer has laid everything out."""
    faults = faults_of(window, size)
    for _ in range(4):
        if not faults:
            break
        QTest.qWait(300)
        faults = [fault for fault in faults_of(window, size) if fault in faults]
    return faults


def faults_of(window, size) -> list[str]:
    found = window_faults.texts(window)
    assert len(found) > 10, "next to nothing is written"
    now = (window.width(), window.height())
    faults = [] if now == size else [f"the window grew to {now}"]
    faults += [f"overlap: {fault}" for fault in window_faults.overlapping(found)]
    faults += [f"cut: {fault}" for fault in window_faults.cut(found, window)]
    faults += [f"pale: {fault}" for fault in window_faults.pale(found, window)]
    faults += [f"unnamed: {fault}" for fault in window_faults.unnamed(window)]
    faults += [f"not reached by Tab: {fault}" for fault in window_faults.tab_gaps(window)]
    return faults


@pytest.mark.parametrize("looks", LOOKS, ids=lambda looks: looks.name)
def test_nothing_is_wrong_with_the_dialogs(looks, open_app):
    app = open_app("twin:tern", looks)
    app.window.ask_preferences()
    app.window.help()
    helping, preferring = app.window.findChild(HelpDialog), app.window.findChild(PreferencesDialog)
    faults = []
    for number in range(helping.list.count()):
        helping.list.setCurrentRow(number)
        QTest.qWait(60)
        faults += faults_of(helping, (helping.width(), helping.height()))
    helping.close()
    preferring.activateWindow()
    QTest.qWait(60)
    faults += faults_of(preferring, (preferring.width(), preferring.height()))
    assert not faults, "\n".join(faults)


@pytest.fixture
def faulty(qapp_kept):
    """A window with one fault of each kind."""
    made = QWidget()
    made.resize(400, 300)
    for text, (x, y, width) in {
        "written first": (10, 10, 120), "written second": (40, 12, 120), "longer than its place": (10, 60, 40),
        "hardly to be seen": (10, 110, 200), "reaches beyond": (350, 200, 120),
    }.items():  # fmt: skip
        words = QLabel(text, made)
        words.setGeometry(x, y, width, 20)
    made.findChildren(QLabel)[3].setStyleSheet("color: #cccccc")
    made.setStyleSheet("background: #ffffff; color: #000000")
    entry = QLineEdit(made)
    entry.setGeometry(10, 150, 100, 24)
    button = QPushButton("Press", made)
    button.setGeometry(10, 190, 100, 24)
    button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    made.show()
    until(made.isVisible)
    yield made
    made.close()


def test_each_kind_of_fault_is_found(faulty):
    found = window_faults.texts(faulty)
    assert any("written first" in fault and "written second" in fault for fault in window_faults.overlapping(found))
    cut = " ".join(window_faults.cut(found, faulty))
    assert "longer than its place" in cut
    assert "reaches beyond" in cut
    assert ["hardly to be seen" in fault for fault in window_faults.pale(found, faulty)] == [True]
    assert window_faults.unnamed(faulty) == ["QLineEdit"]
    assert window_faults.tab_gaps(faulty) == ["QPushButton 'Press'"]
