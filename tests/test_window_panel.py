"""The icon in the panel, closing and starting hidden, the entry at login, and desktop notifications."""

import contextlib
import os
import subprocess
from dataclasses import replace

import pytest
from PyQt6.QtWidgets import QApplication

from bus_support import DEBIAN_PYTHON
from profile_support import PREFERENCE
from upright_bolt.app import open_session
from upright_bolt.desktop.app import DesktopApp
from upright_bolt.desktop.closing_dialog import ClosingDialog
from upright_bolt.desktop.tray_icon import NO_PANEL, number_of
from upright_bolt.desktop.widgets import theme
from upright_bolt.desktop.widgets.notices import notify
from upright_bolt.model.hold import Cause, LogEntry, LogKind
from upright_bolt.presentation.preferences import PanelNumber, WhenClosed
from upright_bolt.session.autostart import PANEL, Autostart
from upright_bolt.text.enforcement import notable
from waiting import until as wait_until
from window_support import FAST, QTest, click, until


@pytest.fixture
def in_panel(data, qapp_kept):
    """Open a window whose icon stands in a panel, or that finds none."""
    made = []

    def make(*, panel=True, **preferred):
        session = open_session("twin:tern", data, "the window", exclusive=True)
        app = DesktopApp(session, data, theme.LIGHT, has_panel=lambda: panel)
        app.window.show()
        made.append(app)
        app.prefer(replace(app.kept.chosen, panel=True, **preferred))
        until(lambda: app.panel is not None or not panel)
        until(lambda: app.presenter.sample is not None and app.window.isVisible())
        return app

    yield make
    for app in made:
        app.end()
        app.tear_down()
    QApplication.setQuitOnLastWindowClosed(True)


def entries_of(panel):
    panel.fill()
    return [action.text() for action in panel.menu.actions() if action.text()]


def test_the_icon_shows_the_number_that_was_chosen_and_the_profile_in_its_tip(in_panel):
    app = in_panel(panel_number=PanelNumber.WATTS)
    until(lambda: number_of(app.presenter.sample, app.presenter.outline.index, PanelNumber.WATTS)[0] != "–")
    app.panel.show_number()
    assert " W\n" in app.panel.icon.toolTip()
    assert "No profile is in force." in app.panel.icon.toolTip()
    assert not app.panel.icon.icon().isNull()
    text, words = number_of(app.presenter.sample, app.presenter.outline.index, PanelNumber.HOTTEST)
    assert words == f"{text} °C"
    assert number_of(None, {}, PanelNumber.CLOCK) == ("–", "not measured")


def test_the_menu_uses_profiles_and_turns_hold_on_and_off(in_panel):
    app = in_panel()
    app.presenter.profiles.save("quay", {"sustained": 28.0})
    until(lambda: app.presenter.profiles.status.profiles)
    assert entries_of(app.panel) == ["stock", "quay", "Turn hold on", "Put back", "Open the window", "End"]
    actions = {action.text(): action for action in app.panel.menu.actions()}
    assert not actions["Put back"].isEnabled()
    actions["quay"].trigger()
    until(lambda: app.presenter.profiles.status.active == "quay")
    assert "Turn hold off" in entries_of(app.panel)
    app.panel.show_number()
    assert "In force: profile quay." in app.panel.icon.toolTip()


def test_closing_asks_once_and_the_answer_is_kept(in_panel):
    app = in_panel()
    app.window.close()
    assert app.window.isVisible()
    (dialog,) = [d for d in app.window.findChildren(ClosingDialog) if d.isVisible()]
    click(dialog.stay)
    until(lambda: not app.window.isVisible())
    assert app.kept.chosen.when_closed is WhenClosed.STAY
    taken = app.presenter.sample.time_s
    until(lambda: app.presenter.sample.time_s > taken)
    app.panel.opened.emit()
    assert app.window.isVisible()
    app.window.close()
    assert not app.window.isVisible()
    assert not [d for d in app.window.findChildren(ClosingDialog) if d.isVisible()]


def test_a_trial_goes_on_while_the_window_is_hidden_and_is_put_back_at_the_end(in_panel):
    app = in_panel(when_closed=WhenClosed.STAY)
    app.presenter.draft_values({"sustained": 24.0})
    app.presenter.try_draft()
    until(lambda: app.presenter.status.trial is not None)
    app.window.close()
    assert app.presenter.status.trial is not None
    app.panel.ended.emit()
    session = open_session("twin:tern", app._data, "a look", exclusive=True)
    assert session.status().trial is None
    session.close()


def test_without_a_panel_a_sentence_says_so_and_the_window_stays(in_panel):
    app = in_panel(panel=False)
    assert app.panel is None
    assert app.presenter.outcome == f"✕ {NO_PANEL}"
    assert app.window.isVisible()


def test_the_entry_at_login_is_written_and_removed_by_the_switch(in_panel, tmp_path):
    app = in_panel()
    app._at_login = Autostart(("--machine", "host", "window", "--hidden"), tmp_path / "autostart", PANEL)
    app.prefer(replace(app.kept.chosen, at_login=True))
    text = (tmp_path / "autostart/org.upright_bolt.Panel.desktop").read_text()
    assert '"window" "--hidden"' in text
    app.prefer(replace(app.kept.chosen, at_login=False))
    assert not (tmp_path / "autostart/org.upright_bolt.Panel.desktop").exists()


def entry(kind, cause):
    return LogEntry("2026-11-26T00:00:00+00:00", kind, cause, "quay", "epp", 64.0, 128.0, "tool (process 7)")


def test_only_rare_things_are_worth_a_notification():
    assert notable(entry(LogKind.RESET, Cause.PROGRAM), rules=False)
    assert notable(entry(LogKind.RESTS, Cause.PROGRAM), rules=False)
    assert notable(entry(LogKind.SUSPECT, Cause.DOUBT), rules=False)
    assert not notable(entry(LogKind.RESET, Cause.FIRMWARE), rules=False)
    assert not notable(entry(LogKind.USED, Cause.RULE), rules=False)
    assert notable(entry(LogKind.USED, Cause.RULE), rules=True)


@pytest.fixture
def desktop_bus(tmp_path, monkeypatch):
    """A session bus with a stand-in for the desktop that shows notifications; returns the stand-in's log."""
    log = tmp_path / "notifications.log"
    started = subprocess.Popen(
        ["dbus-daemon", "--session", "--nofork", "--nopidfile", "--print-address=1"], stdout=subprocess.PIPE, text=True
    )
    address = started.stdout.readline().strip()
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", address)
    command = [DEBIAN_PYTHON, "-m", "dbusmock", "--session", "--template", "notification_daemon"]
    with log.open("w") as out:
        shown = subprocess.Popen(command, stdout=out, stderr=out, env=dict(os.environ))
    wait_until(lambda: notify("is anybody there?") and "Notify" in log.read_text(), what="the stand-in")
    yield log
    for process in (shown, started):
        with contextlib.suppress(ProcessLookupError):
            process.kill()
        process.wait()
    started.stdout.close()


def test_another_program_that_resets_a_setting_is_told_on_the_desktop(in_panel, desktop_bus):
    app = in_panel()
    app.presenter.profiles.save("quay", {"epp": 64.0})
    until(lambda: app.presenter.profiles.status.profiles)
    app.presenter.profiles.use("quay")
    until(lambda: app.presenter.profiles.status.active == "quay")

    def meddle(session):
        session.machine.ports.changes.write(PREFERENCE, "200", "energy-tool (process 4711)")

    app.thread.ask(meddle, lambda _: None, pytest.fail)
    until(lambda: "energy-tool (process 4711) set epp to 200; 64 was put back." in desktop_bus.read_text())
    assert "chosen by hand" not in desktop_bus.read_text()


def test_without_a_desktop_bus_nothing_is_shown_and_nothing_fails(monkeypatch):
    monkeypatch.delenv("DBUS_SESSION_BUS_ADDRESS", raising=False)
    assert not notify("anything")
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", "unix:path=/nowhere")
    assert not notify("anything")


def test_an_hour_of_window_and_icon_on_battery_never_wakes_the_graphics_chip(in_panel):
    app = in_panel(panel_number=PanelNumber.WATTS)
    session = app.thread._session
    twin = session.machine.clock._twin
    chip = twin.physics.graphics.chips[1]
    app.presenter.plug()
    app.window.workbench.run.form.pace.setCurrentIndex(FAST)
    until_s = twin.state.time_s + 3600.0
    views = ["machine", "workbench", "edge", "compare", "profiles"]
    while twin.state.time_s < until_s:
        app.window.show_view(views[int(twin.state.time_s) // 60 % len(views)])
        entries_of(app.panel)
        app.panel.show_number()
        QTest.qWait(50)
    assert chip.state.asleep
    assert chip.state.woken == 0
