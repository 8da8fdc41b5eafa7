"""What goes wrong in the middle of a run, and the run that says so."""

import os
import signal
import time
from pathlib import Path

import pytest
from sqlalchemy import event

from support import SimulatedSession
from test_workload import CPUS, run_here
from upright_bolt.kernel import clock as clocks
from upright_bolt.kernel.clock import ClockJump, RealClock
from upright_bolt.model.event import ClockSet
from upright_bolt.model.run import RunState
from upright_bolt.model.start import Start
from upright_bolt.model.work import Work
from upright_bolt.session.session import SAMPLE_S
from upright_bolt.session.starting import start_run
from upright_bolt.text.events import sentence
from upright_bolt.workload import pool
from waiting import until


class SlippingClock:
    """A machine's clock on which time jumps when told to."""

    def __init__(self, clock):
        self._clock = clock
        self.told = ()

    def __getattr__(self, name):
        return getattr(self._clock, name)

    def jumps(self):
        told, self.told = self.told, ()
        return told


@pytest.fixture
def slipping(on_tern: SimulatedSession):
    on_tern.session.machine.ports.clock = made = SlippingClock(on_tern.session.machine.clock)
    return made


def run_with(on_tern, slipping, jump):
    start_run(on_tern.session, Work("steady", 60.0, start=Start.AT_ONCE), "", on_tern.store)
    for _ in range(60):
        on_tern.session.tick()
        on_tern.pass_time(SAMPLE_S)
    slipping.told = (jump,)
    return on_tern.carry_on()


def test_a_suspended_machine_ends_the_run_and_says_for_how_long(on_tern, slipping):
    record = run_with(on_tern, slipping, ClockJump(slept=True, seconds=612.0))
    assert record.end.state is RunState.FAILED
    assert record.end.why == (
        "The machine was suspended for 10 min 12 s in the middle of the run; what came before is kept."
    )
    assert 20.0 < record.end.duration_s < 40.0
    assert record.end.score > 500
    assert len(on_tern.store.telemetry(record.id)[0]) > 40


def test_a_clock_set_back_is_told_and_moves_nothing(on_tern, slipping):
    record = run_with(on_tern, slipping, ClockJump(slept=False, seconds=-3600.0))
    assert record.end.state is RunState.FINISHED
    assert record.end.duration_s == 60.0
    told = [sentence(event) for event in on_tern.store.events(record.id) if isinstance(event, ClockSet)]
    assert told == ["The computer's clock was set back by 1 h; times within a run do not go by it"]
    times, _ = on_tern.store.telemetry(record.id)
    assert (times[1:] > times[:-1]).all()


def test_sleep_and_a_set_clock_are_told_apart(monkeypatch):
    now = {time.CLOCK_MONOTONIC: 100.0, time.CLOCK_BOOTTIME: 150.0, time.CLOCK_REALTIME: 1e9}
    monkeypatch.setattr(clocks.time, "clock_gettime", lambda which: now[which])
    clock = RealClock()
    assert clock.jumps() == ()
    now[time.CLOCK_BOOTTIME] += 600.0
    now[time.CLOCK_REALTIME] += 600.5
    assert clock.jumps() == (ClockJump(slept=True, seconds=600.0),)
    now[time.CLOCK_REALTIME] -= 7200.0
    (jump,) = clock.jumps()
    assert not jump.slept
    assert jump.seconds == pytest.approx(-7200.0)
    now[time.CLOCK_REALTIME] += 1.0
    assert clock.jumps() == ()
    assert RealClock().jumps() == ()


def test_a_full_disk_ends_the_run_with_a_sentence(on_tern: SimulatedSession):
    start_run(on_tern.session, Work("steady", 600.0, start=Start.AT_ONCE), "filled", on_tern.store)

    def no_more_pages(connection, _record):
        (pages,) = connection.execute("PRAGMA page_count").fetchone()
        connection.execute(f"PRAGMA max_page_count = {pages}")

    for _ in range(40):
        on_tern.session.tick()
        on_tern.pass_time(SAMPLE_S)
    event.listen(on_tern.store._engine, "connect", no_more_pages)
    on_tern.store._engine.dispose()
    while (run := on_tern.session.end_run()) is None:
        on_tern.session.tick()
        on_tern.pass_time(SAMPLE_S)
    assert run.end.state is RunState.FAILED
    assert "full" in run.end.why
    assert "full" in run.unsaved
    assert run.end.duration_s < 60.0
    event.remove(on_tern.store._engine, "connect", no_more_pages)
    on_tern.store._engine.dispose()
    kept = on_tern.store.get(run.id)  # its end found room, or the next start closes it
    if kept.end.state is RunState.RUNNING:
        assert on_tern.store.mark_unfinished("twin:tern", on_tern.session.boot_id) == [run.id]
        assert "disk was full" in on_tern.store.get(run.id).end.why
    else:
        assert "full" in kept.end.why


@pytest.mark.skipif(len(CPUS) < 2, reason="one worker hangs while another works on")
def test_a_worker_that_hangs_is_ended_and_told(data, monkeypatch):
    monkeypatch.setattr(pool, "SILENT_S", 6.0)  # on a busy computer a worker that lives may be silent for a while
    stopped = []

    def hang(session):
        if not stopped and session.run is not None and session.run.progress().elapsed_s > 1:
            stopped.append(session.run._load._workers[0].process.pid)
            os.kill(stopped[0], signal.SIGSTOP)

    record = run_here(data, on_tick=hang, seconds=12.0)
    assert record.end.state is RunState.FINISHED
    assert [error.what for error in record.errors] == ["the worker hung: nothing for 6 s"]
    assert record.errors[0].cpu == CPUS[0]
    until(lambda: not Path(f"/proc/{stopped[0]}").exists(), 5)


def test_when_all_workers_hang_the_run_has_failed(data, monkeypatch):
    monkeypatch.setattr(pool, "SILENT_S", 1.5)

    def hang(session):
        if session.run is not None and session.run.progress().elapsed_s > 1:
            for worker in session.run._load._workers:
                if worker.process.poll() is None:
                    os.kill(worker.process.pid, signal.SIGSTOP)

    record = run_here(data, on_tick=hang, seconds=8.0)
    assert record.end.state is RunState.FAILED
    assert record.end.why == "All workers ended before their time."
    assert {error.what for error in record.errors} == {"the worker hung: nothing for 2 s"}


def test_a_killed_worker_is_told_and_the_others_work_on(data):
    killed = []

    def kill(session):
        if not killed and session.run is not None and session.run.progress().elapsed_s > 1:
            killed.append(session.run._load._workers[0])
            killed[0].process.kill()

    record = run_here(data, on_tick=kill)
    assert [error.what for error in record.errors] == ["the worker died (signal 9)"]
    assert record.end.state is (RunState.FINISHED if len(CPUS) > 1 else RunState.FAILED)
