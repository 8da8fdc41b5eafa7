"""The Profiles view: from the empty state to a profile in force, rules, and what is kept in a profile."""

from dataclasses import replace

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel

from profile_support import proof
from upright_bolt.analysis.chip import chip_on_board
from upright_bolt.desktop.profiles.cells import MeasureCell, SettingCell
from upright_bolt.desktop.profiles.dialogs import NameDialog, TextDialog
from upright_bolt.desktop.widgets import theme
from upright_bolt.model.profile import Profile
from upright_bolt.profiles.text import text_of
from upright_bolt.text.events import sentence, short
from window_support import click, type_value, until, words_of


@pytest.fixture
def at_profiles(open_app):
    def make(machine="twin:tern", looks=theme.LIGHT, profiles=(), rules=""):
        app = open_app(machine, looks)
        chip = chip_on_board(app.presenter.outline.identity)

        def prepare(session):
            for profile in profiles:
                made = Profile(profile.name, profile.settings, {n: proof(chip) for n in profile.offsets}, profile.note)
                session.access.profiles.save(profile.name, text_of(made))
            if rules:
                session.access.profiles.save_rules(rules)

        app.thread.ask(prepare, lambda _: None, pytest.fail)
        app.window.show_view("profiles")
        app.presenter.profiles.refresh()
        until(lambda: len(app.presenter.profiles.status.profiles) == len(profiles))
        return app

    return make


QUAY = Profile("quay", {"sustained": 28.0, "core-offset": -80.0, "cache-offset": -80.0}, note="shore power")
AT_SEA = Profile("at sea", {"sustained": 16.0, "turbo": "off", "epp": 192.0})
RULES = "When on battery, use at sea.\nOtherwise, use quay.\n"


def cells(app, kind=SettingCell):
    return [cell.words for cell in app.window.profiles.table.findChildren(kind)]


def dialog(app, kind):
    return next(d for d in app.window.profiles.findChildren(kind) if d.isVisible())


def in_force(app):
    return app.presenter.profiles.status.active


def test_the_empty_state_leads_to_the_first_profile(at_profiles):
    app = at_profiles()
    view = app.window.profiles
    assert "Measure stock, then save what is in force as your first profile." in words_of(view.empty)
    assert view.first.isVisible()
    type_value(app.window, "sustained", "26 W")
    app.presenter.try_draft()
    until(lambda: app.presenter.status.trial is not None)
    click(view.save)
    asked = dialog(app, NameDialog)
    assert not asked.go.isEnabled()
    asked.name.setText("quay")
    asked.note.setText("shore power")
    click(asked.go)
    until(lambda: in_force(app) == "quay")
    assert app.presenter.outcome == "Saved as quay: sustained 26 W. In force: profile quay."
    until(lambda: app.presenter.status.trial is None and not view.empty.isVisible())
    assert "Profile quay" in words_of(app.window.strip)
    assert "● Hold is on" in view.hold.text()


def test_a_draft_is_saved_untried_and_nothing_of_it_comes_in_force(at_profiles):
    app = at_profiles()
    view = app.window.profiles
    assert not view.save_draft.isVisible()
    app.presenter.draft_values({"sustained": 26.0, "core-offset": -70.0})
    assert view.save_draft.isVisible()
    click(view.save_draft)
    asked = dialog(app, NameDialog)
    assert "sustained 26 W, core-offset −70 mV" in words_of(asked)
    asked.name.setText("harbour")
    click(asked.go)
    until(lambda: app.presenter.profiles.status.profiles)
    assert app.presenter.outcome == "Saved as harbour: sustained 26 W, core-offset −70 mV."
    assert app.presenter.status.trial is None
    assert app.presenter.controls["sustained"].current == 18.0
    assert app.presenter.draft == {"sustained": 26.0, "core-offset": -70.0}
    app.presenter.profiles.use("harbour")
    until(lambda: in_force(app) == "harbour")
    until(lambda: app.presenter.controls["sustained"].current == 26.0)
    assert app.presenter.controls["core-offset"].current == 0.0
    app.presenter.draft_values({"sustained": None, "core-offset": None})
    assert not view.save_draft.isVisible()


def test_a_name_that_cannot_be_one_is_said(at_profiles):
    app = at_profiles()
    app.presenter.profiles.save_in_force("stock")
    until(lambda: app.presenter.outcome.startswith("✕"))
    assert "cannot be changed; choose another name" in app.presenter.outcome


def test_settings_stand_side_by_side_with_what_is_proven_and_held_back_in_words(at_profiles):
    deep = Profile("deep", {"core-offset": -120.0})
    app = at_profiles(profiles=[QUAY, AT_SEA, deep])
    until(lambda: "−120 mV · held back" in cells(app))
    assert "−80 mV · proven" in cells(app)
    assert "as the machine has it" in cells(app)
    assert "off" in cells(app)
    held = next(c for c in app.window.profiles.table.findChildren(SettingCell) if "held back" in c.words)
    assert "Held back: proven down to −80 mV only." in held.toolTip()


def test_a_profile_is_used_by_one_press_and_another_by_hand_until_a_rule_would(at_profiles):
    app = at_profiles(profiles=[QUAY, AT_SEA], rules=RULES)
    view = app.window.profiles
    click(view.table.use["at sea"])
    until(lambda: in_force(app) == "at sea")
    until(lambda: app.presenter.controls["turbo"].current == "off")
    assert "chosen by hand until the power source changes" in view.standing.text()
    assert "▶ Otherwise, use quay. (counts now)" in view.rules.text()
    app.presenter.plug()
    until(lambda: "▶ When on battery, use at sea. (counts now)" in view.rules.text())
    assert "by hand" not in view.standing.text()
    until(lambda: "was put back" in view.log.text())


def test_hold_and_start_are_switched_and_say_how_they_stand(at_profiles):
    app = at_profiles(profiles=[QUAY], rules="Otherwise, use quay.\n")
    view = app.window.profiles
    assert view.hold.text() == "○ Hold is off"
    click(view.hold)
    until(lambda: view.hold.text() == "● Hold is on" and in_force(app) == "quay")
    click(view.boot)
    until(lambda: view.boot.text() == "● After a start as well")
    assert "sustained: in force" in view.boot.toolTip()
    click(view.hold)
    until(lambda: view.hold.text() == "○ Hold is off")


def test_rules_are_edited_as_sentences_and_every_fault_is_said(at_profiles):
    app = at_profiles(profiles=[QUAY, AT_SEA], rules=RULES)
    click(app.window.profiles.edit_rules)
    edit = dialog(app, TextDialog)
    assert edit.text.toPlainText() == RULES
    edit.text.setPlainText("When it rains, use quay.\nOtherwise, use dock.\n")
    click(edit.go)
    until(lambda: "Line 1" in edit.fault.text())
    assert edit.isVisible()
    edit.text.setPlainText("Otherwise, use at sea.\n")
    click(edit.go)
    until(lambda: len(app.presenter.profiles.status.rules) == 1)
    until(lambda: not edit.isVisible())


def test_a_profile_s_file_is_edited_with_its_comments(at_profiles):
    app = at_profiles(profiles=[AT_SEA])
    app.window.profiles._edit("at sea")
    until(lambda: app.window.profiles.findChildren(TextDialog))
    edit = dialog(app, TextDialog)
    edit.text.setPlainText(edit.text.toPlainText().replace("sustained_w = 16.0", "sustained_w = 15.0  # quieter"))
    click(edit.go)
    until(lambda: app.presenter.profiles.status.profiles[0].profile.settings["sustained"] == 15.0)
    read = []
    app.presenter.profiles.read_text("at sea", read.append)
    until(lambda: read)
    assert "# quieter" in read[0]


def test_what_is_tried_is_kept_in_a_profile_that_is_there(at_profiles):
    app = at_profiles(profiles=[AT_SEA])
    type_value(app.window, "epp", "64")
    app.presenter.try_draft()
    until(lambda: app.window.strip.keep_in.isVisible())
    menu = app.window.strip.keep_in.menu()
    until(lambda: [a.text() for a in menu.actions() if a.text()] == ["Into at sea", "Into a new profile…"])
    menu.actions()[0].trigger()
    until(lambda: in_force(app) == "at sea")
    assert app.presenter.profiles.status.profiles[0].profile.settings == {
        "sustained": 16.0,
        "turbo": "off",
        "epp": 64.0,
    }
    until(lambda: app.presenter.status.trial is None)


def test_offsets_are_copied_into_every_profile(at_profiles):
    app = at_profiles(profiles=[QUAY, AT_SEA])
    app.window.profiles._asked("offsets", "quay")
    until(lambda: app.presenter.outcome == "core-offset −80 mV, cache-offset −80 mV is in at sea now.")
    app.window.profiles._asked("graphics", "quay")
    until(lambda: "quay sets none of them" in app.presenter.outcome)
    app.presenter.profiles.save_text(
        "quay", text_of(replace(QUAY, settings={"gpu03.power-limit": 30.0})), lambda: None, None
    )
    app.window.profiles._asked("graphics", "quay")
    until(lambda: app.presenter.outcome == "gpu03.power-limit 30 W is in at sea now.")
    app.window.profiles._asked("rename", "quay")
    rename = dialog(app, NameDialog)
    rename.name.setText("dock")
    click(rename.go)
    until(lambda: {v.profile.name for v in app.presenter.profiles.status.profiles} == {"at sea", "dock"})
    app.window.profiles._asked("delete", "dock")
    until(lambda: len(app.presenter.profiles.status.profiles) == 1)


def test_what_is_missing_is_measured_with_one_press(at_profiles):
    app = at_profiles(profiles=[AT_SEA])
    app.presenter.set_pace(1000.0)
    assert cells(app, MeasureCell).count("not measured") == 10
    shown = app.presenter.profiles.shown(app.presenter.controls, app.presenter.runs.all)[1]
    app.presenter.profiles.measure(shown, on_battery=False)
    until(lambda: app.presenter.records.series is not None)
    until(lambda: app.presenter.records.series is None)
    until(lambda: cells(app, MeasureCell).count("not measured") == 6)
    assert any("units/min" in words for words in cells(app, MeasureCell))
    until(lambda: app.presenter.status.trial is None)
    until(lambda: app.presenter.controls["turbo"].current == "on")


@pytest.mark.parametrize("machine", ["host", "twin:plover", "twin:skerry"])
def test_other_machines_have_their_own_empty_state(at_profiles, machine):
    app = at_profiles(machine, theme.DARK)
    settable = any(control.settable for control in app.presenter.controls.values())
    words = words_of(app.window.profiles.empty)
    assert ("Measure stock" in words) == settable
    assert ("Nothing can be set" in words) != settable
    assert app.window.profiles.save.isVisible() == settable
    has_battery = "battery.drain" in app.presenter.outline.index
    assert ("hours" in {measure.key for measure in app.presenter.profiles.measures}) == has_battery


def test_every_button_of_a_profile_names_its_profile_for_a_screen_reader(at_profiles):
    app = at_profiles(profiles=[QUAY])
    table = app.window.profiles.table
    assert table.use["quay"].accessibleName() == "Use quay"
    assert table.use["quay"].focusPolicy() & Qt.FocusPolicy.TabFocus
    assert all(cell.accessibleName() for cell in table.findChildren(SettingCell))
    assert not [label for label in table.findChildren(QLabel) if label.text() == "…"]


def test_what_the_hold_does_stands_on_the_charts_time_axis(at_profiles):
    app = at_profiles(profiles=[QUAY, AT_SEA], rules=RULES)
    app.presenter.profiles.use("quay")
    until(lambda: in_force(app) == "quay")
    app.presenter.plug()
    until(lambda: any("set sustained to 12 W" in sentence(e) for e in app.presenter.history.events))
    told = [short(event) for event in app.presenter.history.events]
    assert "Profile quay" in told
    assert "Profile at sea" in told
    assert "sustained put back" in told
    assert "Reset: sustained 12 W → 16 W" not in told, "this program's own putting back is no reset by others"
