"""The worker as a process of its own: its lines, its check of itself, its end."""

import os
import subprocess
import sys

import pytest

from waiting import within

CPU = min(os.sched_getaffinity(0))
WORKER = [sys.executable, "-m", "upright_bolt.workload.worker", str(CPU)]


@pytest.fixture
def worker():
    started = []

    def start(workload="steady", inject_fault_at=-1, nice=0):
        process = subprocess.Popen(
            [*WORKER, workload, "0", str(inject_fault_at), "60", str(nice)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        started.append(process)
        return process

    yield start
    for process in started:
        process.kill()
        process.communicate()


WARMING = [["warming", name] for name in ("vector", "integer", "compression", "memory", "task", "frame")]


def lines(process, count):
    return [process.stdout.readline().split() for _ in range(count)]


def test_it_warms_up_waits_and_then_reports_every_block(worker):
    process = worker()
    assert lines(process, 7) == [*WARMING, ["ready"]]
    process.stdin.write("0\n")
    process.stdin.flush()
    told = lines(process, 8)
    assert [line[:2] for line in told] == [["b", name] for name in ("vector", "integer", "compression", "memory")] * 2
    assert all(line[4] == "1" for line in told)
    begun, ended = [float(line[2]) for line in told], [float(line[3]) for line in told]
    assert all(a < b for a, b in zip(begun, ended, strict=True))
    assert all(a <= b for a, b in zip(ended, begun[1:], strict=False))  # one after another, nothing between


def test_a_planted_bit_is_reported_once(worker):
    process = worker(inject_fault_at=2)
    process.stdin.write("0\n")
    process.stdin.flush()
    told = lines(process, 15)[7:]
    assert [line[4] for line in told] == ["1", "1", "0", "1", "1", "1", "1", "1"]
    assert told[2][1] == "compression"


def test_it_ends_when_nobody_tells_it_to_begin(worker):
    process = worker()
    lines(process, 1)
    process.stdin.close()
    assert process.wait(timeout=within(20)) == 0
    process.stdin = None


def test_it_ends_when_nobody_reads(worker):
    process = worker()
    lines(process, 1)
    process.stdin.write("0\n")
    process.stdin.flush()
    process.stdout.close()
    assert process.wait(timeout=within(20)) == 0
    process.stdout = None


def test_a_processor_that_is_not_there_is_an_error(worker):
    result = subprocess.run(
        [*WORKER[:-1], "4095", "steady", "0", "-1", "60", "0"], capture_output=True, text=True, check=False
    )
    assert result.returncode != 0
    assert "Invalid argument" in result.stderr


def test_a_polite_one_leaves_the_processor_to_anything_else(worker):
    for nice in (0, 19):
        process = worker(nice=nice)
        assert lines(process, 7)[-1] == ["ready"]
        assert os.getpriority(os.PRIO_PROCESS, process.pid) == nice


def test_one_whose_parent_is_gone_ends_in_the_middle_of_warming_up():
    reading, writing = os.pipe()
    command = [*WORKER, "steady", "0", "-1", "60", "0"]
    process = subprocess.Popen(command, stdin=reading, stdout=subprocess.PIPE, text=True)
    os.close(reading)
    os.close(writing)
    told, _ = process.communicate(timeout=within(20.0))
    assert process.returncode == 0
    assert "ready" not in told
