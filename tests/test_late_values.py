"""Values that come into force only a moment after the write, as the kernel's clock bounds do."""

import pytest

from support import FaultyFiles, fresh_machine, put
from upright_bolt.kernel.machine_ports import SETTLE_S, MachinePorts
from upright_bolt.session.machine import Machine
from upright_bolt.session.session import Session
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.lock import MachineLock
from upright_bolt.simulator.machine import SimulatedClock
from upright_bolt.text.trials import refusal

LATE_S = 0.117
"""Seen under load on a real kernel."""


class LateFiles(FaultyFiles):
    """Clock bounds are accepted at once and taken over ``late_s`` later."""

    def __init__(self, twin, late_s=LATE_S):
        super().__init__(twin.files)
        self._twin = twin
        self.late_s = late_s
        self.pending = []

    def _catch_up(self):
        now = self._twin.state.time_s
        due = [entry for entry in self.pending if entry[0] <= now + 1e-9]
        self.pending = [entry for entry in self.pending if entry[0] > now + 1e-9]
        for _, path, data in due:
            self._files.write(path, data)

    def read(self, path):
        self._catch_up()
        return super().read(path)

    def write(self, path, data):
        self._catch_up()
        if path.endswith(("scaling_max_freq", "scaling_min_freq")):
            self.pending.append((self._twin.state.time_s + self.late_s, path, data))
        else:
            super().write(path, data)


def ports_of(twin, files):
    return MachinePorts("twin:tern", files, twin.registers, SimulatedClock(twin))


def test_a_late_value_is_not_called_refused():
    twin = fresh_machine()
    report = put(Backend(ports_of(twin, LateFiles(twin))), {"clock-max": 2000.0, "clock-min": 1200.0})
    assert report.ok, refusal(report)
    assert set(twin.state.clock_high_mhz) == {2000.0}
    assert set(twin.state.clock_low_mhz) == {1200.0}


def test_a_value_that_never_comes_is_refused_once_the_machine_had_its_time():
    twin = fresh_machine()
    files = LateFiles(twin, late_s=SETTLE_S * 20)
    begun = twin.state.time_s
    report = put(Backend(ports_of(twin, files)), {"clock-max": 2000.0})
    assert "the machine holds 4.20 GHz" in refusal(report)
    assert twin.state.time_s - begun >= SETTLE_S


def test_what_was_still_on_its_way_does_not_come_into_force_after_a_refusal():
    twin = fresh_machine()
    files = LateFiles(twin, late_s=SETTLE_S * 1.5)
    put(Backend(ports_of(twin, files)), {"clock-max": 2000.0})
    twin.physics.advance(5.0)
    files.read("/proc/stat")
    assert set(twin.state.clock_high_mhz) == {4200.0}


@pytest.fixture
def opened(tmp_path):
    """A session on tern with late clock bounds; ``again`` opens the same machine in the next process."""
    twin = fresh_machine()
    files = LateFiles(twin)

    def again(holder):
        lock = MachineLock(tmp_path, holder)
        lock.acquire()
        ports = ports_of(twin, files)
        return Session(Machine(ports, "twin"), SettingsEngine(Backend(ports), tmp_path, holder, lock)), lock

    return twin, files, again


def test_putting_back_waits_until_the_earlier_values_hold(opened):
    twin, _, again = opened
    session, _ = again("a test")
    assert session.try_settings({"clock-max": 2000.0}, standing=False).ok
    session.revert()
    assert set(twin.state.clock_high_mhz) == {4200.0}
    session.close()


def test_recovery_waits_too_and_undoes_what_was_on_its_way_when_the_program_died(opened):
    twin, files, again = opened
    session, lock = again("a test")
    session.try_settings({"clock-max": 2000.0}, standing=False)
    files.write("/sys/devices/system/cpu/cpufreq/policy0/scaling_max_freq", b"1500000")  # asked for, not in force yet
    lock.release()
    later, _ = again("the next")
    assert "was put back" in later.recovered
    twin.physics.advance(1.0)
    files.read("/proc/stat")
    assert set(twin.state.clock_high_mhz) == {4200.0}
    later.close()
