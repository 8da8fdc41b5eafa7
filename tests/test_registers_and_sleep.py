"""What stands behind registers: believed only where it is known, put back bit by bit, and told from sleep."""

import errno
import itertools
from functools import partial
from pathlib import Path

import pytest

from profile_support import Desk
from support import FaultyFiles, fresh_machine
from trees import build_tree
from upright_bolt.app import open_session
from upright_bolt.errors import FileFault
from upright_bolt.kernel import mailbox, registers
from upright_bolt.kernel.interfaces.package_bits import turbo_table
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.ports import NoRegisters, RealFiles
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.control import ControlState
from upright_bolt.model.note import DiagnosticCode, Subject, note
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.lock import MachineLock
from upright_bolt.simulator.machine import SimulatedClock
from upright_bolt.text.notes import sentence
from upright_bolt.text.trials import drift, refusal

BEHIND_REGISTERS = ("current", "clamp", "turbo-table", "hot-signal")


@pytest.fixture
def engine_of(tmp_path):
    opened = []

    def open_engine(twin, files=None, gaps=()):
        ports = MachinePorts("twin:tern", files or twin.files, twin.registers, SimulatedClock(twin))
        folder = tmp_path / f"state-{len(opened)}"
        made = SettingsEngine(Backend(ports, gaps), folder, "a test", MachineLock(folder / "lock", "a test"))
        opened.append(made)
        return made

    yield open_engine
    for made in opened:
        made.close()


@pytest.mark.parametrize("vendor", ["AuthenticAMD", "HygonGenuine", "CentaurHauls"])
def test_registers_of_another_vendor_are_neither_believed_nor_offered(tmp_path, vendor):
    root = build_tree("hybrid-laptop", tmp_path / "t")
    info = root / "proc/cpuinfo"
    info.chmod(0o644)
    lines = info.read_text().splitlines()
    info.write_text("\n".join(f"vendor_id : {vendor}" if line.startswith("vendor_id") else line for line in lines))
    session = open_session(f"tree:{root}", tmp_path / "data", "a test", exclusive=True)
    controls = session.controls()
    assert {controls[name].state for name in BEHIND_REGISTERS} == {ControlState.ABSENT}
    names = {sensor.name for sensor in session.about.sensors}
    assert not {name for name in names if name.startswith("limit.r") or name == "voltage.core"}
    assert controls["sustained"].settable
    session.close()


@pytest.mark.parametrize(
    ("path", "text", "code"),
    [
        ("sys/kernel/security/lockdown", "none [integrity] confidentiality", DiagnosticCode.LOCKDOWN),
        ("sys/module/msr/parameters/allow_writes", "off", DiagnosticCode.REGISTER_WRITES_OFF),
    ],
)
def test_where_no_register_can_be_written_none_is_said_to_be_settable(tmp_path, path, text, code):
    root = build_tree("hybrid-laptop", tmp_path / "t")
    (root / path).parent.mkdir(parents=True, exist_ok=True)
    (root / path).write_text(text + "\n")
    session = open_session(f"tree:{root}", tmp_path / "data", "a test", exclusive=True)
    controls = session.controls()
    for name in BEHIND_REGISTERS:
        assert (controls[name].state, controls[name].note.code) == (ControlState.READ_ONLY, code), name
        assert controls[name].current is not None
    assert controls["sustained"].settable
    session.close()


@pytest.mark.parametrize("bits", [(1, 1, 1, 0), (1, 0, 1, 0), (1, 0, 0, 0), (0, 1, 1, 1)])
def test_limits_switched_off_come_back_with_every_bit_as_it_was(engine_of, bits):
    twin = fresh_machine()
    on, clamp, burst_on, burst_clamp = bits
    kept = twin.registers.read(0, registers.PACKAGE_LIMIT) & ~(3 << 15 | 3 << 47)
    first = kept | on << 15 | clamp << 16 | burst_on << 47 | burst_clamp << 48
    twin.registers.write(0, registers.PACKAGE_LIMIT, first)
    engine = engine_of(twin)
    assert engine.controls()["limiter"].current == "on"
    assert (engine.controls()["limiter"].note is not None) == (on != burst_on)
    report = engine.try_settings({"limiter": "off"}, standing=True)
    assert report.ok, refusal(report)
    assert twin.registers.read(0, registers.PACKAGE_LIMIT) & (1 << 15 | 1 << 47) == 0
    assert min(twin.physics._limits[:2]) > 1000.0
    engine.revert()
    assert twin.registers.read(0, registers.PACKAGE_LIMIT) == first


def test_a_limit_that_the_processor_refuses_is_told_from_one_that_it_ignores(engine_of, monkeypatch):
    for refuses in (False, True):
        twin = fresh_machine()
        files = FaultyFiles(twin.files)
        files.on_write = lambda _n, path: "ignore" if "power_limit" in path else None
        if refuses:
            write = twin.registers.write

            def closed(cpu, register, value, write=write):
                if register == registers.PACKAGE_LIMIT:
                    raise FileFault("register 0x610", errno.EIO)
                write(cpu, register, value)

            monkeypatch.setattr(twin.registers, "write", closed)
        limit = twin.registers.read(0, registers.PACKAGE_LIMIT)
        report = engine_of(twin, files).try_settings({"sustained": 15.0}, standing=True)
        assert not report.ok
        assert ("refuses every write" in refusal(report)) == refuses
        assert twin.registers.read(0, registers.PACKAGE_LIMIT) == limit


def test_a_limit_between_two_eighths_of_a_watt_is_cut_down_and_not_refused(engine_of):
    engine = engine_of(fresh_machine())
    report = engine.try_settings({"sustained": 15.1, "burst": 30.99}, standing=True)
    assert report.ok, refusal(report)
    assert [row.got for row in report.rows] == [15.0, 30.875]


def test_the_range_of_a_limit_stays_when_the_other_falls(engine_of):
    engine = engine_of(fresh_machine())
    before = engine.controls()["sustained"]
    assert engine.try_settings({"burst": 20.0, "sustained": 10.0}, standing=True).ok
    after = engine.controls()["sustained"]
    assert (after.minimum, after.maximum) == (before.minimum, before.maximum)


def test_after_sleep_nobody_else_is_blamed(engine_of):
    twin = fresh_machine()
    engine = engine_of(twin)
    assert engine.try_settings({"sustained": 15.0, "core-offset": -50.0}, standing=True).ok
    assert not engine.status().slept
    twin.physics.sleep(3600.0)
    status = engine.status()
    assert status.slept
    assert {entry.name for entry in status.drift} >= {"core-offset"}
    for entry in status.drift:
        assert "the machine has slept since" in drift(entry, status)
        assert "another program" not in drift(entry, status)
    engine.revert()
    assert engine.try_settings({"core-offset": -50.0}, standing=True).ok
    engine.keep()
    assert not engine.status().slept
    twin.physics.sleep(60.0)
    assert engine.status().slept


def test_a_mailbox_that_dies_is_named_and_nothing_is_said_to_be_in_force(engine_of, monkeypatch):
    twin = fresh_machine()
    engine = engine_of(twin)
    assert engine.try_settings({"core-offset": -50.0}, standing=True).ok
    read = twin.registers.read
    monkeypatch.setattr(twin.registers, "read", lambda cpu, nr: mailbox.RUN if nr == mailbox.MAILBOX else read(cpu, nr))
    (entry,) = engine.status().drift
    said = drift(entry, engine.status())
    assert "whether it is in force cannot be read now" in said
    assert "The voltage mailbox did not answer" in said
    control = engine.controls()["core-offset"]
    assert (control.state, control.note.code) == (ControlState.READ_ONLY, DiagnosticCode.MAILBOX_SILENT)


def test_without_the_right_to_look_no_trial_is_not_said(engine_of):
    gap = note(DiagnosticCode.SERVICE_REFUSES, Subject.ROOT_SERVICE, why="You may not read this machine")
    engine = engine_of(fresh_machine(), gaps=(gap,))
    assert sentence(engine.status().unseen) == "You may not read this machine."
    assert engine_of(fresh_machine()).status().unseen is None


def test_a_turbo_table_that_lost_the_row_of_an_offline_core_still_holds():
    table = turbo_table(Probe(RealFiles(Path("/nowhere")), NoRegisters()), 1)
    assert table.same("3200,3100", "3200")
    assert table.same("3200", "3200,3100")
    assert not table.same("3200,3100", "3300")
    assert not table.same("3200,3100", "3200,3000")


def test_sleep_at_any_access_while_a_trial_begins_is_refused_or_told(tmp_path):
    desk = Desk(tmp_path / "machine", rules="")
    desk.profiles.use("stock")
    asked = {"core-offset": -50.0, "cache-offset": -30.0, "sustained": 15.0}
    refused = told = 0
    for number in range(400):
        accesses, read, write = itertools.count(), desk.twin.files.read, desk.twin.files.write

        def asleep(access, *words, at=number, accesses=accesses):
            if next(accesses) == at:
                desk.outside.sleep(3600.0)
            return access(*words)

        desk.twin.files.read, desk.twin.files.write = partial(asleep, read), partial(asleep, write)
        report = desk.engine.try_settings(asked, standing=True)
        desk.twin.files.read, desk.twin.files.write = read, write
        status = desk.engine.status()
        if not report.ok:
            refused += 1
            assert status.trial is None
            assert desk.values()["core-offset"] == 0.0
            continue
        if next(accesses) <= number:
            break
        slept_before = not status.drift
        told += not slept_before
        assert slept_before or status.slept, number
        assert {entry.name for entry in status.drift} <= asked.keys()
        desk.engine.revert()
    desk.close()
    assert refused
    assert told
