"""The twin against what practice tells of such machines."""

from dataclasses import asdict, replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from upright_bolt.simulator.chip import tern
from upright_bolt.simulator.demand import Demand
from upright_bolt.simulator.machine import open_simulated
from upright_bolt.simulator.noise import Noise
from upright_bolt.simulator.physics import Physics
from upright_bolt.simulator.rails import AGENT, Conditions, rails_of, rates
from upright_bolt.simulator.state import document, fresh_state, load_state

EVERYONE = frozenset(range(12))


def machine(limits=None, *, turbo=True, epp=128) -> Physics:
    spec = tern()
    state = fresh_state(spec)
    if limits:
        state.limits = [list(limits), list(limits)]
    state.no_turbo = not turbo
    state.epp = [epp] * 12
    physics = Physics(spec, state)
    physics.advance(60)
    return physics


def load(physics: Physics, seconds: float, step: float = 0.5) -> dict[str, list[float]]:
    """Load all threads and return what a watcher sees every half second."""
    physics.demand = Demand(EVERYONE)
    seen: dict[str, list[float]] = {"clock": [], "watts": [], "temp": [], "score": []}
    start = physics.state.units
    for _ in range(round(seconds / step)):
        physics.advance(step)
        seen["clock"].append(physics.state.clock_mhz)
        seen["watts"].append(physics.state.package_w)
        seen["temp"].append(physics.hottest_c())
    seen["score"] = [(physics.state.units - start) * 60 / seconds]
    return seen


def tail(values: list[float]) -> float:
    return sum(values[-60:]) / len(values[-60:])


def test_stock_bursts_for_seconds_and_then_settles_at_the_sustained_limit():
    seen = load(machine(), 600)
    assert 44 < seen["watts"][4] <= 45.01
    assert 3500 < seen["clock"][4] < 3800
    first_low = next(i for i, watts in enumerate(seen["watts"]) if watts < 20) * 0.5
    assert 8 < first_low < 20
    assert tail(seen["watts"]) == pytest.approx(18.0, abs=0.1)
    assert tail(seen["temp"]) > seen["temp"][round(2 * first_low) + 20]  # heat goes on rising slowly


def test_a_flat_25_w_limit_peaks_cooler_than_stock_and_is_faster_in_the_end():
    stock, flat = load(machine(), 600), load(machine((25, 25, 28)), 600)
    assert max(flat["temp"]) < max(stock["temp"]) - 2
    assert tail(flat["clock"]) > tail(stock["clock"]) * 1.15
    assert flat["score"][0] > stock["score"][0] * 1.1


def test_turbo_off_costs_about_a_third_of_the_score_and_half_the_watts():
    free, base = load(machine((60, 60, 28)), 600), load(machine((60, 60, 28), turbo=False), 600)
    assert 0.62 < base["score"][0] / free["score"][0] < 0.75
    assert 0.38 < tail(base["watts"]) / tail(free["watts"]) < 0.58
    assert tail(base["temp"]) < tail(free["temp"]) - 25


def test_without_limits_heat_holds_it_at_the_ceiling_and_is_counted():
    physics = machine((60, 60, 28))
    seen = load(physics, 600)
    assert max(seen["temp"]) <= 101.0
    assert tail(seen["temp"]) == pytest.approx(99.5, abs=1.2)
    assert physics.state.throttle_events >= 1
    assert physics.state.throttle_s > 100


def test_same_seed_same_numbers_and_another_seed_others():
    def trace(seed):
        physics = Physics(tern(), fresh_state(tern(), seed))
        return load(physics, 30)["clock"]

    assert trace(5) == trace(5)
    assert trace(5) != trace(6)


def test_a_saved_twin_goes_on_exactly_where_it_was(tmp_path):
    spec = tern()
    physics = Physics(spec, fresh_state(spec))
    load(physics, 20)
    path = tmp_path / "twin.json"
    document(path).save(physics.state)
    resumed = Physics(spec, load_state(path, spec))
    resumed.demand = physics.demand
    physics.advance(10)
    resumed.advance(10)
    assert asdict(resumed.state) == asdict(physics.state)


@settings(max_examples=25, deadline=None)
@given(
    sustained=st.floats(8, 45), extra=st.floats(0, 30), window=st.floats(2, 60), threads=st.integers(1, 12),
    turbo=st.booleans(),
)  # fmt: skip
def test_no_setting_breaks_the_limits_or_the_energy(sustained, extra, window, threads, turbo):
    burst = min(60.0, sustained + extra)
    physics = machine((sustained, burst, window), turbo=turbo)
    physics.demand = Demand(frozenset(range(threads)))
    before_j, average = physics.state.energy_j, physics.state.average_w
    joules = 0.0
    for _ in range(300):
        physics.advance(0.1)
        state = physics.state
        joules += state.package_w * 0.1
        average += (state.package_w - average) * (1 - 2.718281828459045 ** (-0.1 / window))
        at_floor = state.clock_mhz <= physics.spec.chip.clock_min_mhz + 1
        assert state.package_w <= burst + 0.05 or at_floor
        assert average <= max(sustained, 3.0) + 0.3 or at_floor
        assert 400 <= state.clock_mhz <= (4200 if turbo else 2400) + 0.1
    assert physics.state.energy_j - before_j == pytest.approx(joules, rel=1e-6)


@settings(max_examples=20, deadline=None)
@given(low=st.floats(8, 40), more=st.floats(1, 15))
def test_more_watts_never_mean_a_lower_settled_clock(low, more):
    def settled(watts):
        return tail(load(machine((watts, watts, 5)), 90)["clock"])

    assert settled(low + more) >= settled(low) - 40


def test_one_thread_reaches_the_single_core_turbo():
    physics = machine((45, 60, 28))
    physics.demand = Demand(frozenset({0}))
    physics.advance(5)
    assert physics.state.clock_mhz > 4100


def test_a_thrifty_preference_ramps_more_slowly():
    def after(epp):
        physics = machine((60, 60, 28), epp=epp)
        physics.demand = Demand(EVERYONE)
        physics.advance(0.3)
        return physics.state.clock_mhz

    assert after(0) > after(128) > after(255)


def test_firmware_puts_its_limits_back_within_a_second_of_plugging():
    twin = open_simulated("tern", None)
    twin.state.limits = [[25.0, 25.0, 28.0], [25.0, 25.0, 28.0]]
    twin.plug(charger=False)
    twin.physics.advance(0.3)
    assert twin.state.limits[0][0] == 25.0
    twin.physics.advance(0.7)
    assert twin.state.limits == [[12.0, 20.0, 28.0]] * 2
    charge = twin.state.battery_j
    twin.physics.advance(60)
    assert twin.state.battery_j < charge
    twin.plug(charger=True)
    twin.physics.advance(1.0)
    assert twin.state.limits[1] == [18.0, 45.0, 28.0]


def test_noise_is_even_and_repeatable():
    noise = Noise(7)
    draws = [noise.uniform() for _ in range(4000)]
    assert 0 <= min(draws) < 0.01
    assert 0.99 < max(draws) < 1
    assert sum(draws) / len(draws) == pytest.approx(0.5, abs=0.02)
    bells = [noise.gaussian() for _ in range(4000)]
    assert sum(bells) / len(bells) == pytest.approx(0, abs=0.06)
    assert sum(b * b for b in bells) / len(bells) == pytest.approx(1, abs=0.08)
    again = Noise(noise.state)
    assert noise.uniform() == again.uniform()


def test_heat_reaches_a_steady_state_that_the_watts_explain():
    spec = replace(tern(), restless=0.0)
    physics = Physics(spec, fresh_state(spec))
    physics.state.surroundings.room_c = physics.state.surroundings.case = 0.0
    physics.state.limits = [[20.0, 20.0, 5.0]] * 2
    physics.settings_changed()
    load(physics, 2400)
    state, cooling = physics.state, physics.spec.cooling
    to_air = (state.sink_c - cooling.ambient_c) * (cooling.still_w_per_k + cooling.fan_w_per_k_krpm * state.rpm / 1000)
    by_case = (state.case_c - cooling.ambient_c) / cooling.case_to_air
    assert to_air + by_case == pytest.approx(20.0, rel=0.02)  # what goes in comes out
    assert state.die_c > state.sink_c > state.case_c > cooling.ambient_c


def test_the_hottest_core_is_the_package_s_temperature():
    physics = machine()
    load(physics, 10)
    cores = [physics.core_c(core) for core in range(6)]
    assert max(cores) == physics.hottest_c()
    assert cores[0] == max(cores)


def test_a_cap_on_some_cores_costs_only_their_share():
    def score(caps):
        physics = machine((60, 60, 28))
        physics.state.clock_high_mhz = caps
        physics.settings_changed()
        return load(physics, 30)["score"][0]

    free, half, capped = score([4200.0] * 12), score([4200.0] * 6 + [2000.0] * 6), score([2000.0] * 12)
    assert capped < half < free
    assert half == pytest.approx((free + capped) / 2, rel=0.03)


# what people report of such machines


def deep(limits=None, *, offset=0.0, epp=128, enforced=True) -> Physics:
    """A rested tern whose chip stands any offset, so that its physics can be looked at beyond its edge."""
    spec = tern()
    spec = replace(spec, chip=replace(spec.chip, core_edge_mv=-400.0, cache_edge_mv=-400.0), restless=0.0)
    state = fresh_state(spec)
    if limits:
        state.limits = [list(limits), list(limits)]
    state.limits_on = state.burst_on = [enforced, enforced]
    state.epp = [epp] * 12
    state.offsets_mv[0] = state.offsets_mv[2] = offset
    physics = Physics(spec, state)
    physics.advance(600)
    return physics


def resting_w(physics: Physics) -> float:
    before = physics.state.energy_j
    physics.advance(60)
    return (physics.state.energy_j - before) / 60


def test_watts_at_rest_fall_to_about_half_with_deep_offsets():
    assert 0.4 < resting_w(deep(offset=-140.0)) / resting_w(deep()) < 0.65


def test_at_rest_preference_0_holds_the_highest_clock_and_255_the_lowest():
    clocks = {epp: deep(epp=epp).state.clock_mhz for epp in (0, 128, 255)}
    assert clocks[0] == 4200.0
    assert clocks[255] == 800.0
    assert 800.0 < clocks[128] < 1400.0


def test_under_light_load_preference_255_holds_the_lowest_clock():
    def clock(epp: int) -> float:
        physics = deep(epp=epp)
        physics.demand = Demand(EVERYONE, share=0.15)
        physics.advance(30)
        return physics.state.clock_mhz

    assert clock(255) == 800.0
    assert clock(0) > 3500.0
    assert clock(255) < clock(128) < clock(0)


def test_a_minute_under_a_low_limit_with_a_big_burst_peaks_hotter_than_a_flat_25_w():
    burst, flat = load(deep((15, 44, 28)), 60), load(deep((25, 25, 28)), 60)
    assert max(burst["temp"]) > max(flat["temp"]) + 4


def test_offsets_without_a_limit_in_the_way_make_it_cooler_by_9_to_13_degrees():
    plain, less = (load(deep(offset=mv, enforced=False), 600) for mv in (0.0, -120.0))
    assert 9.0 < tail(plain["temp"]) - tail(less["temp"]) < 13.0


def test_on_a_shared_rail_one_offset_alone_moves_nothing_and_errs_no_sooner():
    def moved(core: float, cache: float, *, shared: bool) -> tuple[float, float]:
        spec = tern()
        spec = replace(spec, chip=replace(spec.chip, shared_rail=shared), restless=0.0)
        state = fresh_state(spec)
        state.offsets_mv[0], state.offsets_mv[2] = core, cache
        rails = rails_of(spec.chip, state.offsets_mv)
        physics = Physics(spec, state)
        physics.demand = Demand(EVERYONE)
        physics.advance(10.0)
        return rails.worst_mv, physics.state.clock_mhz

    stock = moved(0.0, 0.0, shared=True)
    assert moved(-150.0, 0.0, shared=True) == stock
    assert moved(0.0, -150.0, shared=True) == stock
    both = moved(-60.0, -60.0, shared=True)
    assert both[1] > stock[1] + 50
    alone = moved(-60.0, 0.0, shared=False)
    assert alone[1] > stock[1] + 50
    assert alone[0] == pytest.approx(-52.0)  # the core's own edge is at −112 mV


def test_runs_differ_from_one_to_the_next_and_a_still_twin_s_do_not():
    def spread(restless: float) -> float:
        spec = replace(tern(), restless=restless)
        physics = Physics(spec, fresh_state(spec))
        scores = []
        for _ in range(6):
            physics.demand = Demand(EVERYONE)
            begun = physics.state.units
            physics.advance(120)
            scores.append(physics.state.units - begun)
            physics.demand = Demand()
            physics.advance(240)
        mean = sum(scores[1:]) / 5
        return (sum((s - mean) ** 2 for s in scores[1:]) / 4) ** 0.5 / mean

    assert spread(0.0) < 0.0005
    assert 0.001 < spread(1.0) < 0.006
    assert spread(4.0) > spread(1.0)


def test_the_system_agent_s_offset_saves_a_little_at_rest_and_freezes_when_deep():
    watts = []
    for offset in (0.0, -50.0):
        physics = machine()
        physics.state.offsets_mv[AGENT] = offset
        physics.settings_changed()
        physics.advance(30)
        watts.append(physics.state.package_w)
    assert 0.02 < 1.0 - watts[1] / watts[0] < 0.08
    deep = [0.0, 0.0, 0.0, -170.0, 0.0]
    resting = Conditions(40.0, 800.0, 0.0)
    assert rates(tern().chip, rails_of(tern().chip, deep), resting).freezes > 0.1
    assert rates(tern().chip, rails_of(tern().chip, [0.0] * 5), resting).freezes < 1e-6


def test_limits_take_the_clock_below_the_lowest_that_is_set_and_it_is_shown():
    twin = open_simulated("tern", None)
    twin.state.clock_low_mhz = [3500.0] * 12
    twin.physics.settings_changed()
    twin.demand(EVERYONE)
    twin.physics.advance(120)
    shown_khz = int(twin.files.read("/sys/devices/system/cpu/cpufreq/policy0/scaling_cur_freq"))
    assert twin.state.package_w == pytest.approx(18.0, abs=0.2)
    assert shown_khz == pytest.approx(1000.0 * twin.state.clock_mhz, abs=20_000.0)
    assert shown_khz < 2_600_000
