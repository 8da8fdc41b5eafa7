"""Around the views: another machine opened, preferences, help, the draft's undo, the first steps."""

import json
import tomllib
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication

from trees import build_tree, ports_of
from upright_bolt.captures.archive import collect, write
from upright_bolt.desktop import help_dialog
from upright_bolt.desktop.help_dialog import PAGES, HelpDialog
from upright_bolt.desktop.preferences_dialog import PreferencesDialog
from upright_bolt.desktop.shortcuts import SHORTCUTS
from upright_bolt.kernel.clock import RealClock
from upright_bolt.model.quantity import ClockUnit, Shown
from upright_bolt.presentation.draft import Draft
from upright_bolt.presentation.preferences import Looks, PreferenceFile, Preferences, RunFact
from window_support import QTest, begin_at_once, click, draft, drop, row, type_value, until, words_of

# another machine


def test_a_simulated_machine_is_opened_from_the_window(open_app):
    app = open_app("twin:tern")
    actions = {a.text(): a for a in all_actions(app.window.strip.machine.menu())}
    assert not actions["tern: thin laptop"].isEnabled()
    first = app.window
    actions["skerry: small PC"].trigger()
    until(lambda: app.window is not first)
    until(lambda: app.presenter.sample is not None)
    assert app.presenter.outline.spec == "twin:skerry"
    assert app.window.isVisible()
    assert "skerry" in app.window.windowTitle()


def test_another_one_of_these_is_an_individual_of_the_same_model(open_app):
    app = open_app("twin:tern")
    first = app.window
    {a.text(): a for a in all_actions(first.strip.machine.menu())}["Another one of these"].trigger()
    until(lambda: app.window is not first)
    until(lambda: app.presenter.sample is not None)
    assert app.presenter.outline.spec.startswith("twin:tern#")
    assert app.presenter.outline.spec.removeprefix("twin:") in app.window.windowTitle()


def all_actions(menu):
    for action in menu.actions():
        yield action
        if action.menu() is not None:
            yield from all_actions(action.menu())


def test_a_capture_is_opened_by_dropping_it_and_stands_among_the_recent_ones(open_app, tmp_path, data):
    capture = tmp_path / "gannet.tar.gz"
    pack_tree("hybrid-laptop", tmp_path / "gannet", capture)
    app = open_app("twin:tern")
    drop(app.window, capture)
    until(lambda: app.presenter.outline.spec == f"tree:{capture}" or app.presenter.outcome)
    assert app.presenter.outcome == ""
    assert app.window.strip.machine.text() == "gannet"
    assert [a.text() for a in all_actions(app.window.strip.machine.menu())][-1] == "gannet.tar.gz"
    assert json.loads((data / "window.json").read_text())["data"]["recent"] == [f"tree:{capture}"]


def pack_tree(name, root, target):
    files, registers = ports_of(build_tree(name, root))
    write(collect(files, registers, RealClock()), target)


def test_a_file_that_is_no_capture_leaves_the_machine_open(open_app, tmp_path):
    text = tmp_path / "notes.txt"
    text.write_text("not a capture")
    app = open_app("twin:tern")
    window = app.window
    drop(window, text)
    until(lambda: app.presenter.outcome.startswith("✕"))
    assert "notes.txt" in app.presenter.outcome
    assert app.window is window
    assert app.presenter.outline.spec == "twin:tern"


def test_no_machine_is_left_in_the_middle_of_a_trial_or_a_run(open_app):
    app = open_app("twin:tern")
    window = app.window
    type_value(window, "sustained", "25")
    click(window.workbench.settings.try_button)
    until(lambda: app.presenter.status.trial is not None)
    app.open_machine("twin:skerry")
    assert "A trial is running" in app.presenter.outcome
    click(window.strip.revert)
    until(lambda: app.presenter.status.trial is None)
    begin_at_once(window.workbench.run)
    click(window.workbench.run.start)
    until(lambda: app.presenter.progress is not None)
    app.open_machine("twin:skerry")
    assert "A run is in progress" in app.presenter.outcome
    assert app.presenter.outline.spec == "twin:tern"


# preferences


@pytest.fixture
def clocks_as_usual():
    yield
    Shown.clocks = ClockUnit.FITTING


def test_preferences_are_in_force_at_once_and_at_the_next_start(open_app, data, clocks_as_usual):
    app = open_app("twin:tern", None)
    first = app.window
    QTest.keyClick(first, Qt.Key.Key_Comma, Qt.KeyboardModifier.ControlModifier)
    dialog = first.findChild(PreferencesDialog)
    dialog.clocks.setCurrentIndex(1)
    dialog.looks.setCurrentIndex(dialog.looks.findData(Looks.DARK))
    dialog.facts[RunFact.WORKLOAD].setChecked(True)
    until(lambda: app.window is not first and app.window.findChild(PreferencesDialog) is not None)
    assert row(app.window, "clock-max").entry.text() == "4200 MHz"
    kept = PreferenceFile(data).chosen
    assert kept.looks is Looks.DARK
    assert kept.clocks is ClockUnit.MHZ
    assert RunFact.WORKLOAD in kept.run_facts


def test_a_value_is_typed_in_the_unit_that_is_shown(open_app, data, clocks_as_usual):
    assert PreferenceFile(data).save(Preferences(clocks=ClockUnit("MHz"))) == ""
    app = open_app("twin:tern")
    type_value(app.window, "clock-max", "3000")
    assert draft(app.window, "clock-max") == 3000.0


def test_a_damaged_file_of_preferences_is_said_and_left(open_app, data):
    data.mkdir(exist_ok=True)
    (data / "window.json").write_text("{half")
    app = open_app("twin:tern")
    assert "window.json" in app.presenter.outcome
    assert "usual settings" in app.presenter.outcome
    assert (data / "window.json").read_text() == "{half"


# help


def test_f1_shows_the_page_of_the_view_in_sight(window):
    window.show_view("compare")
    QTest.keyClick(window, Qt.Key.Key_F1)
    dialog = window.findChild(HelpDialog)
    assert dialog.text.toPlainText().startswith("Compare")
    for number, name in enumerate(PAGES):
        dialog.list.setCurrentRow(number)
        assert len(dialog.text.toPlainText()) > 100, name


def test_the_list_of_shortcuts_names_every_key_that_does_something(window):
    QTest.keyClick(window, Qt.Key.Key_Question, Qt.KeyboardModifier.ControlModifier)
    shown = window.findChild(HelpDialog).text.toPlainText()
    for entry in SHORTCUTS:
        assert entry.keys in shown
        assert entry.words in shown
        if entry.does:
            assert callable(window._what(entry.does))


def test_about_names_every_library_with_its_licence():
    project = tomllib.loads((Path(__file__).parents[1] / "pyproject.toml").read_text())["project"]
    assert {line.split(">")[0] for line in project["dependencies"]} == set(help_dialog.REQUIRED)
    used = help_dialog.libraries_used()
    assert len(used) == len(help_dialog.REQUIRED)
    assert all(licence != "not told" for _, _, licence in used), used
    assert project["version"] in help_dialog.page("about")


# undo


class Clock:
    now = 0.0

    def __call__(self):
        return self.now


def test_a_drag_is_one_step_back():
    clock = Clock()
    draft = Draft(clock)
    for watts in (20.0, 21.0, 22.0):
        clock.now += 0.1
        draft.change({"sustained": watts})
    draft.change({"core-offset": -10.0, "cache-offset": -10.0})
    assert draft.undo()
    assert draft.values == {"sustained": 22.0}
    assert draft.undo()
    assert draft.values == {}
    assert not draft.undo()
    assert draft.redo()
    assert draft.redo()
    assert draft.values == {"sustained": 22.0, "core-offset": -10.0, "cache-offset": -10.0}
    draft.undo()
    clock.now += 60
    draft.change({"turbo": "off"})
    assert not draft.redo()
    draft.drop()
    assert draft.undo()
    assert draft.values == {"sustained": 22.0, "turbo": "off"}


def test_ctrl_z_takes_the_draft_back_also_from_a_field_that_was_typed_in(window):
    type_value(window, "sustained", "25")
    type_value(window, "burst", "30")
    entry = row(window, "burst").entry
    entry.setFocus()
    undo(window)
    assert window.presenter.draft == {"sustained": 25.0}
    assert entry.text() == "45 W"
    undo(window)
    assert window.presenter.draft == {}
    QTest.keyClick(
        focused(window), Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier
    )
    assert window.presenter.draft == {"sustained": 25.0}


def focused(window):
    return QApplication.focusWidget() or window


def undo(window):
    QTest.keyClick(focused(window), Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)


# the first steps


def test_a_first_start_leads_to_a_compared_change(open_app, data):
    app = open_app("twin:tern")
    window, steps = app.window, app.window.steps
    until(steps.isVisible)
    assert steps.go.text() == "Open the Machine view"
    click(steps.go)
    assert window.machine.isVisible()
    assert steps.go.text() == "Measure now: 10 min, rested"
    window.workbench.run.form.pace.setCurrentIndex(3)
    click(steps.go)
    until(lambda: app.presenter.runs.last is not None and app.presenter.progress is None)
    until(lambda: steps.go.text() == "Go to the settings")
    click(steps.go)
    assert row(window, "sustained").strip.hasFocus()
    type_value(window, "sustained", "25")
    click(window.workbench.settings.try_button)
    until(lambda: steps.go.text() == "Measure again")
    app.presenter.runs.last = None
    click(steps.go)
    until(lambda: app.presenter.runs.last is not None and app.presenter.progress is None)
    until(lambda: not steps.isVisible())
    assert "twin:tern" in PreferenceFile(data).chosen.guided
    assert "Settled:" in words_of(window.workbench.run)


def test_the_first_steps_can_be_put_away_for_good(open_app, data):
    app = open_app("twin:tern")
    until(app.window.steps.isVisible)
    click(app.window.steps.away)
    assert not app.window.steps.isVisible()
    assert PreferenceFile(data).chosen.guided == ("twin:tern",)


def test_nothing_leads_where_nothing_can_be_set(open_app):
    app = open_app("host")
    until(lambda: app.presenter.runs.all is not None)
    assert not app.window.steps.isVisible()
