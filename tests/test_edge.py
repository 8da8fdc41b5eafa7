"""What is known of an edge, and what is tested next: the numbers alone, and the twins they are rehearsed on."""

from dataclasses import replace
from statistics import fmean, stdev

import numpy as np
import pytest

from upright_bolt.analysis.stability import test_choice
from upright_bolt.analysis.stability.belief import EDGE_S, EdgeBelief, Observed
from upright_bolt.analysis.stability.planner import VOLTAGE, Gain, next_of, turned_at
from upright_bolt.analysis.stability.test_choice import (
    BOLDNESS,
    EIGHT_HOURS_S,
    AxisScale,
    failed_position,
    final_position,
    next_test,
    proven_position,
)
from upright_bolt.errors import NotFound
from upright_bolt.model.catalogue import TOGETHER
from upright_bolt.model.search import Asked
from upright_bolt.simulator import rails
from upright_bolt.simulator.chip import tern, tern_two_rails
from upright_bolt.simulator.machine import SimulatedMachine
from upright_bolt.simulator.samples import individual, spec_named

SCALE = AxisScale(1.0, 250.0, VOLTAGE)


def seen(dice, truth, position, load_s, stop_errors) -> Observed:
    """Return what a machine with a true edge, slope and gap shows."""
    edge, slope, gap = truth
    error, freeze = (np.exp(min((position - edge - further) / slope, 6.0)) / EDGE_S for further in (0.0, gap))
    at = np.cumsum(dice.exponential(1.0 / error, size=stop_errors))
    frozen = dice.exponential(1.0 / freeze)
    end = min(load_s, at[-1], frozen)
    return Observed(position, end, int((at <= end).sum()), froze=bool(frozen <= end))


def drawn(dice) -> tuple[float, float, float]:
    slope = VOLTAGE.slope * np.exp(VOLTAGE.slope_log_sd * dice.normal())
    return dice.normal(VOLTAGE.edge, VOLTAGE.edge_sd), slope, max(3.0, dice.normal(VOLTAGE.gap, VOLTAGE.gap_sd))


def test_the_truth_lies_within_its_interval_as_often_as_it_says():
    inside = {"edge": 0, "slope": 0}
    count = 60
    for number in range(count):
        dice = np.random.default_rng(number)
        truth = drawn(dice)
        tested: list[Observed] = []
        for _ in range(12):
            test = next_test(SCALE, BOLDNESS["careful"], tested)
            if test is None:
                break
            tested.append(seen(dice, truth, test.position, test.load_s, test.stop_errors))
        belief = EdgeBelief(VOLTAGE, tested)
        for name, true in (("edge", truth[0]), ("slope", truth[1])):
            found = belief.estimate(getattr(belief, name))
            inside[name] += found.low - 1e-9 <= true <= found.high + 1e-9
    assert inside["edge"] >= 0.88 * count
    assert inside["slope"] >= 0.88 * count


@pytest.mark.parametrize("stop_errors", [1, 4, 12])
def test_the_endings_looked_ahead_at_are_all_there_are(stop_errors):
    error, freeze = np.geomspace(1e-9, 50.0, 40), np.geomspace(1e-12, 90.0, 40)
    chances, froze = test_choice._endings(error, freeze, 60.0, stop_errors)
    assert chances.sum(axis=0) == pytest.approx(np.ones(40), abs=1e-6)
    assert ((froze >= 0.0) & (froze <= 1.0)).all()


def test_what_is_tested_next_dares_no_more_than_it_says():
    for name, bold in BOLDNESS.items():
        dice = np.random.default_rng(7)
        tested: list[Observed] = []
        for _ in range(40):
            test = next_test(SCALE, bold, tested)
            if test is None:
                break
            assert test.freezes <= bold.freeze_cap, name
            assert test.position <= proven_position(tested) + bold.reach * VOLTAGE.slope + 1e-9
            assert test.spread_after < test.spread
            tested.append(seen(dice, (100.0, 3.5, 20.0), test.position, test.load_s, test.stop_errors))
        assert next_test(SCALE, bold, tested) is None, f"{name} comes to an end"


def test_what_is_kept_lies_before_all_that_failed_and_within_the_share_asked_for():
    tested = [Observed(p, 60.0) for p in (40.0, 60.0, 80.0)] + [Observed(95.0, 12.0, 1)]
    finals = [final_position(SCALE, tested, share) for share in (0.001, 0.01, 0.1)]
    assert 0.0 < finals[0] < finals[1] < finals[2] <= 80.0
    assert EdgeBelief(VOLTAGE, tested).predicted(finals[1], EIGHT_HOURS_S).value <= 0.01
    assert EdgeBelief(VOLTAGE, tested).predicted(finals[1] + 2.0, EIGHT_HOURS_S).value > 0.9 * 0.01
    assert failed_position(tested) == 95.0
    nearly = [*tested, Observed(finals[1] + 1.0, 5.0, 1)]
    assert final_position(SCALE, nearly, 0.1) <= finals[1] - 1.0


def test_hours_without_an_error_move_the_advice_both_ways():
    tested = [Observed(80.0, 60.0), Observed(95.0, 12.0, 1)]
    before = final_position(SCALE, tested, 0.01)
    assert final_position(SCALE, [*tested, Observed(before + 15.0, 8 * 3600.0)], 0.01) > before
    assert final_position(SCALE, [*tested, Observed(before + 15.0, 900.0, 1)], 0.01) < before


def test_plain_steps_go_on_until_one_fails():
    asked = Asked(1, TOGETHER, "", "", plain_step=10.0)
    first = next_of(SCALE, asked, [], [])
    assert first is not None
    assert first.position == 10.0
    second = next_of(SCALE, asked, [Observed(10.0, 60.0)], [])
    assert second is not None
    assert second.position == 20.0
    assert next_of(SCALE, asked, [Observed(10.0, 60.0), Observed(20.0, 5.0, 1)], []) is None
    assert next_of(replace(SCALE, furthest=15.0), asked, [Observed(10.0, 60.0)], []) is None


def test_a_freeze_whose_moment_is_lost_is_no_proof_of_the_time_before_it():
    prior = VOLTAGE
    passed = Observed(90.0, 48.0)
    lost = EdgeBelief(prior, [passed, Observed(135.0, 48.0, froze=True, lost=True)])
    at_once = EdgeBelief(prior, [passed, Observed(135.0, 0.2, froze=True)])
    late = EdgeBelief(prior, [passed, Observed(135.0, 24.0, froze=True)])
    edges = [belief.estimate(belief.edge).value for belief in (lost, at_once, late)]
    assert edges[2] > 125.0, "half a minute without an error there would move the edge beyond it"
    assert edges[0] < 115.0
    assert edges[0] == pytest.approx(edges[1], abs=6.0)


def test_a_gain_that_turns_ends_the_search_and_a_dip_does_not():
    rising = [Gain(0.0, 100.0), Gain(40.0, 103.0), Gain(80.0, 106.0)]
    assert turned_at(rising) is None
    assert turned_at([*rising, Gain(100.0, 104.0)]) is None
    turned = [*rising, Gain(100.0, 104.0), Gain(110.0, 102.0)]
    assert turned_at(turned) == 80.0
    assert next_of(SCALE, Asked(1, TOGETHER, "", ""), [Observed(80.0, 20.0)], turned) is None


# the twins


def test_an_individual_is_the_same_everywhere_and_like_no_other():
    assert spec_named("tern#1234") == individual(tern(), 1234)
    assert spec_named("tern") == tern()
    assert spec_named("tern#1").chip != spec_named("tern#2").chip
    for wrong in ("tern#", "tern#-1", "tern#1234567890", "tern#x", "gull#1", "tern #1"):
        with pytest.raises(NotFound, match=r"tern#1234"):
            spec_named(wrong)


def test_individuals_are_spread_as_chips_of_a_batch_are():
    chips = [individual(tern(), number).chip for number in range(300)]
    core = [chip.core_edge_mv for chip in chips]
    assert fmean(core) == pytest.approx(-118.0, abs=4.0)
    assert stdev(core) == pytest.approx(22.0, abs=3.0)
    apart = [chip.cache_edge_mv - chip.core_edge_mv for chip in chips]
    assert fmean(apart) == pytest.approx(18.0, abs=1.5)
    assert stdev(apart) == pytest.approx(8.0, abs=1.2)
    assert stdev(np.log([chip.slope_mv for chip in chips])) == pytest.approx(0.25, abs=0.03)
    assert fmean(chip.freeze_beyond_mv for chip in chips) == pytest.approx(20.0, abs=1.5)
    assert all(0.0 in chip.core_nearer_mv for chip in chips)


FULL = rails.Conditions(65.0, 2400.0, 1.0, "memory")


def rate(chip, position, conditions=FULL) -> float:
    found = rails.rates(chip, rails.rails_of(chip, [-position, 0.0, -position, 0.0, 0.0]), conditions)
    return found.core + found.cache


def test_the_hazard_has_no_end_and_grows_by_e_over_its_slope():
    chip = tern().chip
    assert rate(chip, 91.0) == pytest.approx(1.0 / rails.EDGE_S, rel=0.01)
    for position in (10.0, 40.0, 80.0):
        assert rate(chip, position + chip.slope_mv) / rate(chip, position) == pytest.approx(np.e, rel=0.01)
    assert rate(chip, 0.0) > 0.0
    flatter = replace(chip, tail_flatter=2.0)
    assert rate(flatter, 91.0) == pytest.approx(rate(chip, 91.0), rel=0.01)
    assert rate(flatter, 40.0) > 20.0 * rate(chip, 40.0)
    assert rate(replace(chip, ageing_mv_per_day=3.0), 80.0) == rate(chip, 80.0)


@pytest.mark.parametrize(
    ("more", "what"),
    [
        ({"die_c": 95.0}, "heat"),
        ({"die_c": 20.0}, "cold"),
        ({"clock_mhz": 3800.0}, "clock"),
        ({"stepped": True}, "a step of load"),
    ],
)
def test_what_moves_the_edge_nearer(more, what):
    chip = tern().chip
    assert rate(chip, 70.0, replace(FULL, **more)) > 1.2 * rate(chip, 70.0), what


def test_mixes_and_rails_differ_and_the_weaker_offset_counts_on_a_shared_one():
    shared, apart = tern().chip, tern_two_rails().chip
    vector = replace(FULL, mix="vector")
    assert rails.rates(apart, rails.rails_of(apart, [-112.0, 0, 0, 0, 0]), vector).core > 0.02
    assert rails.rates(apart, rails.rails_of(apart, [-112.0, 0, 0, 0, 0]), vector).cache < 1e-9
    assert rails.rails_of(shared, [-112.0, 0, 0, 0, 0]).core_mv == 0.0
    idle = rails.Conditions(45.0, 800.0, 0.0)
    deep = rails.rails_of(shared, [-120.0, 0, -120.0, 0, 0])
    assert rails.rates(shared, deep, idle).freezes > 0.0
    assert rails.rates(shared, deep, idle).core == 0.0


def test_a_very_deep_offset_lets_the_score_turn_though_nothing_errs():
    spec = tern()
    strong = replace(spec.chip, core_edge_mv=-400.0, cache_edge_mv=-400.0)

    def done(offset_mv: float) -> float:
        twin = SimulatedMachine(replace(spec, chip=strong, restless=0.0))
        twin.state.offsets_mv = [-offset_mv, 0.0, -offset_mv, 0.0, 0.0]
        twin.physics.settings_changed()
        twin.demand(frozenset(range(12)))
        twin.physics.advance(90.0)
        assert not twin.state.faults_seen
        return twin.state.units

    assert done(100.0) > 1.03 * done(0.0)
    assert done(190.0) < done(130.0)
