"""A worker process: ``python -m upright_bolt.workload.worker CPU``.

It pins itself to one processor, makes its inputs, warms up with one checked round, prints ``ready``, and waits
for a line on standard input. Then it works until it is ended, printing a line per block::

    b NAME START END OK

with times of the system's monotonic clock in s and OK 1 or 0 for a result that is or is not bit for bit as known.
It ends by itself when its parent is gone, since nobody reads its lines then.
"""

import os
import sys
import time
from itertools import count

from threadpoolctl import threadpool_limits

from upright_bolt.workload.blocks import KNOWN, Mix, digest_of

SINGLE_THREAD = dict.fromkeys(("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS", "BLIS_NUM_THREADS"), "1")
"""Environment that holds numeric libraries to one thread from the moment they are loaded."""


def work(cpu: int, plant: int | None) -> None:
    """Run blocks for ever on processor ``cpu``; the result of block number ``plant`` gets one wrong bit."""
    os.sched_setaffinity(0, {cpu})
    out = sys.stdout
    with threadpool_limits(1):
        blocks = Mix().blocks()
        for name, block in blocks:
            if digest_of(block()) != KNOWN[name]:
                out.write(f"bad {name}\n")
        out.write("ready\n")
        out.flush()
        if not sys.stdin.readline():
            return
        for number in count():
            name, block = blocks[number % len(blocks)]
            begun = time.monotonic()
            result = block()
            if number == plant:
                result = bytes([result[0] ^ 1]) + result[1:]
            right = digest_of(result) == KNOWN[name]
            out.write(f"b {name} {begun:.6f} {time.monotonic():.6f} {right:d}\n")
            out.flush()


if __name__ == "__main__":
    planted = int(sys.argv[2]) if len(sys.argv) > 2 else None
    try:
        work(int(sys.argv[1]), planted)
    except (BrokenPipeError, KeyboardInterrupt):
        os._exit(0)  # the parent is gone or ends us; there is nobody to tell and nothing to flush
