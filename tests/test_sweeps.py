"""Any result over any control, series in the session, and what held each kind of core."""

import json
from dataclasses import replace

import pytest

from support import SimulatedSession
from test_trees import opened  # noqa: F401 - a fixture
from upright_bolt.analysis.comparison.compare import compare, spread_of
from upright_bolt.analysis.comparison.conditions import ConditionKind, conditions, unlike
from upright_bolt.analysis.comparison.sweep import controls_with_runs, lines, results_of, words_of
from upright_bolt.analysis.limits.constraints import Bounds, basis_of
from upright_bolt.analysis.numbers import BY_KEY
from upright_bolt.errors import BadInput
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.run import Conditions, RunEnd, RunHead, RunNumbers, RunRecord, RunRole, RunState, WorkError
from upright_bolt.model.start import Start
from upright_bolt.model.work import Options, Work
from upright_bolt.reports.details import details_data, details_of
from upright_bolt.session.series import SeriesRequest, start_series
from upright_bolt.session.session import SAMPLE_S
from upright_bolt.session.steps import Step, ladder, repeats
from upright_bolt.text import comparison
from upright_bolt.text import runs as run_words
from upright_bolt.text.constraints import basis


def made(number, score, errors=0, workload="steady", machine="twin:tern", **settings):
    head = RunHead(
        machine, {}, workload, f"run {number}", 60.0, settings, {}, Conditions(), "2026-05-01T10:00:00+00:00", ()
    )
    wrong = tuple(WorkError(1.0, 0, "vector", "wrong result") for _ in range(errors))
    return RunRecord(number, head, RunEnd(RunState.FINISHED, "", 60.0, score, RunNumbers()), (), wrong)


def test_runs_that_differ_in_nothing_else_are_joined_and_repeats_get_a_bar():
    runs = [made(i, 1000.0 + 10 * watts + i, sustained=float(watts), burst=60.0)
            for i, watts in enumerate((10, 10, 20, 20, 30))]  # fmt: skip
    runs.append(made(9, 500.0, sustained=20.0, burst=20.0))
    first, second = lines(runs, "sustained", "score")
    assert [point.x for point in first.points] == [10.0, 20.0, 30.0]
    assert first.points[0].mean == pytest.approx(1100.5)
    assert first.points[0].runs == (0, 1)
    assert first.points[0].half_width > 1.0
    assert first.points[2].half_width > first.points[0].half_width  # of one run only what runs usually differ by
    assert (second.words, [point.x for point in second.points]) == ("burst 20 W", [20.0])


def test_what_is_moved_together_is_one_line():
    runs = [made(mv, 1000.0 + mv, **{"core-offset": 0.0 - mv, "cache-offset": 0.0 - mv}) for mv in (0, 10, 20)]
    runs.append(made(50, 990.0, **{"core-offset": -10.0, "cache-offset": 0.0}))
    found = lines(runs, "core-offset", "score")
    assert [point.x for point in found[0].points] == [-20.0, -10.0, 0.0]
    assert [point.x for point in found[1].points] == [-10.0, 0.0]  # the run without offsets belongs to both
    assert found[1].words == "cache-offset 0 mV"


def test_scores_of_work_in_stages_are_joined_where_it_lasted_alike():
    def rung(number, seconds, score, offset):
        run = made(number, score, workload="edge", **{"core-offset": offset, "cache-offset": offset})
        return replace(run, head=replace(run.head, asked_s=seconds))

    runs = [rung(1, 20.0, 1300.0, -40.0), rung(2, 20.0, 1320.0, -60.0), rung(3, 180.0, 1100.0, -80.0)]
    found = lines(runs, "core-offset", "score")
    assert [[point.x for point in line.points] for line in found] == [[-60.0, -40.0], [-80.0]]


def test_wrong_results_mark_their_place_and_words_have_indices():
    runs = [made(1, 10.0, turbo="on", errors=2), made(2, 7.0, turbo="off")]
    (line,) = lines(runs, "turbo", "score")
    assert [(p.x, p.mean) for p in line.points] == [(0.0, 7.0)]
    assert line.errors == (1.0,)
    assert words_of("turbo", runs) == ("off", "on")
    assert controls_with_runs(runs) == ("turbo",)
    assert "score" in results_of(runs)
    assert "latency_median_ms" not in results_of(runs)
    governed = [made(1, 1.0, governor="powersave"), made(2, 2.0, governor="performance")]
    assert words_of("governor", governed) == ("performance", "powersave")


def test_other_work_and_other_machines_stand_apart():
    runs = [made(1, 1.0, epp=0.0), made(2, 2.0, epp=255.0), made(3, 3.0, epp=0.0, workload="bursts"),
            made(4, 4.0, epp=0.0, machine="twin:tern@slate")]  # fmt: skip
    found = lines(runs, "epp", "score")
    assert [line.work for line in found] == [
        ("steady", "twin:tern"), ("bursts", "twin:tern"), ("steady", "twin:tern@slate")
    ]  # fmt: skip
    assert found[1].words == "bursts"
    assert lines([], "epp", "score") == ()


def test_spread_comes_from_repeats_or_from_slices(on_tern: SimulatedSession):
    record = on_tern.run(120.0)
    score = BY_KEY["score"]
    assert 0.0 < spread_of([record], score) < 2.0
    assert spread_of([record], BY_KEY["errors"]) is None
    pair = [made(1, 99.0), made(2, 101.0)]
    assert spread_of(pair, score) == pytest.approx(100.0 * 2**0.5 / 100.0)
    assert compare([record], record)[0].spread["score"] == spread_of([record], score)


def with_conditions(**changes):
    record = made(1, 1.0)
    return replace(record, head=replace(record.head, conditions=Conditions(**changes)))


def words(run, baseline):
    return [comparison.unlike(found) for found in unlike(run, baseline)]


def test_battery_and_kernel_make_runs_unlike():
    full, low = (with_conditions(power_source="battery", battery_charge=c, kernel="6.1") for c in (90.0, 15.0))
    half = with_conditions(power_source="battery", battery_charge=60.0, kernel="6.1")
    assert unlike(half, full) == ()
    assert words(low, full) == ["Battery charge: 15 %, the baseline 90 %."]
    assert unlike(with_conditions(power_source="battery", battery_charge=25.0, kernel="6.1"), low)
    newer = with_conditions(power_source="battery", battery_charge=90.0, kernel="6.9")
    assert words(newer, full) == ["Kernel: 6.9, the baseline 6.1."]
    charged = with_conditions(power_source="charger", battery_charge=15.0)
    assert ConditionKind.CHARGE not in {
        entry.kind for entry in conditions(charged, with_conditions(battery_charge=90.0))
    }


def test_other_options_are_unlike_and_their_scores_not_compared():
    base = made(1, 10.0, workload="command")
    other = replace(made(2, 12.0), head=replace(base.head, options=Options(("make",))))
    assert any("another command" in said for said in words(other, base))
    assert compare([other], base)[0].percent["score"] is None


@pytest.mark.parametrize(
    ("constraint", "said"),
    [
        (Constraint.SUSTAINED, "18.0 W of 18 W"), (Constraint.BURST, "18.0 W"),
        (Constraint.HEAT, "97.5 °C of 99.0 °C"), (Constraint.CLOCK_CAP, "2.40 GHz of 2.45 GHz"),
        (Constraint.TURBO_TABLE, "2.40 GHz, as high as the table goes"),
        (Constraint.NO_WORK, "busy for 3 % of the time"),
        (Constraint.CURRENT, "its bit is set, at 18.0 W"),
        (Constraint.UNKNOWN, "nothing that is measured explains 2.40 GHz"),
        (Constraint.HOT_SIGNAL, "another part of the machine asks for it"),
    ],
)  # fmt: skip
def test_every_constraint_has_its_evidence(constraint, said):
    values = {"power.package": 18.0, "limit.sustained": 18.0, "limit.burst": 45.0, "clock.mean": 2400.0,
              "temperature.package": 97.5, "busy.mean": 3.0}  # fmt: skip
    assert basis(basis_of(constraint, values.get, bounds=Bounds(2450.0, 99.0))) == said
    if constraint is not Constraint.HOT_SIGNAL:
        assert basis(basis_of(constraint, lambda _name: None)) == ""


def test_a_run_tells_what_held_it_in_each_phase_with_numbers(on_tern: SimulatedSession):
    details = details_of(on_tern.store, on_tern.run(60.0))
    burst, sustained = details_data(details)["phases"]
    held = {entry["constraint"]: entry for entry in burst["held"]}
    assert held["burst limit"]["evidence"] == "45.0 W of 45 W"
    assert held["burst limit"]["since_s"] <= 1.5
    assert sustained["held"][0]["evidence"] == "18.0 W of 18 W"
    assert sustained["held"][0]["share"] > 0.95
    assert any("sustained limit: 18.0 W of 18 W, since 0:1" in sentence for sentence in run_words.details(details))
    json.dumps(details_data(details), allow_nan=False)


def test_each_kind_of_core_has_a_constraint_of_its_own(opened):  # noqa: F811 - the fixture
    session, root = opened("hybrid-laptop")
    session.tick()
    stat = (root / "proc/stat").read_text()
    for cpu in range(4):
        stat = stat.replace(f"cpu{cpu} 1 0 0 9 ", f"cpu{cpu} 99 0 0 9 ")
    for cpu in range(4, 8):
        stat = stat.replace(f"cpu{cpu} 1 0 0 9 ", f"cpu{cpu} 3 0 0 900 ")
    (root / "proc/stat").chmod(0o644)
    (root / "proc/stat").write_text(stat)
    for cpu in range(4):
        clock = root / f"sys/devices/system/cpu/cpufreq/policy{cpu}/scaling_cur_freq"
        clock.chmod(0o644)
        clock.write_text("4990000\n")
    sample = session.tick().sample
    assert sample.kinds == (sample.constraint, Constraint.NO_WORK)
    assert sample.constraint is not Constraint.NO_WORK
    said = run_words.holding_now(sample, session.about, session.controls(), 28.0)
    assert said.startswith("P-cores: ")
    assert "E-cores: no work, busy for" in said


# series


AT_ONCE = Work("steady", 20.0, start=Start.AT_ONCE)


def carried_out(on_tern: SimulatedSession, asked: SeriesRequest, each=lambda series: None):
    """Carry a series out, and return it."""
    series = start_series(on_tern.session, asked, on_tern.store)
    while on_tern.session.working:
        on_tern.session.tick()
        on_tern.session.end_run()
        on_tern.pass_time(SAMPLE_S)
        each(series)
    return series


def runs_of(on_tern: SimulatedSession, series) -> list[RunRecord]:
    return [on_tern.store.get(outcome.run_id) for outcome in series.outcomes]


def test_a_ladder_goes_on_with_the_session_and_puts_back(on_tern: SimulatedSession):
    seen = set()

    def note(series):
        progress = series.progress()
        seen.add((progress.number, progress.waiting is not None))

    series = carried_out(on_tern, SeriesRequest(ladder("sustained=14W..22W/8W", {}, 2), AT_ONCE, 45.0), note)
    assert series.fault is None
    assert {number for number, _ in seen} == {1, 2, 3, 4, 5}
    assert any(waits for _, waits in seen)
    warm_up, *runs = runs_of(on_tern, series)
    assert (warm_up.head.role, warm_up.head.settings["sustained"]) == (RunRole.WARM_UP, 14.0)
    assert [run.head.settings["sustained"] for run in runs] == [14.0, 14.0, 22.0, 22.0]
    assert {run.head.series for run in runs} == {series.name}
    assert all(run.head.conditions.temp_start_c <= 46.0 for run in runs)
    assert on_tern.session.status().trial is None
    assert on_tern.current_values("sustained") == 18.0


def test_a_stopped_series_keeps_what_is_there_and_puts_back(on_tern: SimulatedSession):
    def stop(series):
        run = on_tern.session.run
        if len(series.outcomes) == 2 and run is not None and run.progress().elapsed_s > 5:
            series.stop()
            run.stop()

    series = carried_out(on_tern, SeriesRequest(ladder("sustained=14W..22W/2W", {}, 1), AT_ONCE), stop)
    states = [run.end.state for run in runs_of(on_tern, series)]
    assert states == [RunState.FINISHED, RunState.FINISHED, RunState.STOPPED]
    assert "stopped" in str(series.fault)
    assert on_tern.current_values("sustained") == 18.0


def test_a_series_beyond_what_the_machine_allows_does_not_begin(on_tern: SimulatedSession):
    steps = [Step({"sustained": 20.0}, "fits"), Step({"sustained": 4000.0, "clamp": "maybe"}, "does not")]
    with pytest.raises(BadInput, match=r"4,000 W is outside.*“maybe” is not among"):
        start_series(on_tern.session, SeriesRequest(steps, AT_ONCE), on_tern.store)
    assert on_tern.store.all() == []
    start_series(on_tern.session, SeriesRequest(steps[:1], AT_ONCE), on_tern.store)
    with pytest.raises(BadInput, match="in progress"):
        start_series(on_tern.session, SeriesRequest(steps[:1], AT_ONCE), on_tern.store)


def test_a_ladder_ends_with_the_first_rung_that_errs(on_tern: SimulatedSession):
    steps = ladder("core-offset,cache-offset=-60mV..-132mV/36mV", {}, 1)
    assert [step.settings for step in steps] == [{"core-offset": v, "cache-offset": v} for v in (-60.0, -96.0, -132.0)]
    series = carried_out(on_tern, SeriesRequest(steps, replace(AT_ONCE, duration_s=120.0), stops_at_errors=True))
    *good, bad = series.outcomes
    assert [outcome.errors for outcome in good] == [0, 0]
    assert bad.errors > 0
    assert bad.step.settings["core-offset"] == -96.0
    assert "wrong results; the ladder ends there" in str(series.fault)
    assert on_tern.current_values("core-offset") == 0.0


def test_what_moves_together_is_of_one_unit_and_named_once():
    for text, said in (
        ("core-offset,sustained=0mV..-10mV/5mV", "cannot move together"),
        ("core-offset,core-offset=0mV..-10mV/5mV", "names a control twice"),
        ("core-offset,turbo=0mV..-10mV/5mV", "only a control with a scale"),
    ):
        with pytest.raises(BadInput, match=said):
            ladder(text, {}, 1)


def test_repeats_of_what_is_being_tried_leave_the_trial_alone(on_tern: SimulatedSession):
    on_tern.session.try_settings({"sustained": 22.0}, standing=False)
    with pytest.raises(BadInput, match="trial is running"):
        start_series(on_tern.session, SeriesRequest(ladder("burst=40W..45W/5W", {}, 1), AT_ONCE), on_tern.store)
    series = carried_out(on_tern, SeriesRequest(repeats({}, 2, "", alternate=False), AT_ONCE))
    assert series.fault is None
    assert on_tern.session.status().trial is not None
    assert on_tern.current_values("sustained") == 22.0
