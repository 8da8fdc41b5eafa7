"""A worker process: ``python -m upright_bolt.workload.worker CPU WORKLOAD NUMBER PLANT RATE NICE``.

It pins itself to one processor, makes its inputs, warms up with one checked round (a line ``warming NAME`` before each
block), prints ``ready``, and waits for a line with the moment of the load start on standard input. Then it works until
it is ended, in the way of its workload: round after round, by stages, a task after each pause, or a frame at each beat
(at once when late). It prints a line per block::

    b NAME START END OK

with times of the system's monotonic clock in s and OK 1 or 0 for a result that is or is not bit for bit as known.
START is when the block was due: a task's wait for its processor counts. ``p NAME END CAUGHT`` tells whether the
checker noticed one planted wrong bit. It ends by itself when its parent is gone, since nobody reads its lines then.
"""

import os
import select
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from itertools import count

from threadpoolctl import threadpool_limits

from upright_bolt.model.workloads import Mode, Stage, Workload, workload
from upright_bolt.workload.blocks import KNOWN, Mix, digest_of
from upright_bolt.workload.plan import pauses, stage_at

SINGLE_THREAD = dict.fromkeys(("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS", "BLIS_NUM_THREADS"), "1")
"""Environment that holds numeric libraries to one thread from the moment they are loaded."""
PROVED_AT = 0
"""Number of the block of ``proof`` after which the checker has to catch a planted wrong bit: the first, so that a run
with any work done on a busy computer has been tested."""
MOST_SLEEP_S = 0.2

Block = tuple[str, Callable[[], bytes]]
Due = tuple[Block, float | None]
"""A block to execute, and when it was due; None for now."""


def sleep_until(time_s: float) -> None:
    """Sleep until a moment of the monotonic clock, in s."""
    while (ahead := time_s - time.monotonic()) > 0:
        time.sleep(min(ahead, MOST_SLEEP_S))


def mixed(mix: Mix) -> Iterator[Due]:
    """Yield round after round."""
    while True:
        for block in mix.blocks():
            yield block, None


def staged(mix: Mix, start_s: float, stages: Sequence[Stage]) -> Iterator[Due]:
    """Yield blocks of the stage's mix, resting between them as its share says."""
    by_name = dict(mix.blocks())
    while True:
        begun = time.monotonic()
        stage, left_s = stage_at(stages, begun - start_s)
        if not stage.mix:
            time.sleep(left_s)
            continue
        yield (stage.mix, by_name[stage.mix]), None
        if stage.share < 1.0:
            worked = time.monotonic() - begun
            time.sleep(min(left_s, worked * (1.0 / stage.share - 1.0)))


def bursts(mix: Mix, start_s: float, number: int) -> Iterator[Due]:
    """Yield a task after every pause."""
    due = start_s
    for pause in pauses(number):
        due = max(due, time.monotonic()) + pause
        sleep_until(due)
        yield ("task", mix.task), due


def frames(mix: Mix, start_s: float, rate_fps: float) -> Iterator[Due]:
    """Yield a frame at every beat; after a late one the next begins at once, and the beat goes on from there."""
    begun = start_s
    while True:
        yield ("frame", mix.frame), None
        begun = max(begun + 1.0 / rate_fps, time.monotonic())
        sleep_until(begun)


def dues_of(mix: Mix, known: Workload, start_s: float, number: int, rate_fps: float) -> Iterator[Due]:
    """Return the blocks that a workload executes and when each is due, without end. Raises ValueError."""
    match known.mode:
        case Mode.MIXED:
            return mixed(mix)
        case Mode.STAGES:
            return staged(mix, start_s, known.stages)
        case Mode.TASKS:
            return bursts(mix, start_s, number)
        case Mode.FRAMES:
            return frames(mix, start_s, rate_fps)
        case other:
            raise ValueError(f"no worker works in the way {other}")


def _with_one_wrong_bit(result: bytes) -> bytes:
    return bytes([result[0] ^ 1]) + result[1:]


def parent_gone() -> bool:
    """Tell whether whoever started this worker has ended: nobody holds the other end of standard input any more."""
    poll = select.poll()
    poll.register(sys.stdin, select.POLLIN)
    return any(event & select.POLLHUP for _, event in poll.poll(0))


def work(cpu: int, name: str, number: int, inject_fault_at: int, rate_fps: float) -> None:
    """Do a workload for ever on processor ``cpu``; result number ``inject_fault_at`` gets one wrong bit (−1: none)."""
    # One worker for each processor, bound to it: a wrong result then tells which processor gave it.
    os.sched_setaffinity(0, {cpu})
    out, known = sys.stdout, workload(name)
    # A library that starts threads of its own would work on other workers' processors.
    with threadpool_limits(1):
        mix = Mix()
        for block_name, block in (*mix.blocks(), ("task", mix.task), ("frame", mix.frame)):
            if parent_gone():
                return
            out.write(f"warming {block_name}\n")
            out.flush()
            # Also a first check of every block, before anything is counted.
            if digest_of(block()) != KNOWN[block_name]:
                out.write(f"bad {block_name}\n")
        out.write("ready\n")
        out.flush()
        begin = sys.stdin.readline()
        if not begin:
            return
        dues = dues_of(mix, known, float(begin), number, rate_fps)
        for done, ((block_name, block), due) in zip(count(), dues, strict=False):
            begun = time.monotonic() if due is None else due
            result = block()
            # The result itself is changed, not the comparison, so that the checker is tested and not the injection.
            if done == inject_fault_at:
                result = _with_one_wrong_bit(result)
            right = digest_of(result) == KNOWN[block_name]
            out.write(f"b {block_name} {begun:.6f} {time.monotonic():.6f} {right:d}\n")
            if known.mode is Mode.STAGES and done == PROVED_AT:
                caught = digest_of(_with_one_wrong_bit(result)) != KNOWN[block_name]
                out.write(f"p {block_name} {time.monotonic():.6f} {caught:d}\n")
            out.flush()


if __name__ == "__main__":
    try:
        # A polite soak runs at the lowest priority, so that the machine can be used meanwhile.
        os.nice(int(sys.argv[6]))
        work(int(sys.argv[1]), sys.argv[2], int(sys.argv[3]), int(sys.argv[4]), float(sys.argv[5]))
    except (BrokenPipeError, KeyboardInterrupt):
        os._exit(0)  # the parent is gone or ends us; there is nobody to tell and nothing to flush
