"""Trials: provisional until kept, on record before they are made, and gone when their program dies."""

import errno
import json

import pytest

from support import FaultyFiles, TwinDesk, fresh_twin
from upright_bolt.app import open_session
from upright_bolt.errors import BadInput, InUse, Refused
from upright_bolt.model.trial import Trial
from upright_bolt.session.direct import DirectReach
from upright_bolt.session.journal import Journal
from upright_bolt.session.lock import MachineLock
from upright_bolt.session.machine import Machine
from upright_bolt.session.session import Session
from upright_bolt.twin.machine import TwinClock

ASKED = {"sustained": 25.0, "burst": 25.0, "epp": 96.0}
STOCK = {"sustained": 18.0, "burst": 45.0, "epp": 128.0}


def in_force(desk: TwinDesk) -> dict[str, object]:
    return {name: desk.in_force(name) for name in ASKED}


def test_a_trial_is_in_force_until_put_back(desk: TwinDesk):
    assert desk.session.try_settings(ASKED, standing=False).ok
    assert in_force(desk) == ASKED
    status = desk.session.status()
    assert status.trial is not None
    assert (status.trial.settings, status.trial.before_values) == (ASKED, STOCK)
    assert desk.session.put_back().before_values == STOCK
    assert in_force(desk) == STOCK
    assert desk.session.status().trial is None


def test_keeping_ends_the_trial_and_leaves_its_settings(desk: TwinDesk):
    desk.session.try_settings(ASKED, standing=False)
    desk.session.keep()
    desk.reopen()
    assert in_force(desk) == ASKED
    assert desk.session.status().kept == ASKED
    assert desk.session.controls()["sustained"].stock == 18.0  # stock stays what it was before any change


def test_a_second_draft_widens_the_trial_and_everything_goes_back(desk: TwinDesk):
    desk.session.try_settings({"sustained": 20.0}, standing=False)
    desk.session.try_settings({"sustained": 25.0, "turbo": "off"}, standing=False)
    trial = desk.session.reach.trials.current
    assert trial is not None
    assert trial.settings == {"sustained": 25.0, "turbo": "off"}
    assert trial.before_values == {"sustained": 18.0, "turbo": "on"}
    desk.session.put_back()
    assert (desk.in_force("sustained"), desk.in_force("turbo")) == (18.0, "on")


def test_a_refused_widening_leaves_the_running_trial_as_it_was(desk: TwinDesk):
    desk.session.try_settings({"sustained": 20.0}, standing=True)
    assert not desk.session.try_settings({"burst": 999.0}, standing=True).ok
    desk.reopen()
    assert desk.session.status().trial.settings == {"sustained": 20.0}


def test_closing_puts_back_what_does_not_outlive_its_program(desk: TwinDesk):
    desk.session.try_settings(ASKED, standing=False)
    desk.reopen()
    assert in_force(desk) == STOCK
    assert desk.session.recovered == ""


def test_a_standing_trial_outlives_its_program(desk: TwinDesk):
    desk.session.try_settings(ASKED, standing=True)
    desk.reopen()
    assert in_force(desk) == ASKED
    assert desk.session.status().trial.by == "a test"
    desk.session.put_back()
    assert in_force(desk) == STOCK


def test_after_a_killed_program_the_next_start_puts_back_and_says_so(desk: TwinDesk):
    desk.session.try_settings(ASKED, standing=False)
    desk.die()
    desk.reopen()
    assert in_force(desk) == STOCK
    assert "outlived its program, so what was in force before it was put back" in desk.session.recovered
    assert "sustained 25 W" in desk.session.recovered
    desk.reopen()
    assert desk.session.recovered == ""


def test_after_a_restart_of_the_machine_nothing_is_written_and_the_trial_has_ended(desk: TwinDesk):
    desk.session.try_settings(ASKED, standing=True)
    desk.close()
    state = desk.data / "machines/twin-tern/twin.json"
    data = json.loads(state.read_text())
    data["boot_id"] = "another-boot"
    data["limits"] = [[18.0, 45.0, 28.0]] * 2
    state.write_text(json.dumps(data))
    session = desk.reopen()
    assert "ended with a restart" in session.recovered
    assert session.status().trial is None
    assert session.status().kept == {}


def test_the_record_is_on_disk_before_the_first_write(data):
    seen = []

    def watch(_n, _path):
        seen.append(Journal(data / "journal.jsonl").open_trial())

    session, files = faulty_session(data)
    files.on_write = watch
    session.try_settings(ASKED, standing=False)
    assert seen
    assert all(trial is not None and trial.settings == ASKED for trial in seen)
    assert set(seen[0].before.values()) >= {"18000000", "45000000", "balance_performance"}
    session.close()


def faulty_session(data):
    twin = fresh_twin()
    files = FaultyFiles(twin.files)
    machine = Machine("twin:tern", "twin", files, twin.registers, TwinClock(twin))
    lock = MachineLock(data / "lock", "a test")
    lock.acquire()
    return Session(machine, DirectReach(machine, data, "a test", lock)), files


def test_every_write_order_killed_in_the_middle_is_put_back_by_the_next_start(data):
    """The program dies after any number of writes: the next session finds the record and undoes them."""

    class Killed(BaseException):
        pass

    for n in range(1, 17):
        folder = data / str(n)
        session, files = faulty_session(folder)

        def die(i, _path, n=n):
            if i == n:
                raise Killed

        files.on_write = die
        try:
            session.try_settings(ASKED, standing=False)
        except Killed:
            pass
        else:
            assert n == 17 - 1 or files.writes < n
        files.on_write = lambda _n, _p: None
        assert session.reach._lock is not None
        session.reach._lock.release()
        lock = MachineLock(folder / "lock", "the next")
        lock.acquire()
        later = Session(session.machine, DirectReach(session.machine, folder, "the next", lock))
        assert {name: later.controls()[name].in_force for name in ASKED} == STOCK
        later.close()


def test_what_cannot_be_put_back_stays_on_record_and_is_said(data):
    session, files = faulty_session(data)
    session.try_settings({"sustained": 25.0}, standing=False)
    files.on_write = lambda _n, _p: errno.EIO
    with pytest.raises(Refused, match="intel-rapl:0/constraint_0_power_limit_uw"):
        session.put_back()
    assert session.reach.trials.current is not None
    files.on_write = lambda _n, _p: None
    session.put_back()
    assert session.controls()["sustained"].in_force == 18.0
    session.close()


def test_a_failed_apply_that_leaves_something_keeps_the_trial_open(data):
    session, files = faulty_session(data)
    files.on_write = lambda n, _p: errno.EIO if n >= 2 else None
    report = session.try_settings({"sustained": 25.0}, standing=False)
    assert report.left_changed
    assert session.reach.trials.current is not None
    files.on_write = lambda _n, _p: None
    session.close()
    assert Journal(data / "journal.jsonl").open_trial() is None


def test_drift_names_what_firmware_changed(desk: TwinDesk):
    desk.session.try_settings(ASKED, standing=False)
    assert desk.session.status().drift == ()
    desk.session.plug(charger=False)
    desk.pass_time(2)
    drift = {entry.name: (entry.expected, entry.got) for entry in desk.session.status().drift}
    assert drift == {"sustained": (25.0, 12.0), "burst": (25.0, 20.0)}


def test_a_mode_tried_and_put_back_brings_its_limits_back(desk: TwinDesk):
    desk.session.try_settings({"sustained": 22.0}, standing=False)
    desk.session.keep()
    desk.session.try_settings({"platform-mode": "performance"}, standing=False)
    desk.pass_time(2)
    assert desk.in_force("sustained") == 28.0
    desk.session.put_back()
    assert (desk.in_force("platform-mode"), desk.in_force("sustained")) == ("balanced", 22.0)
    desk.pass_time(2)  # the firmware reacts once more, and what was kept is gone: said, not hidden
    assert [entry.name for entry in desk.session.status().drift] == ["sustained"]


def test_events_tell_what_happened_from_outside(desk: TwinDesk):
    desk.session.tick()
    desk.session.try_settings(ASKED, standing=False)
    events = list(desk.session.tick().events)
    desk.session.plug(charger=False)
    desk.pass_time(2)
    events += desk.session.tick().events
    texts = [event.text for event in events]
    assert "Tried sustained 25 W, burst 25 W, epp 96" in texts
    assert "Charger unplugged" in texts
    assert "Changed by firmware or another program: sustained 25 W → 12 W" in texts
    assert sum("sustained" in text for text in texts) == 2  # our own change is not taken for another's


def test_without_a_trial_there_is_nothing_to_keep_or_put_back(desk: TwinDesk):
    for act in (desk.session.keep, desk.session.put_back):
        with pytest.raises(BadInput, match="No trial is running"):
            act()
    with pytest.raises(BadInput, match="nothing to try"):
        desk.session.try_settings({}, standing=False)


def test_a_held_machine_is_read_only_for_others(desk: TwinDesk):
    with pytest.raises(InUse, match="in use by a test \\(process"):
        open_session("twin:tern", desk.data, "another", exclusive=True)
    other = open_session("twin:tern", desk.data, "another", exclusive=False)
    assert other.reach.closed
    for act in (other.keep, other.put_back, lambda: other.try_settings(ASKED, standing=False)):
        with pytest.raises(InUse):
            act()
    other.close()
    assert desk.session.try_settings(ASKED, standing=False).ok


TRIAL = Trial(
    "t1",
    {"epp": 96.0},
    {"/sys/x": "1"},
    {"epp": 128.0},
    "2026-04-06T06:02:00+00:00",
    "a test",
    standing=True,
    boot_id="b",
)


def test_a_torn_last_line_costs_only_itself(tmp_path):
    journal = Journal(tmp_path / "journal.jsonl")
    journal.begin(TRIAL, "now")
    with (tmp_path / "journal.jsonl").open("ab") as file:
        file.write(b'{"kind": "kept", "tri')
    assert journal.open_trial() == TRIAL
    journal.append("kept", "t1", "later")
    assert journal.open_trial() is None
    assert [entry["kind"] for entry in journal.entries()] == ["begin", "kept"]


def test_the_journal_survives_rubbish_between_its_lines(tmp_path):
    path = tmp_path / "journal.jsonl"
    journal = Journal(path)
    journal.begin(TRIAL, "now")
    path.write_bytes(path.read_bytes() + b"\x00\xff\n[]\n{}\nnull\n")
    assert journal.open_trial() == TRIAL


def test_an_entry_of_another_trial_does_not_end_this_one(tmp_path):
    journal = Journal(tmp_path / "journal.jsonl")
    journal.begin(TRIAL, "now")
    journal.append("put back", "t0", "later")
    assert journal.open_trial() == TRIAL


def test_a_damaged_memory_of_the_boot_costs_only_the_memory(desk: TwinDesk):
    desk.session.try_settings(ASKED, standing=False)
    desk.session.keep()
    desk.close()
    (desk.data / "machines/twin-tern/boot.json").write_text("{")
    session = desk.reopen()
    assert session.status().kept == {}
    assert in_force(desk) == ASKED
