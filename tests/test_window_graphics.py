"""Graphics chips in the window: the search's form and question, the ladder of both, lanes, and what Compare shows."""

import pytest

from support import SimulatedSession
from upright_bolt.model.constraint import CODE, Constraint
from upright_bolt.model.search import Outcome, Purpose
from upright_bolt.model.start import Start
from upright_bolt.model.work import Options, Work
from upright_bolt.session.chip_wake import wake_chip
from upright_bolt.session.series import SeriesRequest, start_series
from upright_bolt.session.session import SAMPLE_S
from upright_bolt.session.starting import start_run
from upright_bolt.session.steps import ladder
from window_support import FAST, QTest, until

VOLTAGE = "gpu03.voltage-offset"


@pytest.fixture
def with_ladder(data):
    """Keep a ladder of ``both`` and a run on the chip alone, and leave the machine."""
    twin = SimulatedSession(data)
    asked = SeriesRequest(
        ladder("sustained,burst=15W..45W/15W", {}, 1), Work("both", 30.0, options=Options(chip="gpu03"))
    )
    series = start_series(twin.session, asked, twin.store)
    while not series.ended:
        twin.session.tick()
        twin.session.end_run()
        twin.pass_time(SAMPLE_S)
    twin.run(30.0, "alone", workload="graphics", options=Options(chip="gpu03"))
    twin.close()
    return data


def test_the_form_offers_the_chips_axes_in_their_units(open_app):
    window = open_app().window
    window.show_view("edge")
    form = window.edge.form
    until(lambda: form.axis.findData(VOLTAGE) >= 0)
    form.axis.setCurrentIndex(form.axis.findData(VOLTAGE))
    assert form.soak.currentData() == "20min"
    form.at.setText("2.1 GHz")
    typed = form.typed()
    assert (typed.axis, typed.at, typed.soak) == (VOLTAGE, "2.1 GHz", "20min")
    form.axis.setCurrentIndex(form.axis.findData("gpu03.memory-clock"))
    form.reach.setText("40")
    assert form.typed().reach == "40 MHz"
    form.axis.setCurrentIndex(form.axis.findData("core,cache"))
    assert form.soak.currentData() == "10min"
    assert form.typed().at == ""


def test_what_has_failed_is_hatched_on_the_side_of_danger(open_app):
    app = open_app("twin:tern-two-rails")
    app.thread.ask(lambda session: wake_chip(session, "gpu03"), lambda _: None, pytest.fail)
    rows = app.window.workbench.settings.rows
    until(lambda: "gpu03.clock-offset" in rows and rows["gpu03.clock-offset"].strip is not None)
    until(lambda: app.presenter.controls["gpu03.clock-offset"].settable)
    for name, failed_at, beyond in (("gpu03.clock-offset", 250.0, 400.0), ("core-offset", -90.0, -200.0)):
        strip = rows[name].strip
        before = strip.grab().toImage()
        strip.show_ground(failed_at)
        image = strip.grab().toImage()

        def hatched(value, strip=strip, before=before, image=image):
            x = round(strip.x_of(value))
            places = [(x + i, y) for i in range(-6, 7) for y in range(14, 21)]
            return any(image.pixel(*place) != before.pixel(*place) for place in places)

        assert hatched(beyond)
        assert not hatched(-beyond if beyond > 0.0 else -20.0)


def test_a_search_of_a_chip_asks_how_its_use_went(open_app):
    app = open_app()
    window, presenter = app.window, app.presenter
    window.show_view("edge")
    form = window.edge.form
    until(lambda: form.axis.findData(VOLTAGE) >= 0)
    window.workbench.run.form.pace.setCurrentIndex(FAST)
    form.axis.setCurrentIndex(form.axis.findData(VOLTAGE))
    form.soak.setCurrentIndex(form.soak.findData("0"))
    form.use.setCurrentIndex(form.use.findData("30min"))
    form.begin.click()
    until(lambda: presenter.searches.progress is not None and presenter.searches.progress.question is not None)
    standing = window.edge.standing
    until(lambda: standing._answers.isVisibleTo(standing))
    presenter.searches.answer(Outcome.PASSED)
    until(lambda: presenter.searches.progress is None and presenter.searches.shown is not None)
    until(lambda: presenter.searches.shown.search.end is not None)
    used = [end.outcome for rung, end in presenter.searches.shown.search.ended if rung.purpose is Purpose.IN_USE]
    assert used == [Outcome.PASSED]


def test_who_gets_the_heat_is_a_picture_with_its_sentence(with_ladder, open_app):
    app = open_app()
    window = app.window
    window.show_view("compare")
    compare = window.compare
    compare.show_page(1)
    sweep = compare.sweep
    until(lambda: sweep.result.findData("shared") >= 0)
    sweep.result.setCurrentIndex(sweep.result.findData("shared"))
    until(lambda: len(sweep.chart.lines) == 2)
    frames, processor = sweep.chart.lines
    assert (frames.words, processor.words) == ("frames", "processor score")
    assert max(point.mean for point in frames.points) == pytest.approx(100.0)
    assert processor.points[0].mean < 75.0 < processor.points[-1].mean
    assert "more frames for" in sweep._said.text()
    form = sweep.form
    form.workload.setCurrentIndex(form.workload.findData("both"))
    assert form.chip.isVisibleTo(form)
    form.start.click()
    until(lambda: "name the one that works" in app.presenter.outcome)
    form.workload.setCurrentIndex(form.workload.findData("steady"))
    assert not form.chip.isVisibleTo(form)


def test_compare_shows_the_chips_numbers_and_what_held_it(with_ladder, open_app):
    window = open_app().window
    window.show_view("compare")
    compare = window.compare
    until(lambda: window.compare.runs.shown)
    runs = {run.head.workload: run.id for run in window.compare.runs.shown}
    compare.choose([runs["graphics"]])
    until(lambda: compare.table.columnCount() == 9)
    heads = [compare.table.horizontalHeaderItem(i).text().replace("\n", " ") for i in range(9)]
    assert "Graphics clock" in heads
    assert "Clock settled" not in heads
    assert "voltage ceiling" in compare.table.item(0, 8).text()
    compare.choose([runs["both"]])
    until(lambda: compare.table.columnCount() > 9)


def test_lanes_of_a_chip_stand_there_while_it_is_awake(open_app):
    app = open_app()
    window, presenter = app.window, app.presenter
    charts = window.workbench.charts
    QTest.qWait(200)
    assert not charts.chip_lanes.isVisibleTo(charts)
    window.workbench.run.form.pace.setCurrentIndex(FAST)
    work = Work("graphics", 60.0, options=Options(chip="gpu03"), start=Start.AT_ONCE)
    app.thread.ask(lambda session: start_run(session, work, "alone", app.store), lambda _: None, pytest.fail)
    until(lambda: charts.chip_lanes.isVisibleTo(charts))
    until(lambda: CODE[Constraint.VOLTAGE] in presenter.history.column("chip_held").tolist())
