"""The settings of the real window, offscreen, used as a person would: keys, mouse, typed text, words."""

import sys
from dataclasses import replace

import pytest
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent, QWheelEvent
from PyQt6.QtWidgets import QApplication, QPushButton

import waiting
from support import gap_words
from upright_bolt.analysis.validation.evidence import evidence
from upright_bolt.app import open_session
from upright_bolt.desktop.app import application
from upright_bolt.desktop.widgets import theme
from upright_bolt.desktop.workbench.range_slider import ScaleStrip
from upright_bolt.model.run import WorkError
from window_support import QTest, click, draft, row, run_to_end, type_value, until, words_of

# scale strips


@pytest.fixture
def strip(window) -> ScaleStrip:
    return row(window, "sustained").strip


DRAFTED_BY = {
    Qt.Key.Key_Right: 19.0,
    Qt.Key.Key_Up: 19.0,
    Qt.Key.Key_Left: 17.0,
    Qt.Key.Key_PageUp: 23.0,
    Qt.Key.Key_PageDown: 13.0,
    Qt.Key.Key_Home: 6.0,
    Qt.Key.Key_End: 60.0,
}


def test_keys_draft_a_step_five_steps_or_an_end(window, strip):
    strip.setFocus()
    for key, value in DRAFTED_BY.items():
        QTest.keyClick(strip, key)
        assert draft(window) == value, key
        assert row(window, "sustained").entry.text() == f"{value:.0f} W"
        QTest.keyClick(strip, Qt.Key.Key_Escape)
        assert draft(window) is None
        assert row(window, "sustained").entry.text() == "18 W"


def test_a_click_and_a_drag_draft_what_lies_under_the_pointer(window, strip):
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(round(strip.x_of(30.0)), 15))
    assert draft(window) == pytest.approx(30.0, abs=1)
    QTest.mousePress(strip, Qt.MouseButton.LeftButton, pos=QPoint(round(strip.x_of(30.0)), 15))
    QTest.mouseMove(strip, QPoint(round(strip.x_of(40.0)), 15))
    QTest.mouseRelease(strip, Qt.MouseButton.LeftButton, pos=QPoint(round(strip.x_of(40.0)), 15))
    assert draft(window) == pytest.approx(40.0, abs=1) or draft(window) == pytest.approx(30.0, abs=1)
    assert draft(window) % 1 == 0  # on whole steps
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(0, 15))
    assert draft(window) == 6.0


def wheel(strip, up):
    centre = QPointF(strip.rect().center())
    turn = QPoint(0, 120 if up else -120)
    no = Qt.KeyboardModifier.NoModifier
    event = QWheelEvent(
        centre, QPointF(strip.mapToGlobal(strip.rect().center())), QPoint(), turn, Qt.MouseButton.NoButton, no,
        Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(strip, event)
    return event.isAccepted()


def test_the_wheel_steps_only_with_the_focus(window, strip):
    row(window, "burst").strip.setFocus()
    assert not wheel(strip, up=True)
    assert draft(window) is None
    strip.setFocus()
    assert wheel(strip, up=True)
    wheel(strip, up=True)
    assert draft(window) == 20.0
    wheel(strip, up=False)
    assert draft(window) == 19.0


def test_a_strip_tells_itself_in_words(window, strip):
    assert strip.accessibleName() == "Sustained limit (PL1)"
    assert strip.accessibleDescription() == "in force 18 W, stock 18 W, from 6 W to 60 W"
    window.presenter.draft_values({"sustained": 25.0})
    assert "draft 25 W" in strip.accessibleDescription()


def test_value_and_place_on_a_strip_agree(window):
    for name in ("sustained", "burst", "window", "epp", "clock-max", "core-offset"):
        strip = row(window, name).strip
        control = window.presenter.controls[name]
        for share in (0.0, 0.2, 0.5, 0.77, 1.0):
            value = control.minimum + share * (control.maximum - control.minimum)
            assert strip.value_at(strip.x_of(value)) == pytest.approx(value, abs=max(control.step, 0.6)), name


def test_strips_carry_what_past_runs_proved_and_broke(window):
    record = run_to_end(window, "60s", "proof")
    strip = row(window, "sustained").strip
    until(lambda: "1 min passed at 18 W" in strip.accessibleDescription())
    plain = strip.grab().toImage()
    wrong = replace(record, errors=(WorkError(3.0, 1, "vector", "wrong result"),))
    window.workbench.settings.show_evidence(
        evidence([wrong, replace(record, head=replace(record.head, machine="host"))], "twin:tern")
    )
    assert "went wrong at 18 W" in strip.accessibleDescription()
    assert strip.grab().toImage() != plain


# typed values


def test_typed_values_become_the_draft_in_words(window):
    type_value(window, "sustained", "25W")
    type_value(window, "clock-max", "3.2 GHz")
    assert window.presenter.draft == {"sustained": 25.0, "clock-max": 3200.0}
    assert "Draft: sustained 18 W → 25 W, clock-max 4.20 GHz → 3.20 GHz" in words_of(window.workbench.settings)


def test_what_cannot_be_used_stays_as_typed_with_a_sentence(window):
    shown = row(window, "sustained")
    for text, said in (("25 s", "unit s, which does not fit"), ("999 W", "6 W to 60 W"), ("many", "not a number")):
        type_value(window, "sustained", text)
        assert said in shown.fault
        assert shown.entry.text() == text
        assert draft(window) is None
        QTest.qWait(700)  # new snapshots must not overwrite what was typed
        assert shown.entry.text() == text
        type_value(window, "sustained", "24")  # of the unit shown
        assert shown.fault == ""
        assert draft(window) == 24.0
        type_value(window, "sustained", "18 W")


def test_the_words_of_turbo_and_governor_are_buttons(window):
    off = row(window, "turbo")._words["off"]
    click(off)
    assert window.presenter.draft == {"turbo": "off"}
    assert off.text() == "◇ off"
    click(row(window, "turbo")._words["on"])
    assert window.presenter.draft == {}


# trials


def test_try_keep_and_put_back_by_the_buttons(window):
    presenter, top = window.presenter, window.strip
    assert "Stock settings" in words_of(top)
    type_value(window, "sustained", "25 W")
    type_value(window, "epp", "96")
    click(window.workbench.settings.try_button)
    until(lambda: presenter.status.trial is not None)
    assert "Trial running" in words_of(top)
    assert "Trying sustained 25 W, epp 96" in words_of(top)
    assert presenter.controls["sustained"].current == 25.0
    assert "read back from the machine" in words_of(window.workbench.settings)
    click(top.revert)
    until(lambda: presenter.status.trial is None)
    assert presenter.controls["sustained"].current == 18.0
    type_value(window, "burst", "30 W")
    QTest.keyClick(window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    until(lambda: presenter.status.trial is not None)
    click(top.keep)
    until(lambda: presenter.status.trial is None)
    assert "Kept: burst 30 W" in words_of(top)


def test_a_refused_draft_says_why_and_stays_a_draft(window):
    window.presenter.draft_values({"clock-min": 3000.0})
    window.presenter.draft_values({"clock-max": 2000.0})
    click(window.workbench.settings.try_button)
    until(lambda: window.presenter.outcome.startswith("✕"))
    assert "above the highest" in words_of(window.workbench.settings)
    assert window.presenter.draft == {"clock-min": 3000.0, "clock-max": 2000.0}


def test_closing_the_window_puts_its_trial_back(open_app, data):
    app = open_app()
    app.presenter.draft_values({"sustained": 25.0})
    app.presenter.try_draft()
    until(lambda: app.presenter.status.trial is not None)
    app.window.close()
    session = open_session("twin:tern", data, "a test", exclusive=True)
    assert session.controls()["sustained"].current == 18.0
    assert session.recovered == ""
    session.close()


def test_plugging_the_twin_shows_source_and_drift(window):
    presenter = window.presenter
    presenter.draft_values({"sustained": 25.0})
    presenter.try_draft()
    until(lambda: presenter.status.trial is not None)
    assert "On charger" in words_of(window.strip)
    window.workbench.run.form.pace.setCurrentIndex(2)
    click(window.strip.source)
    until(lambda: presenter.status.drift)
    assert "On battery" in words_of(window.strip)
    assert "unplugged: the firmware set sustained 12 W" in words_of(window.strip)
    assert "no longer in force" not in words_of(window.strip)
    assert "the firmware has set 12 W since the charger was unplugged" in window.strip._force.toolTip()
    assert any(event.kind == "reset" for event in presenter.history.events)


# other views and machines


def test_views_by_keys_and_the_machine_sheet(window):
    QTest.keyClick(window, Qt.Key.Key_1, Qt.KeyboardModifier.AltModifier)
    until(window.machine.isVisible)
    until(lambda: "34" in words_of(window.machine) or "°C" in words_of(window.machine))
    words = words_of(window.machine)
    for text in (
        "Halyard Q6-4200T",
        "Sustained limit (PL1)",
        "● CAN BE SET HERE",
        "6 W to 60 W",
        "Package temperature",
    ):
        assert text in words
    QTest.keyClick(window, Qt.Key.Key_4, Qt.KeyboardModifier.AltModifier)
    until(window.compare.isVisible)


def test_compare_by_keyboard_filter_and_delete(window):
    for name in ("first", "second"):
        run_to_end(window, "10s", name)
    window.show_view("compare")
    runs = window.compare.runs
    until(lambda: runs.list.rows.rowCount() == 2)
    runs.list.choose_row(0)
    until(lambda: window.compare.chosen == [1, 2])
    QTest.keyClick(runs.list, Qt.Key.Key_Space)
    assert window.compare.chosen == [1]
    QTest.keyClick(runs.list, Qt.Key.Key_Space)
    assert window.compare.chosen == [1, 2]
    runs.filter.setText("second")
    assert runs.list.rows.rowCount() == 1
    runs.filter.setText("")
    runs.list.choose_row(0)
    QTest.keyClick(runs.list, Qt.Key.Key_Delete)
    until(lambda: runs.list.rows.rowCount() == 1)
    assert [run.head.label for run in window.presenter.runs.all] == ["first"]


def test_this_computer_in_the_window_says_what_is_not_measured(open_app):
    window = open_app("host", theme.DARK).window
    presenter = window.presenter
    until(lambda: len(presenter.history) > 3)
    charts = window.workbench.charts
    charts.draw()
    measured = presenter.history.measured
    for chart, begins in ((charts.clock, "clock.cpu"), (charts.power, "power.package"),
                          (charts.temperature, "temperature.package")):  # fmt: skip
        assert chart.isVisible() == any(name.startswith(begins) for name in measured)
    nothing = not any(chart.isVisible() for chart in (charts.clock, charts.power, charts.temperature))
    assert charts.busy.isVisible() == nothing
    assert ("A run shows its pace as well" in words_of(charts)) == nothing
    assert ("Not on this machine:" in words_of(window.workbench.settings)) == bool(presenter.outline.about.gaps)
    click(window.workbench.settings.why_button)
    assert window.machine.isVisible()
    for why in gap_words(presenter.outline.about.gaps).values():
        assert why[1:] in words_of(window.machine)
    assert not window.workbench.run.form.pace.isVisibleTo(window.workbench.run)


def test_a_folder_has_no_cores_to_run_on(open_app, tmp_path):
    root = tmp_path / "tree"
    root.mkdir()
    window = open_app(f"tree:{root}").window
    assert not window.workbench.run.start.isEnabled()
    assert "no processor on which" in words_of(window.workbench.run)
    assert "Not on this machine: sustained limit (PL1), burst limit (PL2)" in words_of(window.workbench.settings)
    assert window.workbench.settings.rows == {}


def test_a_minimised_window_samples_rarely_and_catches_up(open_app):
    app = open_app()
    app.window.showMinimized()
    until(lambda: app.thread.period_s == 2.0)
    told = []
    app.presenter.live.connect(lambda _: told.append(app.presenter.sample.time_s))
    before = app.presenter.sample.time_s
    until(lambda: app.presenter.sample.time_s > before + 2.5)
    assert told == []
    app.window.showNormal()
    until(lambda: told != [])
    assert app.thread.period_s == 0.5


def test_what_the_window_asks_for_does_not_wait_for_the_next_sample(open_app):
    app = open_app()
    app.thread.period_s = 3600.0
    taken, answers = [], []
    app.thread.ask(lambda session: taken.append(session.machine.clock.now_s()), answers.append, answers.append)
    until(lambda: len(answers) == 1)
    app.thread.ask(lambda session: taken.append(session.machine.clock.now_s()), answers.append, answers.append)
    until(lambda: len(answers) == 2)
    assert taken[1] - taken[0] < 1800.0


def test_a_drag_of_a_strip_tells_one_listener_and_costs_few_calls(open_app):
    app = open_app()
    presenter, strip = app.presenter, row(app.window, "sustained").strip
    until(lambda: presenter.sample is not None)
    others = []
    for topic in (presenter.live, presenter.settings_changed, presenter.runs.changed, presenter.said):
        topic.connect(others.append)
    drafted, calls = [], []
    presenter.drafted.connect(drafted.append)
    at = QPointF(80.0, 15.0)
    drag = QMouseEvent(
        QEvent.Type.MouseMove, at, strip.mapToGlobal(at), Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton,
        Qt.KeyboardModifier.NoModifier,
    )  # fmt: skip

    def count(_frame, event, _arg):
        if event == "call":
            calls.append(1)

    sys.setprofile(count)
    try:
        application().sendEvent(strip, drag)
    finally:
        sys.setprofile(None)
    assert drafted == ["sustained"]
    assert others == []
    assert len(calls) < 100
    assert "Draft: sustained" in words_of(app.window.workbench.settings)


def test_the_sheet_is_copied_as_text(open_app):
    window = open_app("twin:plover").window
    window.show_view("machine")
    click(window.machine.copy_button)
    text = application().clipboard().text()
    assert text.startswith("Opened as twin:plover: a simulated machine.\nplover: Halyard N4-900Y, 4 cores, 8 threads\n")
    assert "locked by the firmware until the next power cycle" in text
    assert window.machine.copy_button.text() == "Copied"


def test_a_protection_is_taken_away_only_after_its_name_was_typed(open_app):
    app = open_app()
    machine, presenter = app.window.machine, app.presenter
    app.window.show_view("machine")
    take_away = next(b for b in machine.findChildren(QPushButton) if b.text() == "Take away…")
    click(take_away)
    assert machine.asking.isVisible()
    assert not machine.asking.go.isEnabled()
    QTest.keyClicks(machine.asking.entry, "hot-signal")
    assert machine.asking.go.isEnabled()
    click(machine.asking.go)
    until(lambda: presenter.status.trial is not None)
    assert presenter.controls["hot-signal"].current == "off"
    assert "hot-signal" not in app.window.workbench.settings.rows
    presenter.revert()
    until(lambda: presenter.controls["hot-signal"].current == "on")


def test_lists_and_tables_are_drafted_in_the_settings_column(open_app):
    window = open_app().window
    idle = row(window, "idle-off")
    click(idle._words["C6"])
    click(idle._words["C10"])
    assert window.presenter.draft == {"idle-off": "C6,C10"}
    click(idle._words["C6"])
    assert window.presenter.draft == {"idle-off": "C10"}
    type_value(window, "turbo-table", "4.0, 4.0, 3.9, 3.8, 3.7, 3.6 GHz")
    assert window.presenter.draft["turbo-table"] == "4000,4000,3900,3800,3700,3600"
    type_value(window, "turbo-table", "4.0 GHz")
    assert "it has 6 clocks here" in row(window, "turbo-table").fault
    window.presenter.try_draft()
    until(lambda: window.presenter.status.trial is not None)
    assert window.presenter.controls["turbo-table"].current == "4000,4000,3900,3800,3700,3600"


def test_the_next_snapshot_waits_until_the_one_before_is_drawn(open_app):
    app = open_app()
    app.presenter.set_pace(300.0)
    until(lambda: app.thread._session.machine.set_pace.__self__.pace == 300.0)
    QTest.qWait(50)
    taken = []
    app.thread.snapshot.connect(lambda snapshot: taken.append(len(snapshot.samples)))
    clock = app.thread._session.machine.clock
    begun = clock.now_s()
    waiting.until(lambda: clock.now_s() > begun + 300.0)  # a second and more, in which this thread draws nothing
    QApplication.sendPostedEvents()
    assert len(taken) <= 1
    until(lambda: sum(taken) > 100)
