"""Trials: provisional until kept, on record before they are made, and gone when their program dies."""

import errno
import os
import sys

import pytest

from profile_support import Desk
from support import FaultyFiles, SimulatedSession, fresh_machine, recorded
from upright_bolt.app import open_session
from upright_bolt.errors import BadInput, InUse, Refused
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.session.machine import Machine
from upright_bolt.session.session import Session
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.lock import MachineLock
from upright_bolt.simulator.machine import SimulatedClock
from upright_bolt.simulator.state import document
from upright_bolt.text.events import sentence

ASKED = {"sustained": 25.0, "burst": 25.0, "epp": 96.0}
STOCK = {"sustained": 18.0, "burst": 45.0, "epp": 128.0}


def in_force(on_tern: SimulatedSession) -> dict[str, object]:
    return {name: on_tern.current_values(name) for name in ASKED}


def test_a_trial_is_in_force_until_put_back(on_tern: SimulatedSession):
    assert on_tern.session.try_settings(ASKED, standing=False).ok
    assert in_force(on_tern) == ASKED
    status = on_tern.session.status()
    assert status.trial is not None
    assert (status.trial.settings, status.trial.before_values) == (ASKED, STOCK)
    assert on_tern.session.revert().before_values == STOCK
    assert in_force(on_tern) == STOCK
    assert on_tern.session.status().trial is None


def test_keeping_ends_the_trial_and_leaves_its_settings(on_tern: SimulatedSession):
    on_tern.session.try_settings(ASKED, standing=False)
    on_tern.session.keep()
    on_tern.reopen()
    assert in_force(on_tern) == ASKED
    assert on_tern.session.status().kept == ASKED
    assert on_tern.session.controls()["sustained"].stock == 18.0  # stock stays what it was before any change


def test_a_second_draft_widens_the_trial_and_everything_goes_back(on_tern: SimulatedSession):
    on_tern.session.try_settings({"sustained": 20.0}, standing=False)
    on_tern.session.try_settings({"sustained": 25.0, "turbo": "off"}, standing=False)
    trial = on_tern.engine.trial
    assert trial is not None
    assert trial.settings == {"sustained": 25.0, "turbo": "off"}
    assert trial.before_values == {"sustained": 18.0, "turbo": "on"}
    on_tern.session.revert()
    assert (on_tern.current_values("sustained"), on_tern.current_values("turbo")) == (18.0, "on")


def test_a_refused_widening_leaves_the_running_trial_as_it_was(on_tern: SimulatedSession):
    on_tern.session.try_settings({"sustained": 20.0}, standing=True)
    assert not on_tern.session.try_settings({"burst": 999.0}, standing=True).ok
    on_tern.reopen()
    assert on_tern.session.status().trial.settings == {"sustained": 20.0}


def test_closing_puts_back_what_does_not_outlive_its_program(on_tern: SimulatedSession):
    on_tern.session.try_settings(ASKED, standing=False)
    on_tern.reopen()
    assert in_force(on_tern) == STOCK
    assert on_tern.session.recovered == ""


def test_a_standing_trial_outlives_its_program(on_tern: SimulatedSession):
    on_tern.session.try_settings(ASKED, standing=True)
    on_tern.reopen()
    assert in_force(on_tern) == ASKED
    assert on_tern.session.status().trial.by == "a test"
    on_tern.session.revert()
    assert in_force(on_tern) == STOCK


def test_after_a_killed_program_the_next_start_puts_back_and_says_so(on_tern: SimulatedSession):
    on_tern.session.try_settings(ASKED, standing=False)
    on_tern.die()
    on_tern.reopen()
    assert in_force(on_tern) == STOCK
    assert "outlived its program, so what was in force before it was put back" in on_tern.session.recovered
    assert "sustained 25 W" in on_tern.session.recovered
    on_tern.reopen()
    assert on_tern.session.recovered == ""


def test_after_a_restart_of_the_machine_nothing_is_written_and_the_trial_has_ended(on_tern: SimulatedSession):
    on_tern.session.try_settings(ASKED, standing=True)
    on_tern.close()
    state = document(on_tern.data / "machines/twin-tern/twin.json")
    saved = state.load()
    saved.boot_id = "another-boot"
    saved.limits = [[18.0, 45.0, 28.0]] * 2
    state.save(saved)
    session = on_tern.reopen()
    assert "ended with a restart" in session.recovered
    assert session.status().trial is None
    assert session.status().kept == {}


def test_the_record_is_on_disk_before_the_first_write(data):
    seen = []

    def watch(_n, _path):
        seen.append(recorded(data).trial)

    session, files = faulty_session(data)
    files.on_write = watch
    session.try_settings(ASKED, standing=False)
    assert seen
    assert all(trial is not None and trial.settings == ASKED for trial in seen)
    assert set(seen[0].before.values()) >= {"18000000", "45000000", "balance_performance"}
    session.close()


def test_the_record_is_flushed_before_the_first_write(data, monkeypatch):
    fsync, flushed, seen = os.fsync, {}, []

    def noted(handle):
        fsync(handle)
        flushed[os.fstat(handle).st_ino] = os.fstat(handle).st_size

    def watch(_n, _path):
        now = (data / "journal").stat()
        seen.append(flushed.get(now.st_ino) == now.st_size)

    monkeypatch.setattr(os, "fsync", noted)
    session, files = faulty_session(data)
    files.on_write = watch
    session.try_settings(ASKED, standing=False)
    session.try_settings({"epp": 255.0}, standing=False)
    assert seen
    assert all(seen)
    session.close()


@pytest.mark.parametrize(("first", "then"), [(True, True), (True, False), (False, True), (False, False)])
def test_a_widened_trial_outlives_its_program_only_if_all_of_it_does(on_tern: SimulatedSession, first, then):
    on_tern.session.try_settings({"sustained": 25.0}, standing=first)
    on_tern.session.try_settings({"epp": 200.0}, standing=then)
    assert on_tern.session.status().trial.standing == (first and then)


def faulty_session(data):
    twin = fresh_machine()
    files = FaultyFiles(twin.files)
    ports = MachinePorts("twin:tern", files, twin.registers, SimulatedClock(twin))
    return opened(ports, data, "a test"), files


def opened(ports, folder, holder):
    lock = MachineLock(folder, holder)
    lock.acquire()
    return Session(Machine(ports, "twin"), SettingsEngine(Backend(ports), folder, holder, lock))


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
        assert session.access._lock is not None
        session.access._lock.release()
        later = opened(session.machine.ports, folder, "the next")
        assert {name: later.controls()[name].current for name in ASKED} == STOCK
        later.close()


def test_what_cannot_be_put_back_stays_on_record_and_is_said(data):
    session, files = faulty_session(data)
    session.try_settings({"sustained": 25.0}, standing=False)
    files.on_write = lambda _n, _p: errno.EIO
    with pytest.raises(Refused, match="intel-rapl:0/constraint_0_power_limit_uw"):
        session.revert()
    assert session.access.trial is not None
    files.on_write = lambda _n, _p: None
    session.revert()
    assert session.controls()["sustained"].current == 18.0
    session.close()


def test_a_failed_apply_that_leaves_something_keeps_the_trial_open(data):
    session, files = faulty_session(data)
    files.on_write = lambda n, _p: errno.EIO if n >= 2 else None
    report = session.try_settings({"sustained": 25.0}, standing=False)
    assert report.left_changed
    assert session.access.trial is not None
    files.on_write = lambda _n, _p: None
    session.close()
    assert recorded(data).trial is None


def test_drift_names_what_firmware_changed(on_tern: SimulatedSession):
    on_tern.session.try_settings(ASKED, standing=False)
    assert on_tern.session.status().drift == ()
    on_tern.session.plug(charger=False)
    on_tern.pass_time(2)
    drift = {entry.name: (entry.expected, entry.got) for entry in on_tern.session.status().drift}
    assert drift == {"sustained": (25.0, 12.0), "burst": (25.0, 20.0)}


def test_a_mode_tried_and_put_back_brings_its_limits_back(on_tern: SimulatedSession):
    on_tern.session.try_settings({"sustained": 22.0}, standing=False)
    on_tern.session.keep()
    on_tern.session.try_settings({"platform-mode": "performance"}, standing=False)
    on_tern.pass_time(2)
    assert on_tern.current_values("sustained") == 28.0
    on_tern.session.revert()
    assert (on_tern.current_values("platform-mode"), on_tern.current_values("sustained")) == ("balanced", 22.0)
    on_tern.pass_time(2)  # the firmware reacts once more, and what was kept is gone: said, not hidden
    assert [entry.name for entry in on_tern.session.status().drift] == ["sustained"]


def test_events_tell_what_happened_from_outside(on_tern: SimulatedSession):
    on_tern.session.tick()
    on_tern.session.try_settings(ASKED, standing=False)
    events = list(on_tern.session.tick().events)
    on_tern.session.plug(charger=False)
    on_tern.pass_time(2)
    events += on_tern.session.tick().events
    texts = [sentence(event) for event in events]
    assert "Tried sustained 25 W, burst 25 W, epp 96" in texts
    assert "Charger unplugged" in texts
    assert "Changed by firmware or another program: sustained 25 W → 12 W" in texts
    assert sum("sustained" in text for text in texts) == 2  # our own change is not taken for another's


def test_without_a_trial_there_is_nothing_to_keep_or_put_back(on_tern: SimulatedSession):
    for act in (on_tern.session.keep, on_tern.session.revert):
        with pytest.raises(BadInput, match="No trial is running"):
            act()
    with pytest.raises(BadInput, match="nothing to try"):
        on_tern.session.try_settings({}, standing=False)


def test_a_held_machine_is_read_only_for_others(on_tern: SimulatedSession):
    with pytest.raises(InUse, match="in use by a test \\(process"):
        open_session("twin:tern", on_tern.data, "another", exclusive=True)
    other = open_session("twin:tern", on_tern.data, "another", exclusive=False)
    assert other.access.closed
    for act in (other.keep, other.revert, lambda: other.try_settings(ASKED, standing=False)):
        with pytest.raises(InUse):
            act()
    other.close()
    assert on_tern.session.try_settings(ASKED, standing=False).ok


def test_who_can_only_read_is_not_told_of_a_trial_that_a_restart_has_ended(tmp_path):
    desk = Desk(tmp_path / "machine", rules="")
    assert desk.engine.try_settings({"sustained": 15.0}, standing=True).ok
    desk.twin.save()
    reader = SettingsEngine(Backend(desk.ports), desk.folder, "a reader", None)
    assert reader.status().trial is not None
    desk.cut_power()
    reader = SettingsEngine(Backend(desk.ports), desk.folder, "a reader", None)
    status = reader.status()
    assert (status.trial, status.drift) == (None, ())


def test_the_way_from_a_session_to_the_file_is_short(on_tern: SimulatedSession):
    """What docs/architecture.md says of the walk of one setting."""
    depths: dict[str, list[int]] = {"SimulatedFiles.read": [], "SimulatedFiles.write": []}
    controls = []

    def watch(frame, event, _arg):
        if event != "call":
            return
        name = frame.f_code.co_qualname
        if name == "ControlReader.read":
            controls.append(frame.f_locals["name"])
        if name in depths:
            depth, above = 1, frame
            while above is not None and above.f_code.co_qualname != "Session.try_settings":
                depth, above = depth + 1, above.f_back
            depths[name].append(depth)

    sys.setprofile(watch)
    try:
        report = on_tern.session.try_settings({"sustained": 12.0}, standing=False)
    finally:
        sys.setprofile(None)
    assert report.ok
    assert controls == ["sustained"]
    # one of them is the charger's, since firmware has limits for each source; one tells which processors are there;
    # two are the burst limit's copies, whose stock value lies in the range
    assert len(depths["SimulatedFiles.read"]) <= 26
    assert max(depths["SimulatedFiles.read"]) <= 13
    assert {*depths["SimulatedFiles.write"]} == {8}
