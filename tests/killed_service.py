"""The service, killed right after its n-th step: a write to a kernel file or to the journal.

Used as a process: ``killed_service.py N …`` with the words of the command after that.
"""

import os
import signal
import sys

from upright_bolt.cli import run
from upright_bolt.kernel.ports import RealFiles
from upright_bolt.settings.journal import Journal

STEP = int(sys.argv[1])
taken = 0


def counted(act):
    def stepped(*given, **named):
        global taken  # noqa: PLW0603 - one count for the whole process
        done = act(*given, **named)
        taken += 1
        if taken == STEP:
            os.kill(os.getpid(), signal.SIGKILL)
        return done

    return stepped


RealFiles.write = counted(RealFiles.write)
Journal.append = counted(Journal.append)
sys.exit(run(sys.argv[2:]))
