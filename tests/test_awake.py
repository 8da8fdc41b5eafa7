"""Nothing puts the computer to sleep while a run or a series goes on; every ending lets go, being killed too."""

import pytest

from bus_support import wait_for
from command_process import CommandProcess
from support import SimulatedSession
from upright_bolt.app import _stay_awake
from upright_bolt.model.start import Start
from upright_bolt.model.work import Work
from upright_bolt.session.series import SeriesRequest, Step, start_series
from upright_bolt.session.session import SAMPLE_S
from upright_bolt.session.starting import start_run

RUN = [("sleep:idle", "Upright Bolt", "A run is in progress")]
SERIES = [("sleep:idle", "Upright Bolt", "A series of runs is in progress")]


@pytest.fixture
def on_tern(data, bus):
    bus.start_login_manager()
    made = SimulatedSession(data)
    made.session.machine.stay_awake = _stay_awake
    yield made
    made.close()


def tick(twin, times):
    for _ in range(times):
        twin.session.tick()
        twin.session.end_run()
        twin.pass_time(SAMPLE_S)


def test_a_run_keeps_it_awake_until_its_end(on_tern, bus):
    work = Work("steady", 10.0, start=Start.AT_ONCE)
    start_run(on_tern.session, work, "short", on_tern.store)
    tick(on_tern, 4)
    assert bus.inhibitors() == RUN
    tick(on_tern, 40)
    assert not on_tern.session.run
    wait_for(lambda: not bus.inhibitors(), what="let go at its end")
    start_run(on_tern.session, work, "stopped", on_tern.store)
    tick(on_tern, 4)
    assert bus.inhibitors() == RUN
    on_tern.session.run.stop("enough")
    tick(on_tern, 4)
    wait_for(lambda: not bus.inhibitors(), what="let go when stopped")


def test_a_series_keeps_it_awake_between_its_runs_too(on_tern, bus):
    steps = [Step({}, "one"), Step({}, "two")]
    start_series(on_tern.session, SeriesRequest(steps, Work("steady", 10.0, start=Start.AT_ONCE)), on_tern.store)
    told = set()
    while on_tern.session.working:
        tick(on_tern, 1)
        if on_tern.session.working and on_tern.session.run is None:
            told.add(tuple(bus.inhibitors()))
    assert told == {tuple(SERIES)}
    tick(on_tern, 1)
    wait_for(lambda: not bus.inhibitors(), what="let go at its end")


def test_a_killed_program_lets_go(bus, data, tmp_path):
    bus.start_login_manager()
    out = tmp_path / "out"
    out.touch()
    words = ["--data", str(data), "run", "steady", "--duration", "10min", "--threads", "1", "--start", "at-once"]
    process = CommandProcess(words, out, out, bus.environment)
    wait_for(lambda: bus.inhibitors() == RUN, what="a run that keeps the computer awake")
    process.kill()
    process.wait()
    wait_for(lambda: not bus.inhibitors(), what="let go when killed")
