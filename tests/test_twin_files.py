"""A twin's files behave as the kernel's: rounding, clamping, refusals."""

import errno
import threading

import pytest
from hypothesis import given
from hypothesis import strategies as st

from support import fresh_machine
from upright_bolt.errors import BoltError, FileFault, NotFound
from upright_bolt.kernel import paths, registers
from upright_bolt.kernel.clock import RealClock
from upright_bolt.simulator.chip import tern
from upright_bolt.simulator.files_power import energy_uj, kept_watts, kept_window_s
from upright_bolt.simulator.machine import SimulatedClock, open_simulated
from upright_bolt.simulator.state import load_state

POLICY = "/sys/devices/system/cpu/cpufreq/policy3"
ZONE = "/sys/class/powercap/intel-rapl:0"


def put(twin, path, text):
    twin.files.write(path, text.encode())


def get(twin, path):
    return twin.files.read(path).decode().strip()


@given(st.floats(0.2, 4000))
def test_watts_are_kept_in_eighths_and_keeping_is_idempotent(watts):
    kept = kept_watts(watts)
    assert -1e-6 < watts - kept < 0.1251
    assert (kept * 8) % 1 == 0
    assert kept_watts(kept) == kept


@given(st.floats(0.01, 200))
def test_windows_are_cut_to_the_next_step_and_keeping_is_idempotent(seconds):
    kept = kept_window_s(seconds)
    assert seconds * 0.79 < kept <= seconds * 1.0001
    assert kept_window_s(kept) == kept


def test_the_stock_window_reads_back_near_and_not_equal():
    # 2^14 · (1 + 3/4) units of 976 µs, worked out by hand from the register's layout
    assert get(fresh_machine(), f"{ZONE}/constraint_0_time_window_us") == "27983872"


def test_the_energy_counter_wraps():
    span = int(get(fresh_machine(), f"{ZONE}/max_energy_range_uj"))
    assert energy_uj(span / 1e6 + 10) < 11_000_000
    assert energy_uj(span / 1e6 - 10) > span - 11_000_000


def test_a_preference_is_refused_under_performance_and_returns_with_the_governor():
    twin = fresh_machine()
    put(twin, f"{POLICY}/energy_performance_preference", "96")
    put(twin, f"{POLICY}/scaling_governor", "performance")
    assert get(twin, f"{POLICY}/energy_performance_preference") == "performance"
    with pytest.raises(FileFault) as fault:
        put(twin, f"{POLICY}/energy_performance_preference", "128")
    assert fault.value.errno == errno.EBUSY
    put(twin, f"{POLICY}/energy_performance_preference", "performance")
    put(twin, f"{POLICY}/scaling_governor", "powersave")
    assert get(twin, f"{POLICY}/energy_performance_preference") == "96"


@pytest.mark.parametrize(
    ("file", "text"),
    [
        ("energy_performance_preference", "300"),
        ("energy_performance_preference", "eager"),
        ("scaling_governor", "ondemand"),
        ("scaling_min_freq", "fast"),
    ],
)
def test_nonsense_is_invalid(file, text):
    with pytest.raises(FileFault) as fault:
        put(fresh_machine(), f"{POLICY}/{file}", text)
    assert fault.value.errno == errno.EINVAL


def test_clock_bounds_are_clamped_silently_and_may_not_cross():
    twin = fresh_machine()
    put(twin, f"{POLICY}/scaling_max_freq", "9900000")
    assert get(twin, f"{POLICY}/scaling_max_freq") == "4200000"
    put(twin, f"{POLICY}/scaling_max_freq", "2000000")
    with pytest.raises(FileFault):
        put(twin, f"{POLICY}/scaling_min_freq", "3000000")


def test_with_turbo_off_the_highest_clock_is_the_base_clock_until_turbo_returns():
    twin = fresh_machine()
    put(twin, paths.NO_TURBO, "1")
    assert get(twin, f"{POLICY}/scaling_max_freq") == "2400000"
    assert get(twin, f"{POLICY}/cpuinfo_max_freq") == "2400000"
    put(twin, paths.NO_TURBO, "0")
    assert get(twin, f"{POLICY}/scaling_max_freq") == "4200000"


def test_read_only_and_unknown_files_refuse():
    twin = fresh_machine()
    for path, number in ((f"{POLICY}/base_frequency", errno.EACCES), ("/sys/nothing", errno.ENOENT)):
        with pytest.raises(FileFault) as fault:
            put(twin, path, "1")
        assert fault.value.errno == number
    with pytest.raises(FileFault) as fault:
        twin.files.read(POLICY)
    assert fault.value.errno == errno.EISDIR


def test_registers_tell_the_same_as_the_files():
    twin = fresh_machine()
    put(twin, f"{ZONE}/constraint_0_power_limit_uw", "25000000")
    limit = twin.registers.read(0, registers.PACKAGE_LIMIT)
    assert registers.bits(limit, 14, 0) / 8 == 25.0
    assert registers.bits(twin.registers.read(0, registers.TEMP_TARGET), 23, 16) == 100
    assert registers.bits(twin.registers.read(0, registers.TURBO_TABLE), 47, 40) == 38
    with pytest.raises(FileFault) as fault:
        twin.registers.read(0, 0x1234)
    assert fault.value.errno == errno.EIO
    with pytest.raises(FileFault):
        fresh_machine("plover").registers.write(0, registers.PACKAGE_LIMIT, 0)


def test_an_unknown_twin_names_those_there_are():
    with pytest.raises(NotFound, match="tern"):
        open_simulated("albatross", None)


@pytest.mark.parametrize("content", ["", "{", "[]", '{"format": 1}', '{"format": 99}'])
def test_a_damaged_state_is_refused_in_words(tmp_path, content):
    path = tmp_path / "twin.json"
    path.write_text(content)
    with pytest.raises(BoltError, match="delete it to start afresh"):
        load_state(path, tern())


def test_a_change_of_mode_rewrites_the_limits_within_a_second():
    twin = fresh_machine()
    put(twin, paths.PLATFORM_PROFILE, "performance")
    assert get(twin, f"{ZONE}/constraint_0_power_limit_uw") == "18000000"
    twin.physics.advance(1.0)
    assert get(twin, f"{ZONE}/constraint_0_power_limit_uw") == "28000000"
    assert get(twin, paths.PLATFORM_PROFILE) == "performance"
    with pytest.raises(FileFault) as fault:
        put(twin, paths.PLATFORM_PROFILE, "loud")
    assert fault.value.errno == errno.EINVAL


def test_the_twin_s_clock_keeps_its_pace():
    twin = fresh_machine()
    twin.pace = 200.0
    clock = SimulatedClock(twin)
    start = clock.now_s()
    clock.wait_until(start + 10)
    assert clock.now_s() == pytest.approx(start + 10)
    clock.wait_until(start)  # never backwards
    assert clock.now_s() == pytest.approx(start + 10)


@pytest.mark.parametrize("simulated", [False, True])
def test_a_wait_of_an_hour_ends_once_it_is_woken(simulated):
    twin = fresh_machine()
    twin.set_pace(1.0)
    clock = SimulatedClock(twin) if simulated else RealClock()
    start, woken = clock.now_s(), threading.Event()
    threading.Timer(0.05, woken.set).start()
    clock.wait_until(start + 3600.0, woken)
    assert start < clock.now_s() < start + 1800.0
