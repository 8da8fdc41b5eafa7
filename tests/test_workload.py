"""Real work on this computer's own cores: checked, counted, and honest about what went wrong."""

import json
import os
import signal
import subprocess
import sys
import time
from dataclasses import replace

import pytest

from upright_bolt.app import open_session
from upright_bolt.errors import BadInput, BoltError, NotFound
from upright_bolt.model.machine import Topology
from upright_bolt.model.run import RunState
from upright_bolt.model.work import Work
from upright_bolt.session.session import SAMPLE_S
from upright_bolt.session.starting import start_run
from upright_bolt.store.runs import RunStore
from upright_bolt.workload import pool
from upright_bolt.workload.blocks import KNOWN, Mix, digest_of
from upright_bolt.workload.load import Task, choose_cpus
from upright_bolt.workload.pool import HostLoad
from waiting import until

CPUS = tuple(sorted(os.sched_getaffinity(0)))[:2]


@pytest.fixture
def load():
    made = []

    def make(cpus=CPUS, inject_fault_at=None):
        load = HostLoad(Task("steady", cpus), inject_fault_at)
        made.append(load)
        load.prepare()
        until(load.ready)
        return load

    yield make
    for one in made:
        one.stop()


def test_every_block_gives_its_known_result_twice():
    mix = Mix()
    for name, block in mix.blocks() * 2:
        assert digest_of(block()) == KNOWN[name], name


@pytest.mark.parametrize("kind", ["Prescott", "Haswell"])
def test_results_do_not_depend_on_the_library_s_choice_of_instructions(kind):
    code = (
        "from upright_bolt.workload.blocks import *\nassert all(digest_of(b()) == KNOWN[n] for n, b in Mix().blocks())"
    )
    subprocess.run([sys.executable, "-c", code], env={**os.environ, "OPENBLAS_CORETYPE": kind}, check=True)


def test_one_wrong_bit_changes_the_digest():
    name, block = Mix().blocks()[0]
    result = block()
    assert digest_of(bytes([result[0] ^ 1]) + result[1:]) != KNOWN[name]


def test_workers_count_units_and_share_blocks_over_time(load):
    run = load()
    start = run.start()
    until(lambda: run.complete_until() > start + 2.0)
    whole = run.units_until(start + 2.0)
    assert whole > 1
    parts = [run.units_until(start + t / 10) for t in range(21)]
    assert parts[0] == 0
    assert parts == sorted(parts)
    assert run.errors() == []
    assert run.alive()


def test_workers_are_pinned_and_single_threaded(load):
    run = load()
    run.start()
    until(lambda: run.units_until(time.monotonic()) > 0)
    for worker in run._workers:
        assert os.sched_getaffinity(worker.process.pid) == {worker.cpu}
        with open(f"/proc/{worker.process.pid}/status") as file:
            threads = next(line for line in file if line.startswith("Threads:"))
        assert threads.split()[1] == "1"


def test_a_planted_wrong_bit_is_found_where_it_was_planted(load):
    run = load(inject_fault_at=5)
    run.start()
    until(lambda: run.errors())
    error = run.errors()[0]
    assert (error.cpu, error.block, error.what) == (CPUS[0], "integer", "wrong result")
    until(lambda: run.units_until(time.monotonic()) > 4)
    assert len(run.errors()) == 1


def test_a_killed_worker_is_an_error_and_the_others_go_on(load):
    if len(CPUS) < 2:
        pytest.skip("one processor only: there is no other worker")
    run = load()
    start = run.start()
    until(lambda: run.complete_until() > start)
    run._workers[0].process.kill()
    until(lambda: run.errors())
    assert run.errors()[0].what == f"the worker died (signal {signal.SIGKILL})"
    assert run.alive()
    done = run.units_until(time.monotonic())
    until(lambda: run.units_until(time.monotonic()) > done + 0.5)
    run._workers[1].process.kill()
    until(lambda: not run.alive())


def test_a_worker_that_cannot_warm_up_is_told():
    run = HostLoad(Task("steady", (4095,)))
    run.prepare()
    with pytest.raises(BoltError, match="died while warming up"):
        until(run.ready)
    run.stop()


def test_a_worker_that_never_warms_up_is_given_up(monkeypatch):
    monkeypatch.setattr(pool, "READY_WITHIN_S", -1.0)
    run = HostLoad(Task("steady", CPUS[:1]))
    run.prepare()
    with pytest.raises(BoltError, match="do not get on with warming up"):
        until(run.ready)
    assert all(worker.process.poll() is not None for worker in run._workers)


def test_workers_end_with_their_parent():
    code = (
        "import time\nfrom upright_bolt.workload.load import Task\nfrom upright_bolt.workload.pool import HostLoad\n"
        f"load = HostLoad(Task('steady', {CPUS[:1]}))\nload.prepare()\n"
        "while not load.ready(): time.sleep(0.02)\n"
        "load.start()\nprint(load._workers[0].process.pid, flush=True)\ntime.sleep(60)"
    )
    parent = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True)
    worker = int(parent.stdout.readline())
    parent.kill()
    parent.wait()
    parent.stdout.close()
    until(lambda: not alive(worker))


def alive(pid: int) -> bool:
    try:
        with open(f"/proc/{pid}/stat") as file:
            return file.read().rsplit(")", 1)[1].split()[0] != "Z"
    except (FileNotFoundError, ProcessLookupError):
        return False


def run_here(data, inject_fault_at=None, on_tick=lambda _session: None, seconds=6.0):
    session = open_session("host", data, "a test", exclusive=True)
    store = RunStore(data / "runs.sqlite")
    if inject_fault_at is not None:
        session.machine.make_load = lambda task: HostLoad(replace(task, cpus=CPUS[:1]), inject_fault_at)
    start_run(session, Work("steady", seconds), "", store)
    while (ended := session.end_run()) is None:
        session.tick()
        on_tick(session)
        session.machine.clock.wait_until(session.machine.clock.now_s() + SAMPLE_S)
    record = store.get(ended.id)
    session.close()
    store.close()
    return record


def test_a_run_on_this_computer_has_a_real_checked_score(data):
    record = run_here(data)
    assert record.end.state is RunState.FINISHED
    assert record.end.score > 50
    assert record.errors == ()
    assert record.end.duration_s == 6.0
    assert record.head.conditions.background_load is not None
    numbers = record.end.numbers
    if numbers.power_burst_w is None:
        assert numbers.score_per_watt is None


def test_a_wrong_result_is_kept_with_its_run(data):
    record = run_here(data, inject_fault_at=9)
    assert [(error.block, error.what) for error in record.errors] == [("integer", "wrong result")]
    assert 0 < record.errors[0].time_s < 6


def test_a_run_whose_workers_all_died_has_failed_and_says_so(data):
    def kill(session):
        if session.run is not None and session.run.progress().elapsed_s > 1:
            for worker in session.run._load._workers:
                worker.process.kill()

    record = run_here(data, on_tick=kill)
    assert record.end.state is RunState.FAILED
    assert record.end.why == "All workers ended before their time."
    assert len(record.errors) == len(os.sched_getaffinity(0))
    assert record.end.duration_s < 6


def test_an_unknown_workload_names_those_there_are():
    with pytest.raises(NotFound, match="Workloads: steady"):
        choose_cpus(two_kinds(), "stead", None, "")


def two_kinds():
    cores = {cpu: (0, cpu // 2) for cpu in range(4)} | {4: (0, 2), 5: (0, 3)}
    return Topology(tuple(range(6)), cores, (("P-cores", (0, 1, 2, 3)), ("E-cores", (4, 5))))


def test_threads_are_spread_over_cores_before_they_share_one():
    assert choose_cpus(two_kinds(), "steady", None, "") == (0, 1, 2, 3, 4, 5)
    assert choose_cpus(two_kinds(), "steady", 4, "") == (0, 2, 4, 5)
    assert choose_cpus(two_kinds(), "steady", 5, "") == (0, 1, 2, 4, 5)
    assert choose_cpus(two_kinds(), "single", None, "") == (0,)
    assert choose_cpus(two_kinds(), "single", None, "E-cores") == (4,)
    assert choose_cpus(two_kinds(), "steady", None, "P-cores") == (0, 1, 2, 3)


@pytest.mark.parametrize(
    ("threads", "kind", "said"),
    [(7, "", "from 1 to 6"), (0, "", "0 is outside"), (3, "E-cores", "from 1 to 2"), (1, "X", "P-cores, E-cores")],
)
def test_threads_and_kinds_that_are_not_there_are_refused(threads, kind, said):
    with pytest.raises(BadInput, match=said):
        choose_cpus(two_kinds(), "steady", threads, kind)


def test_one_core_alone_turbos_higher_than_all_and_the_comparison_says_so(bolt):
    def run(*words):
        return json.loads(bolt("run", *words, "--duration", "60s", "--json").stdout)

    all_cores, one = run("steady"), run("single")
    assert one["clock_sustained_mhz"] > all_cores["clock_sustained_mhz"] + 1000
    assert one["power_sustained_w"] < 18.0
    assert (all_cores["conditions"]["threads"], one["conditions"]["threads"]) == (12, 1)
    assert run("steady", "--threads", "6")["conditions"]["threads"] == 6
    unlike = json.loads(bolt("compare", "1", "2", "--json").stdout)["runs"][1]["unlike"]
    assert any("1 threads busy" in said for said in unlike)
    assert bolt("run", "steady", "--threads", "13").returncode == 2


@pytest.mark.parametrize("workload", ["idle", "watch"])
def test_a_run_without_work_measures_but_scores_nothing(bolt, workload):
    told = json.loads(bolt("run", workload, "--duration", "60s", "--json").stdout)
    assert told["state"] == "finished"
    assert told["score"] is None
    assert told["score_slices"] == []
    assert 0.5 < told["power_sustained_w"] < 5.0
    assert told["constraint_share"] == {"no work": 1.0}


def test_this_computer_at_one_thread(bolt):
    told = json.loads(bolt("run", "single", "--duration", "6s", "--json", on="host").stdout)
    assert told["score"] > 0
    assert told["conditions"]["threads"] == 1
