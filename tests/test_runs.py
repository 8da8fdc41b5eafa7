"""Runs: what is measured, kept, summed up and compared."""

import csv
import json
import sqlite3
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import create_engine, event

from support import SimulatedSession
from upright_bolt.analysis.comparison import compare as cmp
from upright_bolt.analysis.numbers import NUMBERS
from upright_bolt.analysis.summary import constraint_shares, summarise
from upright_bolt.analysis.validation.evidence import evidence
from upright_bolt.errors import BadInput, BoltError, NotFound
from upright_bolt.model.constraint import CODE, Constraint
from upright_bolt.model.run import Conditions, RunEnd, RunNumbers, RunState, WorkError, settled_from_s
from upright_bolt.model.start import Start
from upright_bolt.model.work import Work
from upright_bolt.reports.export import compared_data, export_csv, run_data
from upright_bolt.session.starting import start_run
from upright_bolt.simulator.outside import Outside
from upright_bolt.store import tables
from upright_bolt.store.runs import RunStore
from upright_bolt.text import comparison
from upright_bolt.workload.load import Task
from waiting import within


def test_the_baffling_case_through_the_whole_program(on_tern: SimulatedSession):
    stock = on_tern.run(600, "stock", start=Start.RESTED)
    on_tern.session.try_settings({"sustained": 25.0, "burst": 25.0, "epp": 96.0}, standing=False)
    flat = on_tern.run(600, "flat", start=Start.RESTED)
    row = cmp.compare([stock, flat], stock)[1]
    assert row.change_by["temp_max_c"] < -2
    assert row.percent["clock_sustained_mhz"] > 15
    assert row.percent["score"] > 10
    assert row.unlike == ()
    assert "It peaks cooler although it draws more" in comparison.verdict_text(row, stock)
    assert stock.end.numbers.power_sustained_w == pytest.approx(18.0, abs=0.2)
    assert stock.end.numbers.constraint_share["sustained limit"] > 0.9
    assert (stock.head.tried, flat.head.tried["epp"]) == ({}, 96.0)
    assert len(stock.slices) == 60
    assert stock.slices[0].score > stock.slices[-1].score * 1.4
    assert sum(part.units for part in stock.slices) * 60 / 600 == pytest.approx(stock.end.score, rel=1e-9)


def test_a_run_keeps_settings_conditions_and_telemetry(on_tern: SimulatedSession):
    record = on_tern.run(30, "short", cool_s=60)
    assert record.head.settings["sustained"] == 18.0
    assert record.head.conditions.power_source == "charger"
    assert 0 < record.head.conditions.background_load < 0.1
    assert 25 < record.head.conditions.temp_start_c < 50
    assert record.head.identity["processor"] == "Halyard Q6-4200T"
    time_s, columns = on_tern.store.telemetry(record.id)
    assert time_s[0] < -2  # the lead-in is kept
    assert np.allclose(np.diff(time_s), 0.5)
    assert set(columns) == set(record.head.columns)
    assert [event.kind for event in on_tern.store.events(record.id)][:1] == ["run-started"]


def test_runs_repeat_to_the_last_digit_on_a_twin_of_the_same_seed(data):
    scores = []
    for name in ("one", "two"):
        on_tern = SimulatedSession(data / name)
        scores.append(run_data(on_tern.run(60))["score_slices"])
        on_tern.close()
    assert scores[0] == scores[1]


def test_a_run_too_short_to_settle_has_no_settled_numbers(on_tern: SimulatedSession):
    record = on_tern.run(20)
    assert record.end.numbers.clock_burst_mhz is not None
    assert record.end.numbers.clock_sustained_mhz is None
    assert settled_from_s(20) is None
    assert settled_from_s(40) == 30.0 or settled_from_s(40) == 30
    assert settled_from_s(600) == 450


def test_a_run_stopped_before_its_first_sample_lasts_no_time(on_tern: SimulatedSession):
    start_run(on_tern.session, Work("steady", 60.0, start=Start.AT_ONCE), "", on_tern.store)
    run = on_tern.session.run
    while run.started_s is None:
        on_tern.session.tick()
        on_tern.pass_time(0.5)
    run._done.start_s = on_tern.session.machine.clock.now_s() + 0.001  # the load began after the sample was taken
    run.stop()
    record = on_tern.carry_on()
    assert (record.end.state, record.end.duration_s, record.end.score) == (RunState.STOPPED, 0.0, None)


def test_a_stopped_run_is_kept_as_stopped(on_tern: SimulatedSession):
    start_run(on_tern.session, Work("steady", 600, start=Start.AT_ONCE), "", on_tern.store)
    for _ in range(60):
        on_tern.session.tick()
        on_tern.pass_time(0.5)
    on_tern.session.run.stop()
    ended = on_tern.session.end_run()
    record = on_tern.store.get(ended.id)
    assert (record.end.state, record.end.why) == (RunState.STOPPED, "stopped by the user")
    assert 20 < record.end.duration_s < 30
    assert record.end.score > 1000


def test_a_run_whose_program_died_is_kept_as_unfinished_with_its_numbers(on_tern: SimulatedSession):
    start_run(on_tern.session, Work("steady", 600, start=Start.AT_ONCE), "cut off", on_tern.store)
    for _ in range(100):
        on_tern.session.tick()
        on_tern.pass_time(0.5)
    on_tern.die()
    on_tern.session._stack.clear()  # nobody is left to end it
    on_tern.reopen()
    assert on_tern.store.mark_unfinished("twin:tern", on_tern.session.boot_id) == [1]
    record = on_tern.store.get(1)
    assert record.end.state is RunState.UNFINISHED
    assert record.end.duration_s >= 30
    assert record.end.score > 1000
    assert record.end.numbers.clock_burst_mhz > 2500
    assert on_tern.store.mark_unfinished("twin:tern", on_tern.session.boot_id) == []


def test_a_run_whose_machine_went_down_is_kept_as_ended_with_it(on_tern: SimulatedSession):
    start_run(on_tern.session, Work("steady", 600, start=Start.AT_ONCE), "cut off", on_tern.store)
    for _ in range(80):
        on_tern.session.tick()
        on_tern.pass_time(0.5)
    assert on_tern.store.mark_unfinished("twin:tern", "another-boot") == []  # it goes on
    on_tern.store._running.end(1)  # as the end of its process does
    assert on_tern.store.mark_unfinished("twin:tern", "another-boot") == [1]
    record = on_tern.store.get(1)
    assert record.head.boot_id == on_tern.session.boot_id != ""
    assert record.end.state is RunState.RESTARTED
    (mark,) = evidence([record], "twin:tern")["sustained"]
    assert (mark.passed_s, mark.broke) == (0.0, 1)


def test_only_one_run_at_a_time_and_only_of_sensible_length(on_tern: SimulatedSession):
    for seconds in (1, 100_000):
        with pytest.raises(BadInput, match="from 5 s to 24 h"):
            start_run(on_tern.session, Work("steady", seconds), "", on_tern.store)
    with pytest.raises(NotFound, match="Workloads: steady"):
        start_run(on_tern.session, Work("stead", 60), "", on_tern.store)
    start_run(on_tern.session, Work("steady", 60), "", on_tern.store)
    with pytest.raises(BadInput, match="in progress"):
        start_run(on_tern.session, Work("steady", 60), "", on_tern.store)


# numbers


def test_numbers_of_a_made_up_run_are_those_worked_out_by_hand():
    time_s = np.arange(-4.0, 80.5, 0.5)
    load = time_s > 0
    early = time_s <= 20
    columns = {
        "clock.mean": np.where(early, 3600.0, 2400.0),
        "power.package": np.where(load, np.where(early, 40.0, 20.0), 2.0),
        "temperature.package": np.where(time_s < 0, 95.0, 50.0 + time_s / 10),
        "fan.1": np.full(time_s.shape, np.nan),
        "held_by": np.where(early, CODE[Constraint.BURST], CODE[Constraint.SUSTAINED]),
    }
    numbers = summarise(time_s, columns, 80.0, 1000.0)
    assert numbers.clock_burst_mhz == 3600
    assert numbers.clock_sustained_mhz == 2400
    assert (numbers.power_burst_w, numbers.power_sustained_w) == (40, 20)
    assert numbers.energy_j == pytest.approx(2000)  # 20 s at 40 W and 60 s at 20 W
    assert numbers.score_per_watt == pytest.approx(40)
    assert numbers.temp_max_c == 58  # the 95 °C before the load do not count
    assert numbers.temp_sustained_c == pytest.approx(57.025)
    assert numbers.fan_sustained_rpm is None
    assert numbers.constraint_share == {"sustained limit": 0.75, "burst limit": 0.25}


@given(st.lists(st.integers(0, len(Constraint) - 1), min_size=1, max_size=200))
def test_constraint_shares_add_up(codes):
    column = np.array(codes, dtype=float)
    shares = constraint_shares(column, np.ones(len(codes), dtype=bool))
    assert sum(shares.values()) == pytest.approx(1.0, abs=1e-3)
    assert list(shares.values()) == sorted(shares.values(), reverse=True)


def test_nothing_measured_gives_no_number_and_no_warning():
    numbers = summarise(np.array([0.0, 0.5]), {"power.package": np.array([np.nan, np.nan])}, 30.0, None)
    assert numbers == RunNumbers()


@pytest.fixture
def pair(on_tern: SimulatedSession):
    record = on_tern.run(30)
    known = replace(record.head.conditions, budget_low_w=2.0, budget_high_w=2.5)
    record = replace(record, head=replace(record.head, conditions=known))
    return record, replace(record, id=record.id + 1)


def test_unlike_conditions_are_said(pair):
    base, other = pair
    assert cmp.unlike(other, base) == ()
    warm = replace(base.head.conditions, temp_start_c=base.head.conditions.temp_start_c + 9, power_source="battery",
                   background_load=0.4, platform_mode="quiet")  # fmt: skip
    changed = replace(
        other,
        head=replace(other.head, conditions=warm, machine="host", workload="single"),
        end=replace(other.end, state=RunState.STOPPED, duration_s=10.0),
    )
    said = " ".join(map(comparison.unlike, cmp.unlike(changed, base)))
    for words in (
        "Start: 4", "battery, the baseline charger", "Others' work: 40.0%", "quiet", "on host",
        "single, not steady", "lasted 10 s",
        "did not run to its end",
    ):  # fmt: skip
        assert words in said


def test_the_finding_calls_small_changes_the_same(pair):
    base, other = pair
    row = cmp.compare([other], base)[0]
    words = comparison.verdict_text(row, base)
    assert "no difference that these runs can show in score (−3.4 to +3.5 %), watts" in words
    assert "as hot at its peak" in words
    assert "One run each shows differences from about 3.5 %" in words
    hotter = replace(other.end.numbers, temp_max_c=other.end.numbers.temp_max_c + 9.0, power_mean_w=20.0)
    changed = replace(other, end=replace(other.end, score=other.end.score * 0.9, numbers=hotter))
    base = replace(base, end=replace(base.end, numbers=replace(base.end.numbers, power_mean_w=25.0)))
    words = comparison.verdict_text(cmp.compare([changed], base)[0], base)
    assert "Whole run: 10.0 % less score (6." in words
    assert "), 20.0 % fewer watts (" in words
    assert "9.0 °C hotter at its peak" in words


def test_what_was_not_measured_is_not_compared(pair):
    base, other = pair
    bare = replace(
        other,
        head=replace(other.head, conditions=Conditions()),
        end=RunEnd(RunState.FINISHED, "", 30.0, None, RunNumbers()),
    )
    row = cmp.compare([bare], base)[0]
    assert row.percent["score"] is None
    assert "errors" not in row.percent  # a share of nothing says nothing
    assert comparison.verdict_text(row, base) == "Nothing was measured in both runs."
    assert all(comparison.change(row, number) == "" for number in NUMBERS)


def test_a_comparison_as_data_has_every_number(pair):
    row = compared_data(cmp.compare([pair[1]], pair[0])[0])
    keys = {"id", "label", "machine", "workload", "duration_s", "score", "score_slices", "clock_burst_mhz",
            "clock_sustained_mhz", "power_burst_w", "power_sustained_w", "temp_max_c", "temp_sustained_c",
            "constraint_share", "errors", "settings", "percent"}  # fmt: skip
    assert keys <= row.keys()
    assert set(row["percent"]) == {number.key for number in NUMBERS if number.ratio}
    assert "temp_max_c" not in row["percent"]  # a percentage of °C says nothing
    assert {"temp_max_c", "score"} <= row["change_by"].keys()
    json.dumps(row, allow_nan=False)


# the store


def test_the_versions_of_the_database_lead_to_the_tables_of_the_program(data):
    from alembic.autogenerate import compare_metadata
    from alembic.migration import MigrationContext

    RunStore(data / "runs.sqlite").close()
    engine = create_engine(f"sqlite:///{data / 'runs.sqlite'}")
    with engine.connect() as connection:
        assert compare_metadata(MigrationContext.configure(connection), tables.metadata) == []
    engine.dispose()


def test_a_newer_database_is_left_untouched(data):
    RunStore(data / "runs.sqlite").close()
    with sqlite3.connect(data / "runs.sqlite") as raw:
        raw.execute("UPDATE alembic_version SET version_num = '9999'")
    raw.close()
    with pytest.raises(BoltError, match="newer version"):
        RunStore(data / "runs.sqlite")


def test_a_file_that_is_no_database_is_named(data):
    data.mkdir()
    (data / "runs.sqlite").write_text("a letter to the harbour master" * 99)
    with pytest.raises(BoltError, match=r"runs\.sqlite cannot be used"):
        RunStore(data / "runs.sqlite")


def test_a_full_disk_is_a_sentence(on_tern: SimulatedSession):
    on_tern.store._engine.dispose()
    event.listen(on_tern.store._engine, "connect", lambda raw, _: raw.execute("PRAGMA max_page_count = 20"))
    run = start_run(on_tern.session, Work("steady", 600), "", on_tern.store)
    while on_tern.session.end_run() is None:
        on_tern.session.tick()
        on_tern.pass_time(0.5)
    assert run.end.state is RunState.FAILED
    assert "full" in run.end.why
    assert "full" in run.unsaved
    assert not on_tern.session.machine.make_load(Task("steady", (0,))).alive()


def test_deleting_takes_everything_of_a_run_and_never_reuses_its_number(on_tern: SimulatedSession):
    record = on_tern.run(30)
    on_tern.store.add_errors(record.id, [WorkError(1.0, 0, "vector", "wrong result")])
    assert len(on_tern.store.get(record.id).errors) == 1
    on_tern.store.delete(record.id)
    with pytest.raises(NotFound, match="There is no run 1"):
        on_tern.store.get(record.id)
    with sqlite3.connect(on_tern.data / "runs.sqlite") as raw:
        for table in ("telemetry", "slices", "errors", "events"):
            assert raw.execute(f"SELECT count(*) FROM {table}").fetchone() == (0,)
    raw.close()
    assert on_tern.run(30).id == record.id + 1


def test_a_run_in_progress_is_not_deleted(on_tern: SimulatedSession):
    run = start_run(on_tern.session, Work("steady", 600), "", on_tern.store)
    with pytest.raises(BoltError, match="in progress"):
        on_tern.store.delete(run.id)


def test_telemetry_leaves_as_csv_with_words_and_gaps(on_tern: SimulatedSession, tmp_path):
    record = on_tern.run(30)
    path = tmp_path / "run.csv"
    rows = export_csv(on_tern.store, record.id, path)
    with path.open() as file:
        table = list(csv.DictReader(file))
    assert len(table) == rows
    assert float(table[-1]["limit.sustained"]) == 18.0
    assert table[0]["power.package"] == ""  # a rate has no first sample
    assert {row["held_by"] for row in table} <= {constraint.value for constraint in Constraint}
    with pytest.raises(BoltError, match="cannot be written"):
        export_csv(on_tern.store, record.id, tmp_path / "no" / "such" / "folder.csv")


def test_two_programs_may_open_a_new_database_at_once(data):
    import subprocess
    import sys

    code = (
        "import sys\nfrom pathlib import Path\nfrom upright_bolt.store.runs import RunStore\n"
        "RunStore(Path(sys.argv[1]) / 'runs.sqlite').close()"
    )
    command = [sys.executable, "-c", code, str(data)]
    processes = [subprocess.Popen(command, stderr=subprocess.PIPE, text=True) for _ in range(4)]
    told = [process.communicate(timeout=within(60))[1] for process in processes]
    assert [process.returncode for process in processes] == [0] * 4, told


def test_a_run_with_the_lid_closed_is_unlike_one_with_it_open(data):
    twin = SimulatedSession(data)
    twin.run(120.0)
    outside = twin.session.machine.ports.changes
    assert isinstance(outside, Outside)
    outside.move_lid(closed=True)
    twin.pass_time(600.0)
    twin.run(120.0)
    closed, opened = twin.store.all()
    assert (closed.head.conditions.lid, opened.head.conditions.lid) == ("closed", "open")
    row = cmp.compare([closed], opened)[0]
    assert "Lid: closed, the baseline open." in comparison.unlike_sentences(row)
    twin.close()
