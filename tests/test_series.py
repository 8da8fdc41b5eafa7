"""Repeats, runs in turn, ladders, and what a difference between runs is worth."""

import numpy as np
import pytest

from test_commands import data_of, one_sentence
from upright_bolt.analysis.comparison import difference as diff
from upright_bolt.errors import Refused
from upright_bolt.model.start import Start
from upright_bolt.model.work import Work
from upright_bolt.session.series import SeriesRequest, start_series
from upright_bolt.session.steps import Step


def test_the_same_from_either_side_and_sure_of_what_is_far_apart():
    a, b = diff.from_repeats([100.0, 101.0, 99.0]), diff.from_repeats([120.0, 121.0, 119.5])
    up, down = diff.difference(b, a), diff.difference(a, b)
    assert (up.verdict, down.verdict) == ("higher", "lower")
    assert up.low < up.change < up.high
    assert (1 + up.change / 100) * (1 + down.change / 100) == pytest.approx(1.0)
    assert (1 + up.low / 100) * (1 + down.high / 100) == pytest.approx(1.0)


def test_without_error_to_go_by_nothing_is_claimed():
    assert diff.from_repeats([100.0]) is None
    assert diff.from_repeats([0.0, 0.0]) is None
    assert diff.from_one(100.0, None, [100.0] * 30) is None
    assert diff.Difference(12.0).verdict == "undecided"


def test_like_neighbours_count_for_less():
    dice = np.random.default_rng(4)
    noise = dice.normal(0.0, 1.0, 60)
    drifting = np.convolve(dice.normal(0.0, 1.0, 70), np.ones(8) / 8.0, "valid")[:60]
    drifting *= noise.std() / drifting.std()
    spread = diff.Spread(0.0, 9.0)
    free = diff.from_one(100.0, spread, list(100.0 + noise))
    alike = diff.from_one(100.0, spread, list(100.0 + drifting))
    assert diff.scatter_of(list(drifting))[1] > 0.5 > diff.scatter_of(list(noise))[1]
    assert alike.error > free.error
    assert alike.degrees_of_freedom < free.degrees_of_freedom


def test_a_slow_drift_is_not_scatter():
    scatter, _ = diff.scatter_of([100.0 + 0.5 * i for i in range(20)])
    assert scatter == pytest.approx(0.0, abs=1e-9)


def test_intervals_hold_the_truth_as_often_as_they_say():
    dice = np.random.default_rng(11)
    held = 0
    for _ in range(1500):
        a, b = (
            diff.from_repeats(list(dice.normal(mean, spread, n))) for mean, spread, n in ((100, 1, 4), (103, 1.5, 6))
        )
        found = diff.difference(b, a)
        held += found.low <= 3.0 <= found.high
    assert 0.93 < held / 1500 < 0.975


def test_repeats_in_turn_are_compared_as_groups(bolt):
    told = data_of(
        bolt("run", "steady", "--duration", "40s", "--repeat", "2", "--cool-to", "40C", "--with", "sustained=25W",
             "--with", "burst=25W", "--alternate", "--label", "flat", "--json")
    )  # fmt: skip
    labels = [run["label"] for run in told["runs"]]
    assert labels == ["warm-up", "flat, without", "flat", "flat", "flat, without"]
    assert [run["role"] for run in told["runs"]] == ["warm-up", "", "", "", ""]
    assert [run["settings"]["sustained"] for run in told["runs"]] == [18.0, 18.0, 25.0, 25.0, 18.0]
    assert all(run["conditions"]["temp_start_c"] <= 41.0 for run in told["runs"][1:])
    row = data_of(bolt("compare", "2", "3", "--json"))["runs"][1]
    assert row["repeats"] == 2
    power = row["difference"]["power_sustained_w"]
    assert set(power) == {"change", "low", "high", "verdict", "doubt", "level"}
    score = row["difference"]["score"]
    assert score["low"] < score["change"] < score["high"]
    assert data_of(bolt("status", "--json"))["trial"] is None


def test_a_setting_against_itself_shows_no_difference(bolt):
    bolt("run", "steady", "--duration", "3min", "--repeat", "2", "--cool-to", "38C")
    words = bolt("compare", "2", "3").stdout
    row = data_of(bolt("compare", "2", "3", "--json"))["runs"][1]
    assert row["percent"]["score"] == 0.0  # both stand for the same series
    assert row["difference"]["score"]["verdict"] == "undecided"
    assert "no difference that these runs can show in score" in words


def test_a_ladder_is_run_rung_by_rung_and_put_back(bolt):
    told = data_of(
        bolt("sweep", "sustained=14W..26W/6W", "steady", "--duration", "30s", "--with", "burst=60W", "--json")
    )  # fmt: skip
    runs = [run for run in told["runs"] if not run["role"]]
    assert [run["settings"]["sustained"] for run in runs] == [14.0, 20.0, 26.0]
    assert {run["settings"]["burst"] for run in runs} == {60.0}
    scores = [run["score"] for run in runs]
    assert scores == sorted(scores)
    status = data_of(bolt("status", "--json"))
    assert status["trial"] is None
    assert data_of(bolt("machine", "--json"))["controls"][0]["current"] == 18.0


def test_a_ladder_goes_down_as_well(bolt):
    told = data_of(bolt("sweep", "epp=255..0/255", "--duration", "20s", "--json"))
    assert [run["settings"]["epp"] for run in told["runs"] if not run["role"]] == [255.0, 0.0]


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("sweep", "sustained"), "is not a ladder"),
        (("sweep", "sustained=12W..40W"), "is not a ladder"),
        (("sweep", "sustained=12W..40W/0W"), "more than nothing"),
        (("sweep", "turbo=on..off/1"), "only a control with a scale"),
        (("sweep", "sustained=12W..40W/4"), "has no unit"),
        (("sweep", "sustained=12W..40W/0.1W"), "281 runs"),
        (("sweep", "sustained=12W..40W/4W", "--with", "sustained=3W"), "leave it out of --with"),
        (("sweep", "sustained=12W..14W/1W", "--repeat", "0"), "0 runs"),
        (("sweep", "brightness=1..2/1"), "no control"),
        (("run", "steady", "--repeat", "0"), "0 is outside"),
        (("run", "steady", "--repeat", "2", "--alternate"), "name the settings"),
        (("run", "steady", "--cool-to", "45"), "has no unit"),
    ],
)
def test_bad_input_is_one_sentence(bolt, words, said):
    assert said in one_sentence(bolt(*words), 2)


def test_a_range_beyond_what_the_machine_allows_is_refused_before_the_first_rung(bolt):
    result = bolt("sweep", "sustained=50W..70W/10W", "--duration", "20s")
    assert result.returncode == 2
    assert "70 W is outside what this machine allows" in result.stderr
    assert data_of(bolt("machine", "--json"))["controls"][0]["current"] == 18.0
    assert data_of(bolt("runs", "--json")) == []


def test_what_was_announced_ends_even_where_putting_back_fails(on_tern, monkeypatch):
    session = on_tern.session
    told: list[object] = []

    def stuck(why):
        raise Refused("It is stuck.")

    monkeypatch.setattr(session.access, "begin_series", lambda names: told.append(set(names)))
    monkeypatch.setattr(session.access, "end_series", lambda: told.append("ended"))
    steps = [Step({"sustained": 20.0}, "one"), Step({"sustained": 22.0}, "two")]
    series = start_series(session, SeriesRequest(steps, Work("steady", 5.0, start=Start.AT_ONCE)), on_tern.store)
    on_tern.pass_time(1.0)
    session.tick()
    assert session.run is not None
    with monkeypatch.context() as broken:
        broken.setattr(session, "revert", stuck)
        on_tern.carry_on()
    assert series.ended
    assert (told, str(series.fault)) == ([{"sustained"}, "ended"], "It is stuck.")


def test_a_watched_run_gets_its_result_measures_and_note_by_hand(bolt):
    bolt("run", "watch", "--duration", "10s")
    told = data_of(
        bolt("runs", "note", "1", "--text", "survey line 12 redrawn", "--measure", "noise=38.5 dB", "--measure",
             "keyboard=41°C", "--score", "118.2", "--json")
    )  # fmt: skip
    assert told["note"] == "survey line 12 redrawn"
    assert told["measures"] == {"noise": {"value": 38.5, "unit": "dB"}, "keyboard": {"value": 41.0, "unit": "°C"}}
    assert told["score"] == 118.2
    later = data_of(bolt("runs", "note", "1", "--measure", "noise=37dB", "--json"))
    assert later["measures"]["noise"]["value"] == 37.0
    assert later["measures"]["keyboard"]["value"] == 41.0
    assert later["note"] == "survey line 12 redrawn"
    shown = bolt("runs", "show", "1").stdout
    assert "Measured by hand: noise 37 dB" in shown
    assert "Note: survey line 12 redrawn" in shown


def test_a_measured_score_cannot_be_overwritten(bolt):
    bolt("run", "steady", "--duration", "20s")
    sentence = one_sentence(bolt("runs", "note", "1", "--score", "5000"), 2)
    assert sentence == "Run 1 has a score of its own, which was measured; enter yours as a measure."
    assert data_of(bolt("runs", "show", "1", "--json"))["score"] != 5000


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ((), "nothing to add"),
        (("--measure", "noise"), "NAME=NUMBER UNIT"),
        (("--measure", "noise=loud"), "NAME=NUMBER UNIT"),
        (("--measure", "noise=3dB", "--measure", "noise=4dB"), "given twice"),
        (("--score", "nan"), "not a number"),
    ],
)
def test_notes_that_make_no_sense_are_refused(bolt, words, said):
    bolt("run", "idle", "--duration", "10s")
    assert said in one_sentence(bolt("runs", "note", "1", *words), 2)
