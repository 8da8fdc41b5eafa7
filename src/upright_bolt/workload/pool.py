"""Workloads on this computer: one pinned worker process per processor, read without blocking."""

import os
import subprocess
import tempfile
import time
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import pairwise
from typing import IO

from upright_bolt.errors import BoltError
from upright_bolt.model.run import WorkError
from upright_bolt.model.workloads import MIXES, Mode
from upright_bolt.workload.load import Load, Task
from upright_bolt.workload.subprocess_start import python_module
from upright_bolt.workload.worker import SINGLE_THREAD

ENVIRONMENT = {"PATH": "/usr/bin:/bin", "LC_ALL": "C.UTF-8", **SINGLE_THREAD}
"""All of a worker's environment: no variable of the caller's decides what it runs."""
LOWEST = 19
"""Niceness of workers that leave the processors to anything else."""
READY_WITHIN_S = 60.0
"""Without a word from a worker while they warm up: on a slow machine a block may take long, and all of them minutes."""
END_WITHIN_S = 3.0
SILENT_S = 20.0
"""A worker that has not printed anything for so long hangs: the longest pause of any plan is a quarter of that."""
SLOWER = 4.0
"""On a slow machine it may take so many times as long as its slowest block while it warmed up, at a higher clock."""
UNTESTED = "A checker did not come to its test: this run proves nothing."
MISSED = "The checker missed a wrong bit that was planted to test it: this run proves nothing."


@dataclass(slots=True)
class Worker:
    """One worker process, and what it has said."""

    cpu: int
    process: subprocess.Popen[bytes]
    complaints: IO[bytes]
    ready: bool = False
    dead: bool = False
    heard_s: float = 0.0
    slowest_s: float = 0.0
    rest: bytes = b""
    begun: list[float] = field(default_factory=list)
    ended: list[float] = field(default_factory=list)


class HostLoad(Load):
    """``Load`` on this computer's own cores.

    Args:
        task: what it is made for.
        inject_fault_at: number of the block in which the first checker must find one wrong bit; None for no block.
    """

    def __init__(self, task: Task, inject_fault_at: int | None = None) -> None:
        self._task = task
        self._mode = task.known.mode
        self.scores = task.known.counts
        self._blocks_per_unit = len(MIXES) if self._mode in (Mode.MIXED, Mode.STAGES) else 1
        self._inject_fault_at = inject_fault_at
        self._proved: list[bool] = []
        self._told_proved = False
        self._workers: list[Worker] = []
        self._errors: list[WorkError] = []
        self._start_s = 0.0
        self._prepared_s = 0.0

    def prepare(self) -> None:
        """Start the workers; they warm up by themselves. Raises BoltError if one cannot be started."""
        self._prepared_s = time.monotonic()
        for cpu, command, environment in self._commands():
            # A file, not a pipe: a worker that complains at length must not stop because nobody reads.
            complaints = tempfile.TemporaryFile()  # noqa: SIM115 - closed in stop
            try:
                process = subprocess.Popen(
                    command,
                    stdin=subprocess.PIPE,
                    stdout=subprocess.PIPE,
                    stderr=complaints,
                    env=environment,
                    cwd="/",
                )
            except OSError as fault:
                self.stop()
                raise BoltError(f"A worker process could not be started: {fault.strerror}.") from fault
            if process.stdout is not None:
                # The session's sample must not wait for a worker that is in the middle of a block.
                os.set_blocking(process.stdout.fileno(), False)
            self._workers.append(Worker(cpu, process, complaints))

    def _commands(self) -> Iterator[tuple[int, list[str], dict[str, str]]]:
        """Yield processor, command and environment of each worker."""
        options = self._task.options
        for i, cpu in enumerate(self._task.cpus):
            inject_fault_at = self._inject_fault_at if self._inject_fault_at is not None and i == 0 else -1
            words = (cpu, self._task.workload, i, inject_fault_at, options.rate_fps, LOWEST if options.polite else 0)
            yield cpu, python_module("upright_bolt.workload.worker", *words), ENVIRONMENT

    def ready(self) -> bool:
        """Tell whether every worker has warmed up. Raises BoltError if one died, or did not in time."""
        self._read()
        for worker in self._workers:
            if worker.dead:
                worker.complaints.seek(0)
                last = worker.complaints.read().decode(errors="replace").strip().splitlines()[-1:]
                self.stop()
                raise BoltError(self._died(worker, " ".join(last)))
        if all(worker.ready for worker in self._workers):
            return True
        # A worker that is slow still speaks; one that says nothing for so long hangs.
        late = min(max(worker.heard_s, self._prepared_s) for worker in self._workers if not worker.ready)
        if time.monotonic() - late > READY_WITHIN_S:
            self.stop()
            raise BoltError(f"The workers do not get on with warming up: nothing for {READY_WITHIN_S:.0f} s.")
        return False

    def _died(self, worker: Worker, last: str) -> str:
        """Return that a worker died before the work began, as a sentence; ``last`` is its last word."""
        return f"The worker on processor {worker.cpu} died while warming up: {last}"

    def start(self) -> float:
        """Let all workers begin."""
        self._start_s = time.monotonic()
        for worker in self._workers:
            if worker.process.stdin is not None:
                try:
                    worker.heard_s = self._start_s
                    # All workers get the same moment, so that none has a head start by the order in which they are
                    # told.
                    worker.process.stdin.write(b"%.6f\n" % self._start_s)
                    worker.process.stdin.flush()
                except BrokenPipeError:
                    self._bury(worker)
        return self._start_s

    def _read(self) -> None:
        for worker in self._workers:
            if worker.dead or worker.process.stdout is None:
                continue
            while True:
                try:
                    data = os.read(worker.process.stdout.fileno(), 65536)
                except BlockingIOError:
                    break
                if not data:
                    self._bury(worker)
                    break
                self._hear(worker)
                self._take(worker, data)
            if self._start_s and not worker.dead and time.monotonic() - worker.heard_s > _patience_s(worker):
                self._give_up(worker)

    def _hear(self, worker: Worker) -> None:
        """Note that a worker has spoken, and how long it took for that while it warmed up."""
        now = time.monotonic()
        if worker.heard_s and not worker.ready:
            worker.slowest_s = max(worker.slowest_s, now - worker.heard_s)
        worker.heard_s = now

    def _take(self, worker: Worker, data: bytes) -> None:
        # A read may end in the middle of a line.
        lines = (worker.rest + data).split(b"\n")
        worker.rest = lines.pop()
        for line in lines:
            self._take_line(worker, line.decode("ascii", "replace").split())

    def _take_line(self, worker: Worker, words: list[str]) -> None:
        """Take up one line of a worker."""
        if words[:1] == ["ready"]:
            worker.ready = True
        elif words[:1] == ["bad"] and len(words) == 2:
            self._errors.append(WorkError(0.0, worker.cpu, words[1], "wrong result while warming up"))
        elif words[:1] == ["p"] and len(words) == 4:
            self._proved.append(words[3] == "1")
        elif words[:1] == ["b"] and len(words) >= 5:
            begun, ended = float(words[2]), float(words[3])
            worker.begun.append(begun)
            worker.ended.append(ended)
            if words[4] != "1":
                self._errors.append(self._wrong(worker, ended - self._start_s, words[1], words[5:]))

    def _wrong(self, worker: Worker, time_s: float, block: str, places: list[str]) -> WorkError:  # noqa: ARG002 - others have places
        return WorkError(time_s, worker.cpu, block, "wrong result")

    def _bury(self, worker: Worker) -> None:
        worker.dead = True
        if self._start_s:
            code = worker.process.wait(timeout=END_WITHIN_S)
            what = f"the worker died (signal {-code})" if code < 0 else f"the worker ended with code {code}"
            self._errors.append(WorkError(time.monotonic() - self._start_s, worker.cpu, "", what))

    def _give_up(self, worker: Worker) -> None:
        """End a worker that does not answer; what it was asked to check stays unknown."""
        worker.process.kill()
        worker.process.wait()
        worker.dead = True
        after = worker.heard_s - self._start_s
        self._errors.append(
            WorkError(after, worker.cpu, "", f"the worker hung: nothing for {_patience_s(worker):.0f} s")
        )

    def units_until(self, time_s: float) -> float:
        """Return finished blocks over blocks per unit, the block under way at ``time_s`` in proportion.

        A frame is a unit once each processor has done its part of it.
        """
        self._read()
        done = [_blocks_until(worker, time_s) for worker in self._workers]
        # A frame is done once its slowest part is; other blocks are independent, so they add up.
        return min(done, default=0.0) if self._mode is Mode.FRAMES else sum(done) / self._blocks_per_unit

    def figures(self, duration_s: float) -> dict[str, float]:
        """Return latencies, frame numbers, or what was checked."""
        from upright_bolt.analysis.responsiveness import frame_numbers, latencies  # noqa: PLC0415 - needs numbers that light commands do not load

        self._read()
        until = self._start_s + duration_s
        counts = [bisect_right(worker.ended, until) for worker in self._workers]
        if self._mode is Mode.TASKS:
            return latencies(
                [w.ended[i] - w.begun[i] for w, count in zip(self._workers, counts, strict=True) for i in range(count)]
            )
        if self._mode is Mode.FRAMES:
            ends = [max(w.ended[i] for w in self._workers) for i in range(min(counts, default=0))]
            return frame_numbers([b - a for a, b in pairwise(ends)], self._task.options.rate_fps)
        if self._mode is Mode.STAGES:
            return {"blocks_checked": float(sum(counts)), "planted_caught": float(sum(self._proved))}
        return {}

    def failure(self) -> str:
        """Return a sentence if a checker missed its planted error."""
        return "" if all(self._proved) else MISSED

    def doubt(self) -> str:
        """Return a sentence if a checker at work was never tested."""
        untested = self._mode is Mode.STAGES and len(self._proved) < sum(not worker.dead for worker in self._workers)
        return UNTESTED if untested else ""

    def self_test_passed(self) -> int | None:
        """Tell once that every checker has caught its planted error."""
        caught = bool(self._proved) and len(self._proved) >= len(self._workers) and not self.failure()
        if self._told_proved or not caught:
            return None
        self._told_proved = True
        return len(self._proved)

    def complete_until(self) -> float:
        """Return the end of the last block that every living worker has finished."""
        self._read()
        lasts = [worker.ended[-1] if worker.ended else self._start_s for worker in self._workers if not worker.dead]
        return min(lasts, default=time.monotonic())

    def errors(self) -> list[WorkError]:
        """Return wrong results and dead workers so far."""
        self._read()
        return list(self._errors)

    def alive(self) -> bool:
        """Tell whether any worker is still at work."""
        self._read()
        return any(not worker.dead for worker in self._workers)

    def stop(self) -> None:
        """End all workers and wait for them."""
        for worker in self._workers:
            if worker.process.poll() is None:
                worker.process.terminate()
        for worker in self._workers:
            try:
                worker.process.wait(timeout=END_WITHIN_S)
            except subprocess.TimeoutExpired:
                worker.process.kill()
                worker.process.wait()
            worker.dead = True
            for pipe in (worker.process.stdin, worker.process.stdout, worker.complaints):
                if pipe is not None and not pipe.closed:
                    try:
                        pipe.close()
                    except BrokenPipeError:
                        continue


def _patience_s(worker: Worker) -> float:
    """Return for how long a worker may be silent."""
    return max(SILENT_S, SLOWER * worker.slowest_s)


def _blocks_until(worker: Worker, time_s: float) -> float:
    done = bisect_right(worker.ended, time_s)
    if done < len(worker.begun) and worker.begun[done] < time_s:
        begun, ended = worker.begun[done], worker.ended[done]
        return done + (time_s - begun) / (ended - begun)
    return float(done)
