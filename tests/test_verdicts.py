"""What a comparison may claim: like conditions, like spans, no wrong results, and as many runs as it takes."""

from dataclasses import replace

import numpy as np
import pytest

from support import SimulatedSession
from test_commands import data_of, one_sentence
from test_sweeps import made
from upright_bolt.analysis.comparison.compare import compare
from upright_bolt.analysis.comparison.difference import Doubt, Spread, difference, from_one
from upright_bolt.analysis.comparison.run_spread import PRIOR_RELATIVE, RunSpreads
from upright_bolt.analysis.comparison.sequential_test import LOOK_LEVEL, decided, look, runs_to_next_look
from upright_bolt.analysis.comparison.sweep import lines
from upright_bolt.analysis.numbers import BY_KEY
from upright_bolt.model.run import RunRole, RunState, WorkError
from upright_bolt.model.start import Start
from upright_bolt.session.steps import Outcome, Step, until_decided
from upright_bolt.text import comparison
from upright_bolt.text.faults import fault_words, state_words

WRONG = (WorkError(3.0, 1, "vector", "wrong result"), WorkError(4.0, 2, "vector", "wrong result"))


def changed(record, **conditions):
    return replace(record, head=replace(record.head, conditions=replace(record.head.conditions, **conditions)))


@pytest.fixture
def pair(on_tern: SimulatedSession):
    """Two rested runs, a rested one at −60 mV, and one right after a load."""
    base = on_tern.run(120.0, start=Start.RESTED)
    on_tern.session.try_settings({"core-offset": -60.0, "cache-offset": -60.0}, standing=False)
    spent = on_tern.run(120.0)
    rested = on_tern.run(120.0, start=Start.RESTED)
    return base, rested, spent


def test_unlike_starts_leave_the_whole_run_undecided_and_the_settled_part_not(pair):
    base, rested, spent = pair
    row = compare([spent], base, list(pair))[0]
    assert row.difference["score"].doubt is Doubt.STARTS
    assert row.difference["score"].verdict == "undecided"
    assert row.difference["temp_max_c"].doubt is Doubt.STARTS
    assert row.difference["score_settled"].verdict == "higher"  # a gain that the spent burst would have hidden
    words = comparison.verdict_with_conditions(row, base)
    assert "Whole run: score, watts undecided: unlike starts" in words
    assert "Settled: " in words
    assert "more score" in words
    assert "Run both rested: “run steady --start rested”." in words
    like = compare([rested], base, list(pair))[0]
    assert like.difference["score"].verdict == like.difference["score_settled"].verdict == "higher"


def test_other_surroundings_leave_everything_undecided(pair):
    base, rested, _ = pair
    for conditions in ({"power_source": "battery"}, {"background_load": 0.3}, {"platform_mode": "quiet"}):
        row = compare([changed(rested, **conditions)], base)[0]
        assert {found.doubt for found in row.difference.values()} == {Doubt.CONDITIONS}
        assert "undecided: unlike conditions" in comparison.verdict_text(row, base)


def test_a_mode_that_was_tried_is_what_is_compared(pair):
    base, rested, _ = pair
    quiet = changed(rested, platform_mode="quiet")
    quiet = replace(quiet, head=replace(quiet.head, tried={"platform-mode": "quiet"}))
    assert compare([quiet], base)[0].difference["score_settled"].doubt is Doubt.NONE


def test_runs_of_unlike_length_share_their_settled_part_alone(pair):
    base, rested, _ = pair
    longer = replace(rested, end=replace(rested.end, duration_s=600.0))
    row = compare([longer], base)[0]
    assert row.difference["score"].doubt is Doubt.LENGTHS
    assert row.difference["score_settled"].doubt is Doubt.NONE


def test_temperatures_change_in_degrees_everywhere(pair, bolt):
    base, rested, _ = pair
    row = compare([rested], base)[0]
    for key in ("temp_max_c", "temp_sustained_c"):
        assert key not in row.percent
        found = row.difference[key]
        assert found.change == pytest.approx(row.values[key] - getattr(base.end.numbers, key))
        assert found.high - found.low < 20.0
        assert "°C" in comparison.interval_text(found, BY_KEY[key])


def test_per_watt_and_watts_are_of_the_same_span(pair):
    base, *_ = pair
    numbers = base.end.numbers
    assert numbers.score_per_watt == pytest.approx(base.end.score / numbers.power_mean_w, rel=1e-6)
    assert numbers.settled_per_watt == pytest.approx(numbers.score_settled / numbers.power_sustained_w, rel=1e-6)
    late = [part.score for part in base.slices if part.from_s >= 90.0]
    assert numbers.score_settled == pytest.approx(sum(late) / len(late), rel=1e-3)


# the spread from run to run


def series_runs(scores, series="s", machine="twin:tern"):
    runs = [made(i, score, machine=machine) for i, score in enumerate(scores, start=1)]
    return [replace(run, head=replace(run.head, series=series)) for run in runs]


def test_the_spread_is_the_prior_until_the_machine_s_own_repeats_tell():
    score = BY_KEY["score"]
    one = made(1, 100.0)
    assert RunSpreads([one]).of(one, score).deviation == pytest.approx(PRIOR_RELATIVE)
    dice = np.random.default_rng(3)
    quiet = series_runs(list(100.0 * (1.0 + 0.002 * dice.standard_normal(40))))
    learnt = RunSpreads(quiet).of(one, score)
    assert learnt.deviation < 0.004
    assert learnt.degrees_of_freedom == 42.0
    elsewhere = made(9, 100.0, machine="twin:skerry")
    assert RunSpreads(quiet).of(elsewhere, score).deviation == pytest.approx(PRIOR_RELATIVE)


def test_single_runs_take_the_spread_in_and_long_ones_do_not_escape_it():
    slices = [100.0, 100.1, 99.9] * 20
    one = from_one(100.0, Spread(0.01, 3.0), slices)
    assert one.error > 0.01
    assert difference(one, from_one(102.0, Spread(0.01, 3.0), slices)).verdict == "undecided"
    assert difference(one, from_one(110.0, Spread(0.01, 3.0), slices)).verdict == "lower"


def test_few_slices_that_follow_each_other_show_nothing():
    steps = 100.0 + 1.5 * np.sin(np.arange(10) * 1.3 / 2.0)
    a, b = (from_one(mean, Spread(0.002, 30.0), list(steps)) for mean in (100.0, 102.0))
    assert difference(a, b).verdict == "undecided"


# looks


def test_looks_hold_their_error_rate_and_find_what_is_there():
    dice = np.random.default_rng(8)

    def series(step: float) -> tuple[bool, int]:
        a, b = [], []
        while not (a and decided(b, a)):
            more = runs_to_next_look(len(a))
            a += list(100.0 * np.exp(dice.normal(0.0, 0.01, more)))
            b += list(100.0 * np.exp(dice.normal(step, 0.01, more)))
        return look(b, a).verdict == "higher", len(a)

    false = [series(0.0)[0] for _ in range(1500)]
    hits = [series(0.02) for _ in range(600)]
    assert np.mean(false) < 0.035  # one side of 5 %
    assert np.mean([hit for hit, _ in hits]) > 0.93
    assert np.mean([count for _, count in hits]) < 6.3


def test_a_series_goes_on_until_it_is_decided_or_its_bound_is_reached():
    steps, more = until_decided({"sustained": 20.0}, "")
    assert [bool(step.settings) for step in steps] == [False, True, True, False] * 2
    assert {step.role for step in steps} == {RunRole.LOOKED_AT}

    def outcomes(steps: list[Step], with_it: float) -> list[Outcome]:
        return [
            Outcome(step, i, (with_it if step.settings else 100.0) + 0.7 * (-1) ** (i // 2), 0)
            for i, step in enumerate(steps)
        ]

    assert more(outcomes(steps, 110.0)) == []
    made_steps = list(steps)
    while added := more(outcomes(made_steps, 100.0)):
        assert [bool(step.settings) for step in added] == [False, True, True, False]
        made_steps += added
    assert len(made_steps) == 20
    wrong = [replace(outcome, errors=1) for outcome in outcomes(steps, 100.0)]
    assert more(wrong) == []


def test_until_decided_on_a_twin(bolt):
    told = data_of(
        bolt("run", "steady", "--duration", "1min", "--with", "core-offset=-60mV", "--with", "cache-offset=-60mV",
             "--until-decided", "--label", "less", "--json")
    )  # fmt: skip
    assert [run["role"] for run in told["runs"]] == ["warm-up"] + ["looked-at"] * 8
    row = data_of(bolt("compare", "2", "3", "--json"))["runs"][1]
    assert row["difference"]["score"]["level"] == LOOK_LEVEL
    assert row["difference"]["score"]["verdict"] == "higher"
    assert (row["repeats"], row["base_repeats"]) == (4, 4)


def test_until_decided_needs_something_to_decide(bolt):
    assert "name the settings" in one_sentence(bolt("run", "steady", "--until-decided"), 2)
    both = bolt("run", "steady", "--until-decided", "--repeat", "3", "--with", "turbo=off")
    assert "leave --repeat out" in one_sentence(both, 2)


# wrong results


def test_a_run_with_wrong_results_is_never_called_faster(pair):
    base, rested, _ = pair
    broken = replace(rested, errors=WRONG)
    row = compare([broken], base)[0]
    assert row.percent["score"] is None
    assert "score" not in row.difference
    assert "settled_per_watt" not in row.difference
    words = comparison.verdict_text(row, base)
    assert words.startswith("✕ In this run: 2 wrong results. Its score does not count")
    assert "more score" not in words
    other_way = comparison.verdict_text(compare([rested], replace(base, errors=WRONG))[0], replace(base, errors=WRONG))
    assert other_way.startswith("✕ In the baseline: 2 wrong results.")
    assert state_words(broken) == "✕ 2 wrong results, finished"
    frozen = replace(broken, errors=(), end=replace(broken.end, state=RunState.RESTARTED))
    assert fault_words(frozen) == "the machine froze or restarted"


def test_a_sweep_marks_where_it_broke_and_draws_no_score_there():
    runs = [made(1, 100.0, sustained=10.0), made(2, 120.0, sustained=20.0), made(3, 150.0, errors=2, sustained=30.0)]
    runs = [replace(run, head=replace(run.head, settings={**run.head.settings, "burst": 60.0})) for run in runs]
    (line,) = lines(runs, "sustained", "score")
    assert [point.x for point in line.points] == [10.0, 20.0]
    assert line.errors == (30.0,)


def test_wrong_results_come_first_and_end_with_code_1(bolt):
    made_run = bolt(
        "run", "steady", "--duration", "2min", "--with", "core-offset=-95mV", "--with", "cache-offset=-95mV"
    )
    assert made_run.returncode == 1
    assert made_run.stdout.startswith("Run 1: ✕ ") or "✕" in made_run.stdout.splitlines()[0]
    listed = bolt("runs").stdout
    assert "wrong results, finished" in listed
    heads = listed.splitlines()[0]
    assert "errors" in heads
    assert "held by" in heads
    deeper = ("--with", "core-offset=-98mV", "--with", "cache-offset=-98mV", "--allow-known-bad")
    proof = bolt("run", "proof", "--duration", "2min", *deeper)
    assert proof.returncode == 1
    told = data_of(bolt("runs", "show", "2", "--json"))
    assert told["score_counts"] is False
    assert len(told["errors"]) > 0


def test_a_ladder_prints_its_table_however_it_ends(bolt):
    ladder = bolt("sweep", "core-offset,cache-offset=-60mV..-132mV/36mV", "--duration", "2min", "--start", "at-once")
    assert ladder.returncode == 1
    assert "the ladder ends there" in ladder.stderr
    table = ladder.stdout.split("\n\n")[1]
    assert table.splitlines()[0].split()[:3] == ["setting", "runs", "errors"]
    assert "held by" in table.splitlines()[0]
    assert "−60 mV" in table
    assert "does not count" in table
    assert "−132 mV" not in ladder.stdout
