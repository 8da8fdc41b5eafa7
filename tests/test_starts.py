"""In which state runs begin: what they wait for, how long, and what is kept of it."""

from dataclasses import replace

import pytest

from support import SimulatedSession
from test_commands import data_of, one_sentence
from upright_bolt.analysis.comparison.compare import compare
from upright_bolt.analysis.comparison.conditions import ConditionKind, unlike
from upright_bolt.model.event import NotSettled
from upright_bolt.model.run import RunRole
from upright_bolt.model.start import Start
from upright_bolt.model.work import Work
from upright_bolt.session.run_progress import RunStage
from upright_bolt.session.session import SAMPLE_S
from upright_bolt.session.start import LONGEST_WAIT_S
from upright_bolt.session.starting import start_run
from upright_bolt.text.times import waiting


def begun(on_tern: SimulatedSession, start: Start | None, seconds: float = 60.0, workload: str = "steady"):
    """Start a run, let it come to its load, and return it with the seconds that took and what it said meanwhile."""
    session = on_tern.session
    began_s = session.now_s
    run = start_run(session, Work(workload, seconds, start=start), "", on_tern.store)
    said = []
    while run.stage is not RunStage.WORKING:
        session.tick()
        if (found := run.progress().waiting) is not None:
            said.append(waiting(found))
        on_tern.pass_time(SAMPLE_S)
    return run, session.now_s - began_s, said


def load(on_tern: SimulatedSession, seconds: float = 180.0) -> None:
    on_tern.run(seconds)


def test_a_rested_start_waits_for_temperature_and_budget_and_says_so(on_tern: SimulatedSession):
    load(on_tern)
    run, took_s, said = begun(on_tern, Start.RESTED)
    assert 120.0 < took_s < LONGEST_WAIT_S
    assert "to fall to" in said[0]
    assert "W, to fall to" in said[0]
    assert "to be watched for two minutes" in said[0] or "than a minute before" in said[0]
    assert said[0].endswith("at most")
    assert any("less than a minute before" in words for words in said)
    record = on_tern.carry_on()
    kept = record.head.conditions
    assert kept.start == "rested"
    assert kept.temp_start_c < 36.0
    assert kept.budget_low_w == pytest.approx(kept.budget_high_w, abs=0.4)
    assert kept.budget_high_w < 3.5
    times, _ = on_tern.store.telemetry(run.id)
    assert times[0] >= -31.0  # of the minutes of rest only the last half is kept


def test_at_once_does_not_wait_and_keeps_what_is_known_of_the_budget(on_tern: SimulatedSession):
    load(on_tern)
    _, took_s, said = begun(on_tern, Start.AT_ONCE)
    assert took_s < 5.0
    assert said == []
    kept = on_tern.carry_on().head.conditions
    assert kept.start == "at-once"
    assert kept.budget_high_w > 12.0
    assert kept.temp_start_c > 38.0


def test_a_warm_start_spends_the_budget_with_a_fixed_load_first(on_tern: SimulatedSession):
    on_tern.pass_time(600.0)
    run, took_s, _ = begun(on_tern, Start.WARM)
    assert 90.0 < took_s < 100.0
    record = on_tern.carry_on()
    kept = record.head.conditions
    assert kept.start == "warm"
    assert kept.budget_low_w == pytest.approx(18.0, abs=1.0)
    assert kept.temp_start_c > 45.0
    assert record.end.numbers.constraint_share.get("burst limit", 0.0) < 0.02  # nothing is left of the burst
    assert run.end.score == pytest.approx(record.slices[-1].score, rel=0.01)


def test_waiting_is_skipped_at_a_word(on_tern: SimulatedSession):
    load(on_tern)
    session = on_tern.session
    run = start_run(session, Work("steady", 20.0), "", on_tern.store)
    for _ in range(20):
        session.tick()
        on_tern.pass_time(SAMPLE_S)
    assert run.stage is RunStage.RESTING
    run.skip_waiting()
    session.tick()
    assert run.stage is RunStage.WORKING
    assert on_tern.carry_on().head.conditions.start == "at-once"


def test_a_machine_that_does_not_come_to_rest_is_measured_all_the_same_and_the_run_says_so(on_tern: SimulatedSession):
    session = on_tern.session
    real = session.access.sample
    warm = session.index["temperature.core0"]

    def never_still():
        sample = real()
        for i in range(6):
            sample.values[warm + i] = 40.0 + (sample.time_s * 0.02) % 200.0
        return sample

    session.access.sample = never_still
    run, took_s, _ = begun(on_tern, Start.RESTED, 5.0)
    assert took_s == pytest.approx(LONGEST_WAIT_S, abs=3.0)
    on_tern.carry_on()
    assert any(isinstance(event, NotSettled) for event in on_tern.store.events(run.id))


def test_where_nothing_is_measured_nothing_is_waited_for(bolt):
    made = data_of(bolt("run", "steady", "--duration", "5s", "--threads", "1", "--json", on="host"))
    if made["conditions"]["temp_start_c"] is None:
        assert made["conditions"]["budget_high_w"] is None
    assert made["conditions"]["start"] == "rested"


def test_watching_begins_at_once_unless_asked_otherwise():
    assert Work("watch", 60.0).begins is Start.AT_ONCE
    assert Work("steady", 60.0).begins is Start.RESTED
    assert Work("steady", 60.0, start=Start.WARM).begins is Start.WARM


@pytest.mark.parametrize("name", ["tern", "tern-two-rails", "skerry", "plover"])
def test_three_runs_in_a_row_lie_within_a_percent_and_are_undecided(tmp_path, name):
    made = SimulatedSession(tmp_path, f"twin:{name}")
    try:
        runs = [made.run(180.0, start=Start.RESTED) for _ in range(3)]
    finally:
        made.close()
    scores = [run.end.score for run in runs]
    assert max(scores) / min(scores) < 1.01
    for row in compare(runs[1:], runs[0], runs):
        assert row.difference["score"].verdict == "undecided"
        assert row.difference["score_settled"].verdict == "undecided"
        assert not {found.what for found in row.unlike} & {ConditionKind.BUDGET}


def test_runs_of_a_series_begin_alike_and_the_first_is_not_counted(bolt):
    told = data_of(bolt("run", "steady", "--duration", "2min", "--repeat", "3", "--json"))
    warm_up, *runs = told["runs"]
    assert (warm_up["role"], [run["role"] for run in runs]) == ("warm-up", ["", "", ""])
    temps = [run["conditions"]["temp_start_c"] for run in runs]
    budgets = [run["conditions"]["budget_high_w"] for run in runs]
    assert max(temps) - min(temps) <= 2.0
    assert max(budgets) - min(budgets) < 0.5
    scores = [run["score"] for run in runs]
    assert max(scores) / min(scores) < 1.01
    row = data_of(bolt("compare", "2", "3", "--json"))["runs"][1]
    assert row["repeats"] == 3
    listed = bolt("runs").stdout
    assert "warm-up, not counted" in listed


def test_what_is_measured_at_rest_needs_no_warm_up(bolt):
    told = data_of(bolt("run", "idle", "--duration", "30s", "--repeat", "2", "--json"))
    assert [run["role"] for run in told["runs"]] == [RunRole.COUNTED, RunRole.COUNTED]


def test_unknown_budgets_are_not_called_alike(on_tern: SimulatedSession):
    record = on_tern.run(20.0)
    known = replace(record.head.conditions, budget_low_w=2.0, budget_high_w=2.4)
    open_ = replace(record.head.conditions, budget_low_w=0.5, budget_high_w=15.0)
    rested, either = (replace(record, head=replace(record.head, conditions=c)) for c in (known, open_))
    assert unlike(rested, rested) == ()
    assert [found.what for found in unlike(either, rested)] == [ConditionKind.BUDGET]
    assert [found.what for found in unlike(either, either)] == [ConditionKind.BUDGET]


def test_a_start_that_is_none_is_named_with_those_there_are(bolt):
    said = one_sentence(bolt("run", "steady", "--start", "hot"), 2)
    assert said == "start: “hot” is none; use one of rested, warm, at-once."
