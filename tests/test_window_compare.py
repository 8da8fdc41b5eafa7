"""Compare and the run column in the real window: filters, sweeps, ladders, files, one run by itself."""

import pytest
from PyQt6.QtCore import Qt

from upright_bolt.desktop.compare.run_report import RunReport
from upright_bolt.model.run import RunState
from window_support import FAST, QTest, begin_at_once, click, run_to_end, until, words_of


def run_through(window, workload="steady", length="10s", name="", **fields):
    panel = window.workbench.run
    panel.form.pace.setCurrentIndex(FAST)
    panel.form.workload.setCurrentIndex(panel.form.workload.findData(workload))
    panel.form.length.setEditText(length)
    panel.form.label.setText(name)
    for entry, text in fields.items():
        getattr(panel.form, entry).setText(text)
    begin_at_once(panel)
    count = len(window.presenter.runs.all)
    click(panel.start)
    until(lambda: len(window.presenter.runs.all) > count and window.presenter.progress is None)
    return window.presenter.runs.all[0]


@pytest.fixture
def two(window):
    """A window with a run of all cores and one of frames."""
    run_through(window, "steady", "40s", "all cores")
    run_through(window, "frames", "10s", "paced", threads="3")
    window.show_view("compare")
    until(lambda: window.compare.runs.list.rows.rowCount() == 2)
    return window


def test_the_run_column_takes_what_each_workload_takes(two):
    frames = two.presenter.runs.all[0]
    assert frames.head.conditions.threads == 3
    two.show_view("workbench")
    words = words_of(two.workbench.run)
    assert "0.1 % low" in words
    assert "Latency" not in words
    panel = two.workbench.run
    assert not panel.form.command.isVisibleTo(panel)
    command = run_through(two, "command", "5min", "a stand-in", command="render all")
    assert command.head.options.command == ("render", "all")
    assert command.end.state is RunState.FINISHED
    panel.form.command.setText("")
    click(panel.start)
    until(lambda: "Name the command" in two.presenter.outcome)
    panel.form.workload.setCurrentIndex(panel.form.workload.findData("idle"))
    assert panel.form.length.currentText() == "3 min"
    assert not panel.form.threads.isEnabled()


def test_repeats_are_asked_for_in_the_run_column(window):
    panel = window.workbench.run
    panel.form.pace.setCurrentIndex(FAST)
    panel.form.times.setCurrentIndex(panel.form.times.findData(3))
    panel.form.length.setEditText("5 min")
    begin_at_once(panel)
    click(panel.start)
    until(lambda: "of 4:" in words_of(panel))
    until(lambda: len(window.presenter.runs.all) == 4 and window.presenter.records.series is None)
    assert len({run.head.series for run in window.presenter.runs.all}) == 1
    assert "The series is done" in window.presenter.outcome or "is kept" in window.presenter.outcome


def test_filters_leave_what_is_asked_for(two):
    runs = two.compare.runs
    assert [runs.workload.itemText(i) for i in range(runs.workload.count())] == ["Any work", "steady", "frames"]
    runs.workload.setCurrentIndex(runs.workload.findData("frames"))
    assert [run.name for run in runs.shown] == ["paced"]
    runs.workload.setCurrentIndex(0)
    runs.filter.setText("all c")
    assert [run.name for run in runs.shown] == ["all cores"]
    runs.filter.setText("")
    runs.age.setCurrentIndex(1)
    assert len(runs.shown) == 2
    assert runs.machine.findData("twin:tern") > 0
    assert "RUNS  2" in words_of(runs)


def test_a_ladder_is_run_from_the_window_and_drawn(two):
    compare = two.compare
    click(compare.tabs[1])
    form = compare.sweep.form
    form.control.setCurrentIndex(form.control.findData("sustained"))
    for entry, text in ((form.first, "14"), (form.last, "22 W"), (form.step, "4"), (form.length, "10 s")):
        entry.setText(text)
    click(form.start)
    until(lambda: compare.sweep.form.stop.isVisibleTo(form))
    until(lambda: "Run 2 of 4, sustained 14 W" in words_of(form))
    until(lambda: len(two.presenter.runs.all) == 6 and two.presenter.records.series is None)
    assert two.presenter.outcome == "The series is done; everything is put back."
    until(lambda: two.presenter.controls["sustained"].current == 18.0)
    sweep = compare.sweep
    sweep.control.setCurrentIndex(sweep.control.findData("sustained"))
    sweep.result.setCurrentIndex(sweep.result.findData("power_burst_w"))
    until(lambda: [point.x for line in sweep.chart.lines[:1] for point in line.points] == [14.0, 18.0, 22.0])
    assert "runs of steady on twin:tern" in words_of(sweep)
    compare.runs.filter.setText("paced")
    until(lambda: "No control had different values" in sweep.chart._empty.toPlainText())


TYPED_WRONGLY = (
    ("first", "14 V", "has the unit V, which does not fit"),
    ("step", "0 W", "more than nothing"),
    ("length", "long", "not a number"),
    ("cool_to", "45 W", "has the unit W, which does not fit"),
    ("last", "4000 W", "can be made in one go"),
)


def test_a_ladder_typed_wrongly_is_said_and_nothing_is_run(window):
    window.show_view("compare")
    click(window.compare.tabs[1])
    form = window.compare.sweep.form
    usual = {"first": "14 W", "last": "22 W", "step": "4 W", "length": "10 s", "cool_to": ""}
    for field, text, said in TYPED_WRONGLY:
        for name, words in usual.items():
            getattr(form, name).setText(words)
        getattr(form, field).setText(text)
        click(form.start)
        until(lambda said=said: said in window.presenter.outcome)
        assert window.presenter.progress is None


def test_a_ladder_stopped_in_the_middle_puts_back(window):
    window.show_view("compare")
    click(window.compare.tabs[1])
    window.workbench.run.form.pace.setCurrentIndex(FAST)
    form = window.compare.sweep.form
    form.length.setText("10 min")
    click(form.start)
    until(lambda: (p := window.presenter.progress) is not None and p.elapsed_s > 5)
    click(form.stop)
    until(lambda: window.presenter.records.series is None and window.presenter.progress is None)
    until(lambda: window.presenter.controls["sustained"].current == 18.0)
    until(lambda: len(window.presenter.runs.all) == 1)
    assert window.presenter.runs.all[0].end.state is RunState.STOPPED


def test_files_go_out_and_come_in(two, tmp_path):
    files = two.compare.files
    two.compare.choose([1, 2])
    for kind, start in (("report", "<!doctype"), ("table", "number,"), ("list", "id,"), ("telemetry", "time_s,"),
                        ("json", '{"format"')):  # fmt: skip
        path = tmp_path / kind
        files.write(kind, path)
        until(lambda path=path: two.presenter.outcome == f"Written to {path}.")
        assert path.read_text().startswith(start)
    text = (tmp_path / "json").read_text()
    keys = [run.head.key for run in two.presenter.runs.all]
    for key in keys:
        text = text.replace(key, "other" + key)
    (tmp_path / "slate.json").write_text(text)
    two.presenter.records.bring_in(tmp_path / "slate.json")
    until(lambda: len(two.presenter.runs.all) == 4)
    assert two.presenter.outcome == "Taken in as run 3, 4."
    assert two.presenter.runs.all[0].head.machine == "twin:tern@slate"
    until(lambda: two.compare.runs.machine.count() == 3)
    files.write("report", tmp_path / "no" / "folder")
    until(lambda: "cannot be written" in two.presenter.outcome)
    two.presenter.records.bring_in(tmp_path / "table")
    until(lambda: "not a file of runs" in two.presenter.outcome)


def test_one_run_by_itself_tells_and_takes(two):
    runs = two.compare.runs
    runs.list.choose_row(1)
    QTest.keyClick(runs.list, Qt.Key.Key_Return)
    (sheet,) = two.findChildren(RunReport)
    until(lambda: "sustained limit: 18.0 W of 18 W" in sheet.shown.text())
    sheet.below.setText("85 C")
    QTest.keyClick(sheet.below, Qt.Key.Key_Return)
    assert not sheet.score.isEnabled()
    sheet.below.setText("85 W")
    sheet.ask()
    until(lambda: "has the unit W" in sheet.shown.text())
    sheet.note.setText("calm sea")
    sheet.measures.setText("noise")
    click(sheet.keep)
    until(lambda: "not of the form" in sheet.said.text())
    sheet.measures.setText("noise=38.5 dB, case=41 C")
    click(sheet.keep)
    until(lambda: any(run.note == "calm sea" for run in two.presenter.runs.all))
    kept = next(run for run in two.presenter.runs.all if run.note)
    assert {name: m.show() for name, m in kept.measures.items()} == {"noise": "38.5 dB", "case": "41 C"}
    until(lambda: not two.findChildren(RunReport))
    runs.filter.setText("calm")
    assert len(runs.shown) == 1


def test_a_watched_run_takes_its_result_and_frame_times(window, tmp_path):
    run_through(window, "watch", "10s", "a game of chess")
    window.show_view("compare")
    window.compare.open_sheet(1)
    (sheet,) = window.findChildren(RunReport)
    file = tmp_path / "frames.csv"
    file.write_text("ms\n" + "16.6\n" * 300)
    sheet.read_frames(file)
    until(lambda: "300 frame times are added" in sheet.said.text())
    sheet.column_name.setText("s")
    sheet.read_frames(file)
    until(lambda: "no column" in sheet.said.text())
    sheet.score.setText("far")
    click(sheet.keep)
    until(lambda: "is not a number" in sheet.said.text())
    sheet.score.setText("144.5")
    click(sheet.keep)
    until(lambda: window.presenter.runs.all[0].end.score == 144.5)
    assert window.presenter.runs.all[0].end.numbers.extra["rate_fps"] == pytest.approx(1 / 0.0166)


def test_what_holds_the_clock_is_told_with_its_evidence(window):
    panel = window.workbench.run
    panel.form.pace.setCurrentIndex(FAST)
    panel.form.length.setEditText("10 min")
    click(panel.start)
    held = window.workbench.charts.held
    until(lambda: held.text().startswith("sustained limit: 18.0 W of 18 W, since "))
    click(panel.stop)
    until(lambda: window.presenter.progress is None)


def test_compare_opens_on_the_run_just_made_until_a_person_chooses(window):
    first = run_to_end(window, "20s", "first")
    until(lambda: window.compare.chosen == [first.id])
    second = run_to_end(window, "20s", "second")
    until(lambda: window.compare.chosen == [first.id, second.id])  # the first is the baseline
    window.presenter.start_run("single", "20s", "alone")
    until(lambda: len(window.presenter.runs.all) == 3)
    until(lambda: window.compare.chosen == [3])  # other work is not compared with it
    window.compare.choose([second.id])
    run_to_end(window, "20s", "later")
    assert window.compare.chosen == [second.id]
