"""Runs, charts and other machines in the real window, offscreen, used as a person would."""

import os
import signal

import numpy as np
import pytest
from PyQt6.QtCore import Qt

from upright_bolt.app import open_session
from upright_bolt.desktop.walkthrough import Walkthrough
from upright_bolt.desktop.widgets import theme
from upright_bolt.model.event import RunStarted
from upright_bolt.model.run import RunState
from upright_bolt.presentation.ports import Snapshot
from upright_bolt.store.runs import RunStore
from upright_bolt.text.events import sentence
from window_support import QTest, click, row, run_to_end, type_value, until, words_of


def test_the_story_in_the_window(window):
    presenter, panel = window.presenter, window.workbench.run
    stock = run_to_end(window, "2 min", "stock")
    assert stock.end.state is RunState.FINISHED
    assert presenter.runs.baseline_id == stock.id
    window.presenter.draft_values({"sustained": 25.0})
    window.presenter.draft_values({"burst": 25.0})
    click(window.workbench.settings.try_button)
    until(lambda: presenter.status.trial is not None)
    flat = run_to_end(window, "120s", "flat")
    compared, verdict_text = presenter.runs.against_baseline(presenter.progress)
    assert compared.run.id == flat.id
    assert compared.percent["power_burst_w"] < -10
    assert verdict_text in words_of(panel)
    for text in ("Power source", "charger", "Start", "alike"):
        assert text in words_of(panel)
    until(lambda: panel.open.isEnabled())
    click(panel.open)
    assert window.compare.isVisible()
    table = window.compare.table
    assert [table.item(i, 0).text().split()[-1] for i in range(2)] == ["stock", "flat"]
    assert "%" in table.item(1, 1).text()
    until(lambda: len(window.compare.overlay.drawn) == 2)
    assert len(window.compare.overlay.shown()) == 6  # three charts, two runs
    times, clocks = window.compare.overlay.shown()[0].line.getData()
    assert times[-1] == pytest.approx(120, abs=3)
    assert 0.5 < clocks.max() < 4.3


def test_progress_time_left_and_stopping(window):
    presenter, panel = window.presenter, window.workbench.run
    panel.form.pace.setCurrentIndex(2)
    panel.form.length.setEditText("30 min")
    click(panel.start)
    until(lambda: presenter.progress is not None and presenter.progress.elapsed_s > 30)
    assert "of 30:00" in words_of(panel)
    assert "left" in words_of(panel)
    assert not panel.start.isVisible()
    click(panel.stop)
    until(lambda: presenter.runs.last is not None)
    assert presenter.runs.last.end.state is RunState.STOPPED
    until(lambda: panel.start.isVisible())


def test_closing_during_a_run_keeps_it_as_stopped(open_app, data):
    app = open_app()
    app.window.workbench.run.form.pace.setCurrentIndex(2)
    app.presenter.start_run("steady", "10min", "closed")
    until(lambda: app.presenter.progress is not None and app.presenter.progress.elapsed_s > 10)
    app.window.close()
    store = RunStore(data / "runs.sqlite")
    record = store.get(1)
    assert (record.end.state, record.end.why) == (RunState.STOPPED, "the program was closed")
    store.close()


def test_a_bad_length_is_a_sentence_and_no_run(window):
    for length, said in (("10 W", "unit W, which does not fit"), ("1 s", "from 5 s to 24 h"), ("long", "not a number")):
        window.presenter.start_run("steady", length, "")
        until(lambda said=said: said in window.presenter.outcome)
        assert window.presenter.progress is None


# charts


def test_charts_show_what_was_sampled(window):
    run_to_end(window, "60s", "short")
    charts, history = window.workbench.charts, window.presenter.history
    window.show_view("workbench")
    charts.follow()
    (low, high), _ = charts.clock.getPlotItem().getViewBox().viewRange()
    assert high - low == pytest.approx(621, abs=1)
    assert charts.power.getPlotItem().getViewBox().viewRange()[0] == [low, high]  # one time axis for all
    times = history.column("time")
    charts._look_around()
    charts.clock.setXRange(float(times[0]), float(times[-1]), padding=0)  # however much has passed since the run
    charts.draw()
    until(lambda: not charts._steps.busy)
    _, power = charts._power.getData()
    assert np.nanmax(power) == pytest.approx(45.0, abs=0.5)
    _, limit = charts._sustained.getData()
    assert set(limit[~np.isnan(limit)]) == {18.0}
    assert np.nanmax(charts._temperature.getData()[1]) == np.nanmax(history.column("temperature"))
    assert "Run 1 started" in [sentence(event) for event in history.events]
    spans = charts.lanes._bars
    total = {
        c.value: sum(b - a for a, b in zip(bar.opts["x0"], bar.opts["x1"], strict=True)) for c, bar in spans.items()
    }
    assert charts.pace.isVisible()
    times, scores = charts._slices.getData()
    assert np.diff(times) == pytest.approx(np.full(5, 10.0), abs=0.6)
    assert scores[-1] == pytest.approx(window.presenter.runs.last.slices[-1].score)
    assert total["sustained limit"] > 30
    assert 8 < total["burst limit"] < 20
    bare = charts.clock.viewport()
    QTest.mouseDClick(bare, Qt.MouseButton.LeftButton, pos=bare.rect().center())
    (low, high), _ = charts.clock.getPlotItem().getViewBox().viewRange()
    assert high - low == pytest.approx(621, abs=1)  # a double click returns to the present


def test_flags_and_compare_pictures_carry_what_happened(window):
    presenter = window.presenter
    run_to_end(window, "60s", "first")
    presenter.draft_values({"turbo": "off"})
    presenter.try_draft()
    until(lambda: presenter.status.trial is not None)
    run_to_end(window, "60s", "second")
    window.compare.choose([1, 2])
    window.show_view("compare")
    overlay = window.compare.overlay
    until(lambda: overlay.drawn == [1, 2] and len(overlay.shown()) == 6)
    bands = [item for item in overlay.bands._drawn if hasattr(item, "opts") and "brush" in item.opts]
    assert len(bands) >= 3  # burst and sustained in the first run, a clock cap in the second
    ends = [max(bar.opts["x1"]) for bar in bands]
    assert max(ends) == pytest.approx(60, abs=3)
    spots = window.compare.watts._dots.data
    assert len(spots) == 2
    assert {round(spot["y"]) for spot in spots} == {round(run.end.numbers.score_settled) for run in presenter.runs.all}
    assert {words.toPlainText() for words in window.compare.watts._letters} == {"A", "B"}
    window.show_view("workbench")
    flags = window.workbench.charts.flags
    times = presenter.history.column("time")
    flags.draw(presenter.history.events, float(times[0]), float(times[-1]))
    shown = " ".join(text for _, text, _ in flags._shown)
    for words in ("Run 1 started", "Run 1 ended", "Tried turbo off", "Run 2 ended"):
        assert words in shown


def test_the_machine_view_follows_the_sensors(window):
    window.show_view("machine")
    values, sensors = window.machine.readings.values, window.presenter.outline.sensors
    until(lambda: any(label.text().endswith("°C") for label in values.values()))
    shown = {sensors[index].name: label.text() for index, label in values.items()}
    assert len(shown) == len(sensors)
    assert shown["limit.sustained"] == "18 W"
    assert shown["charger"] == "yes"
    assert shown["clock.mean"].endswith("Hz")


@pytest.mark.parametrize("machine", ["twin:skerry", "twin:plover"])
def test_other_machines_in_the_window(open_app, machine):
    window = open_app(machine, theme.DARK).window
    words = words_of(window.workbench.settings)
    assert "Not on this machine: " in words
    assert "core voltage offset" in words
    assert "core-offset" not in window.workbench.settings.rows
    sustained = row(window, "sustained")
    assert sustained.strip.isEnabled() == (machine == "twin:skerry")
    assert window.strip.source.isVisibleTo(window) == (machine == "twin:plover")  # the other has no battery
    if machine == "twin:plover":
        assert "locked" in words
        assert "lock bit" in sustained.toolTip()
        type_value(window, "clock-max", "2 GHz")
        click(window.workbench.settings.try_button)
        until(lambda: window.presenter.status.trial is not None)
        assert window.presenter.controls["clock-max"].current == 2000.0


def test_a_machine_that_freezes_is_said_its_run_is_kept_and_it_is_opened_again(open_app):
    app = open_app()
    frozen = app.thread
    app.window.workbench.run.form.pace.setCurrentIndex(2)
    app.presenter.start_run("steady", "10min", "froze")
    until(lambda: app.presenter.progress is not None and app.presenter.progress.elapsed_s > 5)
    for name in ("core-offset", "cache-offset"):
        app.presenter.draft_values({name: -160.0})
    app.presenter.try_draft()
    until(lambda: "froze and was restarted" in app.presenter.outcome and app.thread is not frozen)
    assert not frozen._thread.is_alive()
    record = app.store.get(1)
    assert record.end.state is RunState.RESTARTED
    assert "froze" in record.end.why
    until(lambda: app.presenter.sample is not None)
    assert app.presenter.status.trial is None
    until(lambda: {app.presenter.controls[name].current for name in ("core-offset", "cache-offset")} == {0.0})
    assert "froze and was restarted" in app.presenter.outcome


def test_what_the_engine_sent_before_the_end_finds_no_widgets(open_app):
    app = open_app()
    app.window.close()
    app.tear_down()
    app.presenter.take(Snapshot(events=[RunStarted(1.0, 1)]))
    app.presenter.say("too late")
    assert app.presenter.outcome == "too late"


def test_a_played_example_that_is_told_to_end_puts_its_machine_down(data, qapp_kept):
    session = open_session("twin:tern", data, "the example", exclusive=True)
    played = []

    def tell(words):
        played.append(words)
        if len(played) == 3:
            os.kill(os.getpid(), signal.SIGTERM)  # while Qt's loop runs, in which an exception would get lost

    example = Walkthrough(session, data, data / "pictures", tell)
    with pytest.raises(KeyboardInterrupt):
        example.play()
    assert len(played) == 3
    again = open_session("twin:tern", data, "a later test", exclusive=True)
    assert again.status().trial is None
    again.close()
