"""Voltage offsets: the mailbox, every way it can be closed, and what less voltage does to tern."""

import errno
import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from support import SimulatedSession, backend_of, fresh_machine, put, recorded_kinds
from upright_bolt.errors import BadInput, FileFault, MachineFroze
from upright_bolt.kernel import mailbox, paths
from upright_bolt.kernel.survey import survey
from upright_bolt.model.control import ControlState, parse_value
from upright_bolt.model.run import RunState
from upright_bolt.model.work import Work
from upright_bolt.session.starting import start_run
from upright_bolt.text.notes import sentence
from upright_bolt.text.trials import refusal

BOTH = {"core-offset": -80.0, "cache-offset": -80.0}


class Recorder:
    """A register port that answers the mailbox with a word of its own."""

    copied = False

    def __init__(self, answer=0):
        self.words = []
        self.answer = answer

    def write(self, cpu, register, value):
        self.words.append((cpu, register, value))

    def read(self, cpu, register):
        return self.answer

    def close(self):
        pass


@pytest.mark.parametrize(
    ("plane", "steps", "word"),
    [
        # worked out by hand: run bit, plane in 42:40, 0x11 in 39:32, two's complement of 11 bits in 31:21
        (0, -102, 0x80000011_F3400000),
        (2, -102, 0x80000211_F3400000),
        (0, 0, 0x80000011_00000000),
        (1, -1, 0x80000111_FFE00000),
    ],
)
def test_command_words(plane, steps, word):
    port = Recorder()
    mailbox.write_offset(port, plane, steps)
    assert port.words == [(0, 0x150, word)]


@given(st.integers(-1024, 1023))
def test_offsets_survive_the_round_trip_through_eleven_bits(steps):
    port = Recorder((steps & 0x7FF) << 21)
    assert mailbox.read_offset(port, 0) == steps


def test_an_answer_with_a_code_is_a_refusal_and_no_answer_a_timeout():
    with pytest.raises(FileFault, match="refused with code 7"):
        mailbox.write_offset(Recorder(7 << 32), 0, -10)
    with pytest.raises(FileFault) as fault:
        mailbox.read_offset(Recorder(1 << 63), 0)
    assert fault.value.errno == errno.ETIMEDOUT


@given(st.integers(-250, 0))
def test_every_millivolt_is_kept_within_half_a_step(millivolts):
    twin = fresh_machine()
    report = put(backend_of(twin), {"core-offset": float(millivolts)})
    assert report.ok
    assert abs(report.rows[0].got - millivolts) <= 0.5
    assert twin.state.offsets_mv[2] == 0.0


@pytest.mark.parametrize(
    ("text", "said"),
    [("80mV", "Did you mean −80 mV"), ("-0.08mV", "Did you mean -80 mV"), ("-80", "no unit"), ("-0.08V", "unit V")],
)
def test_slips_of_sign_and_unit_are_asked_back(text, said):
    with pytest.raises(BadInput, match=said):
        parse_value("core-offset", text)
    assert parse_value("core-offset", "−80 mV") == -80.0
    assert parse_value("core-offset", "0mV") == 0.0


@pytest.mark.parametrize(
    ("number", "lockdown", "said"),
    [
        (errno.ENOENT, None, "modprobe msr"),
        (errno.ENXIO, None, "modprobe msr"),
        (errno.EACCES, None, "sudo"),
        (errno.EIO, None, "no voltage mailbox"),
        (errno.EPERM, None, "allow_writes"),
        (errno.EPERM, "none [integrity] confidentiality", "lockdown"),
        (errno.EPERM, "[none] integrity confidentiality", "allow_writes"),
    ],
)
def test_every_way_of_being_closed_is_told_apart(number, lockdown, said):
    twin = fresh_machine()

    def refuse(_cpu, register, _value):
        raise FileFault(f"register {register:#x}", number)

    twin.registers.write = refuse
    if lockdown:
        twin.files._get[paths.LOCKDOWN] = lambda: lockdown
    found = survey(twin.files, twin.registers, "x")
    assert "core-offset" not in found.controls
    assert said in sentence(found.absent["core-offset"])
    assert "sustained" in found.controls


def test_a_mailbox_that_refuses_points_to_the_firmware_setup():
    twin = fresh_machine()
    twin.registers.mailbox_lock = "refuse"
    assert "firmware setup" in sentence(survey(twin.files, twin.registers, "x").absent["agent-offset"])


def test_a_firmware_that_ignores_silently_is_noticed_and_everything_put_back(on_tern: SimulatedSession):
    on_tern.twin.registers.mailbox_lock = "ignore"
    report = on_tern.session.try_settings({"sustained": 25.0, **BOTH}, standing=False)
    assert not report.ok
    assert "was written without complaint, but the machine holds 0 mV" in refusal(report)
    assert on_tern.current_values("sustained") == 18.0
    assert on_tern.engine.trial is None


def test_other_vendors_processors_are_left_alone():
    twin = fresh_machine()
    cpuinfo = twin.files._get[paths.CPUINFO]
    twin.files._get[paths.CPUINFO] = lambda: cpuinfo().replace("HalyardWorks", "AuthenticAMD")
    asked = []
    write = twin.registers.write

    def noting(*words):
        asked.append(words)
        write(*words)

    twin.registers.write = noting
    found = survey(twin.files, twin.registers, "x")
    assert "No interface in the kernel" in sentence(found.absent["core-offset"])
    assert asked == []


def test_an_offset_is_a_trial_like_any_other(on_tern: SimulatedSession):
    assert on_tern.session.try_settings(BOTH, standing=False).ok
    assert on_tern.current_values("core-offset") == pytest.approx(-80, abs=0.5)
    assert on_tern.session.status().drift == ()
    on_tern.die()
    on_tern.reopen()
    assert "core-offset −80 mV" in on_tern.session.recovered
    assert on_tern.current_values("core-offset") == 0.0


def settled(on_tern, offset):
    if offset:
        on_tern.session.try_settings({"core-offset": offset, "cache-offset": offset}, standing=False)
    record = on_tern.run(120, cool_s=300)
    if offset:
        on_tern.session.revert()
    return record


def test_less_voltage_is_more_clock_at_the_same_watts(on_tern: SimulatedSession):
    stock, low = settled(on_tern, 0.0), settled(on_tern, -75.0)
    gain = low.end.numbers.clock_sustained_mhz - stock.end.numbers.clock_sustained_mhz
    assert gain == pytest.approx(3.0 * 75, rel=0.35)
    assert low.end.numbers.power_sustained_w == pytest.approx(stock.end.numbers.power_sustained_w, abs=0.3)
    assert low.errors == ()


def test_the_weaker_of_core_and_cache_counts(on_tern: SimulatedSession):
    stock = settled(on_tern, 0.0).end.numbers.clock_sustained_mhz
    on_tern.session.try_settings({"core-offset": -75.0}, standing=False)
    assert on_tern.run(120, cool_s=300).end.numbers.clock_sustained_mhz == pytest.approx(stock, rel=0.01)


def test_too_little_voltage_errs_first_where_the_plane_is_weak(on_tern: SimulatedSession):
    on_tern.session.try_settings({"core-offset": -92.0, "cache-offset": -92.0}, standing=False)
    record = on_tern.run(300)
    assert len(record.errors) > 3
    assert {error.block for error in record.errors} == {"memory"}
    assert all(0 < error.time_s <= 300 for error in record.errors)


def go_on(on_tern):
    while True:
        on_tern.pass_time(0.5)
        on_tern.session.tick()


def test_far_too_little_freezes_the_machine_and_the_story_is_kept(on_tern: SimulatedSession):
    on_tern.session.try_settings({"core-offset": -150.0, "cache-offset": -150.0}, standing=False)
    start_run(on_tern.session, Work("steady", 600), "too deep", on_tern.store)
    on_tern.session.tick()
    with pytest.raises(MachineFroze) as froze:
        go_on(on_tern)
    on_tern.session.run.end_with_machine(str(froze.value))
    boot = on_tern.session.machine.files.read(paths.BOOT_ID)
    on_tern.reopen()
    assert on_tern.current_values("core-offset") == 0.0
    record = on_tern.store.get(1)
    assert (record.end.state, record.head.tried["core-offset"]) == (RunState.RESTARTED, -150.0)
    assert "froze" in record.end.why
    kinds = recorded_kinds(on_tern.data / "machines/twin-tern")
    assert kinds == ["stock", "begin", "applied", "ended by restart"]
    assert on_tern.session.machine.files.read(paths.BOOT_ID) == boot


def test_a_freeze_on_the_command_line_is_kept_as_ended_with_its_machine(bolt):
    result = bolt("run", "steady", "--with", "core-offset=-160mV", "--with", "cache-offset=-160mV")
    assert result.returncode == 1
    assert result.stderr.strip() == "tern froze and was restarted; its firmware's settings are in force again."
    assert json.loads(bolt("status", "--json").stdout)["trial"] is None
    run = json.loads(bolt("runs", "show", "1", "--json").stdout)
    assert (run["state"], run["tried"]["core-offset"]) == ("restarted", -160.0)


def test_this_computer_s_offsets_say_why_they_are_closed(bolt):
    controls = {c["name"]: c for c in json.loads(bolt("machine", "--json", on="host").stdout)["controls"]}
    if controls["core-offset"]["state"] != ControlState.SETTABLE:
        assert controls["core-offset"]["reason"]
