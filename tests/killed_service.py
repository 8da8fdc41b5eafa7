"""A process that kills itself right after its n-th step: a write to a kernel file or to the journal."""

import os
import signal

from upright_bolt.kernel.ports import RealFiles
from upright_bolt.settings.journal import Journal


def die_after(step: int) -> None:
    """Let this process die with SIGKILL once ``step`` steps are done."""
    taken = 0

    def counted(act):
        def stepped(*given, **named):
            nonlocal taken
            done = act(*given, **named)
            taken += 1
            if taken == step:
                os.kill(os.getpid(), signal.SIGKILL)
            return done

        return stepped

    RealFiles.write = counted(RealFiles.write)
    Journal.append = counted(Journal.append)
