"""Phases and cooling from a run's own data: against twins whose cooling is known, and made-up series."""

import dataclasses
import json

import numpy as np
import pytest

from support import loaded_twin, measured_run
from test_commands import data_of
from upright_bolt.analysis import phases
from upright_bolt.analysis.cooling import fit
from upright_bolt.simulator.chip import plover, skerry, tern
from upright_bolt.text.runs import what_held


def after_half_an_hour(spec, watts):
    twin = loaded_twin(spec, watts)
    twin.physics.advance(1800.0)
    return twin.physics.hottest_c()


@pytest.mark.parametrize(
    ("spec", "watts", "below"),
    [(tern(), 25.0, 80.0), (tern(), 32.0, 80.0), (skerry(), 54.0, 75.0), (plover(), 9.0, 70.0)],
)
def test_three_minutes_tell_what_half_an_hour_will(spec, watts, below):
    cooling = fit.fit(*measured_run(spec, watts, 180))
    carried = cooling.carries(below)
    assert after_half_an_hour(spec, carried.low) < below < after_half_an_hour(spec, carried.high)
    assert after_half_an_hour(spec, carried.value) == pytest.approx(below, abs=7.0)


def test_the_time_constants_and_the_room_lie_in_their_intervals():
    spec = dataclasses.replace(tern(), restless=0.0)
    cooling = fit.fit(*measured_run(spec, 25.0, 1500))
    for interval in (cooling.resistance_c_per_w, cooling.ambient_c, cooling.settled_c, *cooling.taus_s):
        assert interval.low <= interval.value <= interval.high
    assert cooling.ambient_c.low < spec.cooling.ambient_c < cooling.ambient_c.high
    assert cooling.taus_s[0].value < cooling.taus_s[1].value
    assert cooling.still_needs_s == 0.0
    assert after_half_an_hour(spec, 25.0) == pytest.approx(cooling.settled_c.value, abs=1.5)


def test_a_run_that_has_not_settled_says_for_how_long():
    short = fit.fit(*measured_run(plover(), 10.0, 150))
    assert short.still_needs_s > 300.0
    assert short.settled_c.value > 50.0


def test_of_a_long_run_the_first_hour_is_fitted_and_its_end_tells_where_it_settles(monkeypatch):
    monkeypatch.setattr(fit, "FITTED_S", 600.0)
    time_s, power, temp, fan = measured_run(tern(), 25.0, 600)
    alone = fit.fit(time_s, power, temp, fan)
    later_s = time_s[-1] + np.arange(1.0, 4000.0)
    quiet = [np.concatenate([column, np.full_like(later_s, value)]) for column, value in ((power, 12.0), (temp, 45.0))]
    longer = fit.fit(np.concatenate([time_s, later_s]), *quiet, np.concatenate([fan, np.zeros_like(later_s)]))
    assert longer.mean == pytest.approx(alone.mean)
    assert longer.settled_c.value < alone.settled_c.value - 5.0


def test_more_heat_is_carried_below_a_higher_temperature():
    cooling = fit.fit(*measured_run(tern(), 25.0, 180))
    carried = [cooling.carries(below).value for below in (60.0, 70.0, 80.0, 90.0)]
    assert carried == sorted(carried)
    assert cooling.carries(10.0) is None


def test_what_shows_no_cooling_gives_none():
    time_s = np.arange(0.0, 120.0, 0.5)
    flat = np.full_like(time_s, 40.0)
    assert fit.fit(time_s, flat, flat, None) is None
    assert fit.fit(time_s[:40], flat[:40], flat[:40], None) is None
    assert fit.fit(time_s, np.full_like(time_s, np.nan), flat, None) is None


def series(*parts):
    """Return time and watts at half a second from ``(seconds, watts)`` parts."""
    watts = np.concatenate([np.full(int(s * 2), w) for s, w in parts])
    return np.arange(1, watts.size + 1) * 0.5, {"power.package": watts, "held_by": np.zeros_like(watts)}


def test_a_burst_is_found_where_it_ends():
    time_s, columns = series((17, 45.0), (103, 18.0))
    found = phases.find(time_s, columns, 120.0)
    assert [(p.name, p.from_s) for p in found] == [("burst", 0.0), ("sustained", pytest.approx(17.0, abs=1.5))]
    assert found[0].power_w == pytest.approx(45.0, abs=1.5)
    assert found[1].power_w == pytest.approx(18.0, abs=1.5)


def test_an_even_run_has_one_phase_and_a_late_peak_is_no_burst():
    for parts in (((120, 25.0),), ((60, 18.0), (5, 40.0), (55, 18.0))):
        time_s, columns = series(*parts)
        assert [p.name for p in phases.find(time_s, columns, 120.0)] == ["sustained"]
    assert phases.find(np.empty(0), {}, 0.0) == ()


def test_the_sentence_never_claims_what_was_not_measured():
    one = phases.Phase("sustained", 31.0, 600.0, None, 18.0, 60.0, 70.0, {"sustained limit": 0.94, "unknown": 0.06})
    assert what_held((one,)) == "After 31 s the sustained limit held it for 94% of the time; heat never did."
    assert "heat" not in what_held((dataclasses.replace(one, temp_c=None),))
    unknown = dataclasses.replace(one, from_s=0.0, constraint_share={"unknown": 1.0})
    assert what_held((unknown,)) == "Throughout it is not known what held it, for 100% of the time."


def test_a_run_tells_phases_cooling_and_what_it_carries(bolt):
    told = data_of(bolt("run", "steady", "--duration", "3min", "--below", "80C", "--json"))
    assert [phase["name"] for phase in told["phases"]] == ["burst", "sustained"]
    assert told["settled"] is True or told["settled"] > 0
    assert set(told["thermal"]) >= {"resistance_c_per_w", "taus_s", "ambient_c"}
    assert set(told["thermal"]["ambient_c"]) == {"value", "low", "high"}
    carries = told["carries"]
    assert carries["below_c"] == 80.0
    assert carries["low_w"] < carries["sustained_w"] < carries["high_w"]
    shown = bolt("runs", "show", "1", "--below", "80C")
    assert "This cooling carries" in shown.stdout
    assert json.loads(bolt("runs", "show", "1", "--json").stdout)["carries"] is None
    assert bolt("runs", "show", "1", "--below", "80").returncode == 2
