"""What charts are fed: columns that grow for a day, thinning that loses no peak, spans and their words."""

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from upright_bolt.desktop.app import application
from upright_bolt.desktop.widgets.chart import TimeAxis
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.event import RunStarted
from upright_bolt.model.quantity import CLOCK, POWER, clock_text
from upright_bolt.model.sample import Sample
from upright_bolt.model.sensor import Sensor, SensorKind
from upright_bolt.presentation.history import KEEP_S, History, spans_of, thinned
from upright_bolt.presentation.ticks import round_ticks

SENSORS = (
    Sensor("clock.cpu0", CLOCK, "", SensorKind.CLOCK, 0),
    Sensor("clock.cpu1", CLOCK, "", SensorKind.CLOCK, 1),
    Sensor("power.package", POWER, "", SensorKind.POWER),
    Sensor("clock.mean", CLOCK, "", SensorKind.CLOCK),
)


def sample(time_s, power=10.0, held=Constraint.NO_WORK):
    return Sample(time_s, [900.0, 1100.0, power, 1000.0], held)


def filled(count, step=0.5):
    history = History(SENSORS)
    history.add([sample(i * step, power=float(i % 50)) for i in range(count)], [])
    return history


def test_columns_grow_and_keep_what_is_not_measured_apart():
    history = filled(10_000)
    assert len(history) == 10_000
    assert history.column("time")[-1] == 4999.5
    assert (history.last("clock_low"), history.last("clock_high"), history.last("clock_mean")) == (900, 1100, 1000)
    assert history.last("temperature") is None
    assert np.isnan(history.column("fan")).all()
    assert history.highest == {"power": 49.0}


def test_more_than_a_day_is_let_go_with_its_events():
    history = History(SENSORS)
    history.add([sample(0.0)], [RunStarted(0.0, 1)])
    history.add([sample(KEEP_S + 100 + i) for i in range(3)], [RunStarted(KEEP_S + 101, 2)])
    assert len(history) == 3
    assert [event.run_id for event in history.events if isinstance(event, RunStarted)] == [2]


def test_a_span_takes_one_row_more_on_either_side():
    history = filled(100, step=1.0)
    seen = history.seen(10.2, 20.7)
    assert seen["time"][[0, -1]].tolist() == [10.0, 21.0]
    assert [len(column) for column in seen.values()] == [12] * len(seen)
    assert history.seen(-50, 5)["time"][0] == 0.0
    assert len(history.seen(500, 600)["time"]) <= 1


@pytest.mark.parametrize("length", [1, 3, 2047, 2048, 2049, 5000])
def test_how_long_the_constraint_of_the_moment_has_held(length):
    history = History(SENSORS)
    assert history.held_since_s() == 0.0
    held = [Constraint.HEAT] * 7 + [Constraint.NO_WORK] * length
    history.add([sample(i * 0.5, held=constraint) for i, constraint in enumerate(held)], [])
    assert history.held_since_s() == 0.5 * (length - 1)
    history = filled(length)
    assert history.held_since_s() == 0.5 * (length - 1)  # it has never been another


floats = st.one_of(st.floats(-1e6, 1e6), st.just(float("nan")))


@settings(max_examples=60, deadline=None)
@given(st.lists(floats, min_size=1, max_size=900), st.integers(10, 300))
def test_thinning_keeps_every_peak_and_the_order(values, most):
    times = np.arange(len(values), dtype=float)
    column = np.array(values)
    thin_times, thin = thinned(times, column, most)
    assert len(thin) <= most + 2 * (len(values) * 2 // most + 2)
    assert (np.diff(thin_times) >= 0).all()
    known = column[~np.isnan(column)]
    if known.size:
        assert np.nanmax(thin) == known.max()
        assert np.nanmin(thin) == known.min()
    indices = thin_times.astype(int)
    assert np.array_equal(thin, column[indices], equal_nan=True)  # only what was measured, at its own time


@settings(max_examples=60, deadline=None)
@given(st.lists(st.integers(0, 3), min_size=2, max_size=200), st.integers(0, 3))
def test_spans_cover_just_the_samples_with_their_code(codes, code):
    times = np.arange(len(codes), dtype=float)
    spans = spans_of(times, np.array(codes, dtype=float)).get(code, [])
    covered = sum(end - start for start, end in spans)
    assert covered == sum(1 for c in codes[:-1] if c == code)  # each sample holds until the next
    assert all(start < end or end == times[-1] for start, end in spans)
    assert all(a[1] < b[0] for a, b in pairwise(spans))


def test_what_nobody_knows_has_no_span():
    held = np.array([1.0, np.nan, np.nan, 1.0, 1.0])
    assert spans_of(np.arange(5.0), held) == {1: [(0.0, 1.0), (3.0, 4.0)]}
    assert spans_of(np.array([]), np.array([])) == {}


@pytest.mark.parametrize(
    ("seconds", "words"),
    [
        (0, "0:00"),
        (59.6, "1:00"),
        (-120, "−2:00"),
        (600, "10:00"),
        (3661, "1:01:01"),
        (-0.2, "0:00"),
        (-7200, "−2:00:00"),
    ],
)
def test_times_read_as_minutes_and_seconds(seconds, words):
    assert clock_text(seconds) == words


@pytest.mark.parametrize("span", [10.0, 60.0, 600.0, 3600.0, 86400.0])
def test_ticks_stand_at_whole_steps_and_never_crowd(span):
    application()
    axis = TimeAxis(ends_now=True)
    axis.zero = 1234.5
    step, ticks = axis.tickValues(axis.zero - span, axis.zero + 1, 460)[0]
    assert 2 <= len(ticks) <= 14
    assert all(abs((tick - axis.zero) / step - round((tick - axis.zero) / step)) < 1e-9 for tick in ticks)
    assert axis.tickStrings([axis.zero], 1, step) == ["now"]


@given(st.floats(-1e3, 1e3), st.floats(0.5, 1e4), st.integers(2, 8))
def test_ticks_of_a_scale_are_round_and_few(low, span, most):
    ticks = round_ticks(low, low + span, most)
    assert len(ticks) <= most
    assert all(low - 1e-6 <= tick <= low + span + 1e-6 for tick in ticks)
    if len(ticks) > 1:
        step = ticks[1] - ticks[0]
        assert f"{step:.4e}"[:6] in ("1.0000", "2.0000", "5.0000")
        assert all(abs(tick / step - round(tick / step)) < 1e-6 for tick in ticks)


def test_ticks_of_usual_scales():
    assert round_ticks(6.0, 60.0, 6) == [10.0, 20.0, 30.0, 40.0, 50.0, 60.0]
    assert round_ticks(-250.0, 0.0, 6) == [-250.0, -200.0, -150.0, -100.0, -50.0, 0.0]
    assert round_ticks(5.0, 5.0, 6) == []
