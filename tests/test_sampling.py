"""Sampling and what it makes of what it reads."""

import errno

import pytest
from hypothesis import given
from hypothesis import strategies as st

from support import FaultyFiles, SimulatedSession, fresh_machine, read_twin
from upright_bolt.analysis.limits.constraints import Readings, held_by
from upright_bolt.analysis.limits.judge import FixedLimits
from upright_bolt.kernel.sensors.channels import BatteryFiles, BusyTable, Counter, Gauge, Supplies
from upright_bolt.kernel.sensors.number_sweep import NumberSweep, number_of
from upright_bolt.kernel.sensors.sample_reader import SampleReader
from upright_bolt.kernel.survey import Surveyed, survey
from upright_bolt.model.constraint import Constraint as C
from upright_bolt.model.machine import Identity, Topology
from upright_bolt.model.quantity import CLOCK, POWER, SHARE, SPEED
from upright_bolt.model.sensor import Sensor, SensorKind
from upright_bolt.simulator.machine import SimulatedClock


class Hand:
    """A clock and files set by hand."""

    def __init__(self, **files: str) -> None:
        self.files = {f"/{name}": text for name, text in files.items()}
        self.time_s = 0.0

    def now_s(self):
        return self.time_s

    def wait_until(self, time_s):
        self.time_s = time_s

    def opener(self, path, size=0):
        return lambda: self.files[path].encode()


def by_hand(hand, *channels, cpus=()):
    nobody = Identity("x", "", "", None, None, "", "")
    found = Surveyed(nobody, Topology(cpus, {}), {}, channels, (), {}, None, FixedLimits(), hand)
    return SampleReader(hand, None, found, hand)


def test_a_sample_of_tern_measures_everything(on_tern: SimulatedSession):
    on_tern.session.tick()
    on_tern.pass_time(0.5)
    tick = on_tern.session.tick()
    values = dict(zip((s.name for s in on_tern.session.about.sensors), tick.sample.values, strict=True))
    unknown = [name for name, value in values.items() if value is None and not name.startswith("gpu03.")]
    assert unknown == ["battery.hours"]  # the charger is plugged in
    assert {value for name, value in values.items() if name.startswith("gpu03.")} == {None}  # it sleeps
    assert 1.0 < values["power.package"] < 4.0
    assert values["limit.sustained"] == 18.0
    assert values["temperature.package"] == max(values[f"temperature.core{i}"] for i in range(6))
    assert tick.sample.constraint is C.NO_WORK


def test_rates_need_two_samples():
    twin = fresh_machine()
    sampler = SampleReader(twin.files, twin.registers, survey(twin.files, twin.registers, "x"), SimulatedClock(twin))
    first = read_twin(sampler)
    for name in ("power.package", "busy.cpu0", "busy.mean"):
        assert first[sampler.index[name]] is None


class KeptBattery(Hand):
    """A battery whose driver keeps what it said for a second, while every read takes time; unplugged for a while."""

    def __init__(self, unplugged_s, plugged_s, read_s):
        super().__init__()
        self._between_s, self._read_s, self._kept_s = (unplugged_s, plugged_s), read_s, float("-inf")
        self._kept = ("", "")

    def wait_until(self, time_s):
        self.time_s = max(time_s, self.time_s)

    def opener(self, path, size=0):
        def read():
            self.time_s += self._read_s
            plugged = not self._between_s[0] <= self.time_s < self._between_s[1]
            if path == "/online":
                return b"%d" % plugged
            if self.time_s - self._kept_s > 1.0:
                self._kept_s = self.time_s
                self._kept = ("12000000", "Charging") if plugged else ("9500000", "Discharging")
            return self._kept[path == "/status"].encode()

        return read


@given(unplugged_s=st.floats(1.0, 4.0), for_s=st.floats(4.0, 6.0), read_s=st.floats(0.001, 0.1))
def test_a_drain_is_never_the_number_of_another_moment(unplugged_s, for_s, read_s):
    hand = KeptBattery(unplugged_s, unplugged_s + for_s, read_s)
    sensors = {name: Sensor(name, POWER, "", SensorKind.SUPPLY) for name in ("charger", "battery.drain")}
    battery = BatteryFiles("/status", None, "/power", None, None, None, None, in_charge=False)
    sampler = by_hand(hand, Supplies(sensors, ("/online",), (battery,)))
    for step in range(24):
        hand.wait_until(step * 0.5)
        began_s = hand.time_s
        plugged, drain = read_twin(sampler)[:2]
        assert drain in ((0.0, 9.5, None) if plugged else (9.5, None))
        if unplugged_s + 2.5 <= began_s < unplugged_s + for_s - 0.5:
            assert drain == 9.5


@given(start=st.integers(0, 10**9 - 1), joules=st.floats(0.001, 900), seconds=st.floats(0.1, 10))
def test_watts_come_through_the_counter_s_wrap(start, joules, seconds):
    span = 10**9
    hand = Hand(energy=str(start))
    sampler = by_hand(hand, Counter(Sensor("power.package", POWER, "", SensorKind.POWER), "/energy", span))
    sampler.read()
    hand.time_s = seconds
    hand.files["/energy"] = str((start + int(joules * 1e6)) % span)
    assert read_twin(sampler)[0] == pytest.approx(joules / seconds, rel=1e-3, abs=1e-4)


def test_a_file_that_fails_for_a_moment_is_not_measured_in_that_moment():
    twin = fresh_machine()
    files = FaultyFiles(twin.files)
    clock = SimulatedClock(twin)
    sampler = SampleReader(files, twin.registers, survey(files, twin.registers, "x"), clock)
    names = ("power.package", "temperature.package", "limit.sustained", "battery.charge", "busy.cpu0")

    def take():
        clock.wait_until(clock.now_s() + 0.5)
        values = read_twin(sampler)
        return [values[sampler.index[name]] for name in names]

    take()
    assert None not in take()
    for order in (errno.EIO, b"", b"n/a"):
        files.on_read = lambda _n, _p, order=order: order
        assert take() == [None] * len(names)
        files.on_read = lambda _n, _p: None
        take()
        assert None not in take()


def test_a_fan_that_reads_65535_is_no_fan():
    hand = Hand(fan="65535")
    sampler = by_hand(hand, Gauge(Sensor("fan.1", SPEED, "", SensorKind.FAN), "/fan", void=65535))
    assert read_twin(sampler)[0] is None
    hand.files["/fan"] = "0"
    assert read_twin(sampler)[0] == 0.0


def stat(*rows: tuple[int, int]) -> str:
    """A processor-times table: processor and its idle ticks, of 100 a second."""
    lines = [f"cpu{cpu} 7 0 0 {idle - 1} 1 0 0 0 0 0" for cpu, idle in rows]
    return "\n".join(["cpu  0 0 0 0 0 0 0 0 0 0", *lines, "intr 1 2 3", "ctxt 4"])


@pytest.mark.parametrize(
    ("clocks", "mean"), [({}, None), ({1: 2000.0}, 2000.0), ({0: 1000.0, 1: 2000.0}, 1750.0), ({0: 1000.0}, 1000.0)]
)
def test_the_mean_clock_is_that_of_the_clocks_there_are(clocks, mean):
    table = "cpu 0 0 0 {0} 0 0\ncpu0 0 0 0 {1} 0 0\ncpu1 0 0 0 {2} 0 0\nintr 1\n"
    files = {f"clock{cpu}": str(int(mhz * 1000)) for cpu, mhz in clocks.items()}
    hand = Hand(stat=table.format(0, 0, 0), **files)
    gauges = [Gauge(Sensor(f"clock.cpu{n}", CLOCK, "", SensorKind.CLOCK, n), f"/clock{n}", 1e-3) for n in clocks]
    shares = BusyTable({n: Sensor(f"busy.cpu{n}", SHARE, "", SensorKind.BUSY, n) for n in (0, 1)}, "/stat")
    sampler = by_hand(hand, *gauges, shares, cpus=(0, 1))
    sampler.read()
    hand.time_s = 1.0
    hand.files["/stat"] = table.format(100, 75, 25)  # busy for 25 and 75 %
    values = read_twin(sampler)
    assert values[sampler.index["clock.mean"]] == (None if mean is None else pytest.approx(mean))
    assert values[sampler.index["busy.mean"]] == pytest.approx(50.0)


def test_busy_shares_survive_processors_going_and_coming():
    hand = Hand(stat=stat((0, 1), (1, 1), (2, 1)))
    sensors = {n: Sensor(f"busy.cpu{n}", SHARE, "", SensorKind.BUSY, n) for n in range(3)}
    sampler = by_hand(hand, BusyTable(sensors, "/stat"), cpus=(0, 1, 2))

    def shares(*rows):
        hand.files["/stat"] = stat(*rows)
        hand.time_s += 1
        return read_twin(sampler)[:3]

    assert shares((0, 1), (1, 1), (2, 1)) == [None, None, None]
    assert shares((0, 51), (1, 101), (2, 1)) == [50.0, 0.0, 100.0]
    assert shares((0, 101), (2, 1)) == [None, None, None]  # processor 1 went offline: rows are matched anew
    assert shares((0, 151), (2, 26)) == [50.0, None, 75.0]
    assert shares((0, 201), (1, 300), (2, 26)) == [None, None, None]
    assert shares((0, 301), (1, 320), (2, 26)) == [0.0, 80.0, 100.0]
    assert shares((0, 430), (1, 300), (2, 40)) == [0.0, 100.0, 86.0]  # counters run a tick ahead or back: no nonsense


rows = st.dictionaries(
    st.integers(0, 3), st.tuples(st.integers(0, 10**7), st.integers(0, 99), st.integers(0, 99), st.integers(0, 10**4))
)


@given(tables=st.lists(rows, min_size=2, max_size=6), full_load=st.booleans())
def test_busy_shares_are_what_the_columns_say_however_wide_they_are(tables, full_load):
    hand = Hand(stat="")
    sensors = {n: Sensor(f"busy.cpu{n}", SHARE, "", SensorKind.BUSY, n) for n in range(4)}
    sampler = by_hand(hand, BusyTable(sensors, "/stat"), cpus=(0, 1, 2, 3))
    idle, before = {}, {}
    for columns in tables:
        hand.time_s += 1.0
        if not full_load or not idle:
            idle = {cpu: (idle.get(cpu, (0, 0))[0] + more, waiting) for cpu, (_, more, waiting, _) in columns.items()}
        lines = [
            f"cpu{cpu} {columns.get(cpu, (9,))[0]} 0 5 {ticks} {waiting} {columns.get(cpu, (9,))[-1]} 0 0 0 0"
            for cpu, (ticks, waiting) in sorted(idle.items())
        ]
        text = "\n".join(["cpu  0 0 0 0 0 0 0 0 0 0", *lines, "intr 1 2 3"])
        stood, hand.files["/stat"] = text == hand.files["/stat"], text
        expected = dict.fromkeys(range(4))
        if idle.keys() == before.keys() and not stood:
            passed = {cpu: sum(idle[cpu]) - sum(before[cpu]) for cpu in idle}
            expected |= {cpu: min(max(100.0 - ticks, 0.0), 100.0) for cpu, ticks in passed.items()}
        before = idle
        assert read_twin(sampler)[:4] == list(expected.values())


def test_a_processor_that_comes_under_full_load_is_seen():
    hand = Hand(stat=stat((0, 1), (1, 1)))
    sensors = {n: Sensor(f"busy.cpu{n}", SHARE, "", SensorKind.BUSY, n) for n in range(3)}
    sampler = by_hand(hand, BusyTable(sensors, "/stat"), cpus=(0, 1, 2))
    shares = []
    for step, text in enumerate([stat((0, 1), (1, 1)), *[stat((0, 1), (1, 1), (2, 1))] * 3]):
        hand.files["/stat"] = text.replace(" 7 ", f" {7 + step} ")  # others' columns go on
        hand.time_s += 1
        shares.append(read_twin(sampler)[:3])
    assert shares == [[None] * 3, [None] * 3, [100.0] * 3, [100.0] * 3]


texts = st.one_of(
    st.integers(-(10**6), 2**64).map(lambda number: b"%d\n" % number),
    st.sampled_from([b"", b"1,2", b"[1]", b"nan", b"1e999", b"+5", b"007", b"true", b"1 2", b" 12 ", b"\xff", b'"4"']),
)


@given(contents=st.lists(texts, min_size=1, max_size=12))
def test_files_decoded_together_say_what_each_says_by_itself(contents):
    sweep = NumberSweep()
    for content in contents:
        sweep.add(lambda content=content: content, 1e-3)
    assert sweep.read() == [number_of(content, 1e-3) for content in contents]
    assert sweep.read() is sweep.read()


def test_a_file_that_fails_for_good_is_asked_once_a_sweep_and_so_are_the_others():
    asked = []

    def file(name, *, fails):
        def read():
            asked.append(name)
            if fails():
                raise OSError(errno.ENODATA, name)
            return b"7\n"

        return read

    broken = True
    sweep = NumberSweep()
    for name, fails in (("a", lambda: False), ("b", lambda: broken), ("c", lambda: False)):
        sweep.add(file(name, fails=fails), 1.0)
    assert sweep.read() == [7.0, None, 7.0]
    asked.clear()
    assert sweep.read() == [7.0, None, 7.0]
    assert asked == ["a", "b", "c"]
    broken = False
    assert sweep.read() == [7.0, 7.0, 7.0]


def test_a_number_is_never_scaled_beyond_all_bounds():
    with pytest.raises(ValueError, match="more than 1"):
        NumberSweep().add(lambda: b"1e308", 100.0)


@pytest.mark.parametrize("missing", [b"", b"unknown"])
def test_a_counter_that_says_nothing_leaves_the_others_their_rates(missing):
    hand = Hand(**{f"energy{n}": "0" for n in range(6)})
    counters = [Counter(Sensor(f"power.{n}", POWER, "", SensorKind.POWER), f"/energy{n}", 10**9) for n in range(6)]
    sampler = by_hand(hand, *counters)
    sampler.read()
    hand.time_s = 1.0
    for n in range(6):
        hand.files[f"/energy{n}"] = str(n * 10**6)
    hand.files["/energy3"] = missing.decode()
    assert read_twin(sampler)[:6] == pytest.approx([0.0, 1.0, 2.0, None, 4.0, 5.0])


def test_a_table_that_stands_still_is_not_a_busy_share():
    hand = Hand(stat=stat((0, 5)))
    sampler = by_hand(hand, BusyTable({0: Sensor("busy.cpu0", SHARE, "", SensorKind.BUSY, 0)}, "/stat"), cpus=(0,))
    for _ in range(3):
        hand.time_s += 1
        assert read_twin(sampler)[0] is None


BUSY = {"busiest": 100.0, "busy_cores": 6, "clock_mhz": 2400.0, "power_w": 18.0,
        "limits": ((C.SUSTAINED, 18.0), (C.BURST, 45.0)), "temp_c": 60.0, "ceiling_c": 100.0,
        "cap_mhz": 4200.0, "highest_mhz": 4200.0,
        "turbo_table_mhz": (4200.0, 4200.0, 4100.0, 4000.0, 3900.0, 3800.0)}  # fmt: skip


@pytest.mark.parametrize(
    ("changes", "constraint"),
    [
        ({}, C.SUSTAINED),
        ({"busiest": 12.0}, C.NO_WORK),
        ({"busiest": None}, C.UNKNOWN),
        ({"power_w": 44.9}, C.BURST),
        ({"power_w": 25.0, "limits": ((C.SUSTAINED, 25.0), (C.BURST, 25.0))}, C.SUSTAINED),
        ({"power_w": 25.0, "limits": ((C.SUSTAINED, 30.0), (C.BURST, 25.0))}, C.BURST),
        (
            {"power_w": 25.0, "limits": ((C.SUSTAINED, 30.0), (C.BURST, 25.0)), "reasons": frozenset({C.SUSTAINED})},
            C.BURST,
        ),
        ({"power_w": 20.0, "limits": ((C.SUSTAINED, 18.0), (C.BURST, 45.0), (C.PEAK, 20.0))}, C.PEAK),
        ({"temp_c": 99.0}, C.HEAT),
        ({"throttled": True}, C.SUSTAINED),
        ({"throttled": True, "temp_c": 92.0}, C.HEAT),
        ({"power_w": 30.0, "clock_mhz": 3790.0}, C.TURBO_TABLE),
        ({"power_w": 30.0, "clock_mhz": 4190.0, "busy_cores": 1}, C.TURBO_TABLE),
        ({"power_w": 12.0, "clock_mhz": 2000.0, "cap_mhz": 2000.0}, C.CLOCK_CAP),
        ({"power_w": 30.0, "clock_mhz": 3000.0}, C.UNKNOWN),
        ({"power_w": None, "clock_mhz": None}, C.UNKNOWN),
        ({"reasons": frozenset({C.CURRENT}), "power_w": 30.0}, C.CURRENT),
        ({"reasons": frozenset({C.SUSTAINED, C.HEAT}), "temp_c": 98.0}, C.HEAT),
        ({"reasons": frozenset({C.SUSTAINED, C.HEAT})}, C.SUSTAINED),
        ({"reasons": frozenset(), "power_w": 30.0, "clock_mhz": 3800.0}, C.TURBO_TABLE),
        ({"ceiling_c": None, "temp_c": 99.9}, C.SUSTAINED),
    ],
)
def test_one_constraint_is_named(changes, constraint):
    assert held_by(Readings(**BUSY | changes)) is constraint


def test_live_bits_and_bare_numbers_agree_on_tern(on_tern: SimulatedSession):
    """The lanes say the same with and without readable registers, but for moments between two phases."""
    record = on_tern.run(120.0, cool_s=300)
    _, columns = on_tern.store.telemetry(record.id)
    bits = columns["limit.reasons"]
    with_bits = record.end.numbers.constraint_share
    assert with_bits["sustained limit"] > 0.8
    assert with_bits["burst limit"] > 0.06
    assert bits.max() > 0
    twin_records = [
        held for held in with_bits if held not in {"sustained limit", "burst limit", "unknown", "turbo table"}
    ]
    assert twin_records == []
