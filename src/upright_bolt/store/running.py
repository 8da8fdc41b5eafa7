"""Which runs go on at this moment, in whichever process: a lock that falls with the process that makes the run.

Each run locks one byte of a file beside the database, at the run's number. The locks are the kernel's own ("open file
description locks", fcntl(2)), so a run of a process that was killed is known to have ended.
"""

import fcntl
import os
import struct
from contextlib import suppress
from pathlib import Path

_LOCK = "hhqqi0q"
"""struct flock: type, whence, start, length, process."""


class RunningRuns:
    """The runs of one database that go on.

    Args:
        path: the file beside the database.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._mine: set[int] = set()
        self._handle: int | None = None

    def _open(self) -> int | None:
        """Return the file; None where it cannot be opened, as on a disk that can only be read."""
        if self._handle is None:
            with suppress(OSError):
                self._handle = os.open(self._path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        return self._handle

    def begin(self, run_id: int) -> None:
        """A run of this process begins."""
        handle = self._open()
        if handle is not None:
            with suppress(OSError):
                fcntl.fcntl(handle, fcntl.F_OFD_SETLK, struct.pack(_LOCK, fcntl.F_WRLCK, os.SEEK_SET, run_id, 1, 0))
        self._mine.add(run_id)

    def end(self, run_id: int) -> None:
        """A run of this process has ended."""
        if self._handle is not None and run_id in self._mine:
            with suppress(OSError):
                fcntl.fcntl(
                    self._handle, fcntl.F_OFD_SETLK, struct.pack(_LOCK, fcntl.F_UNLCK, os.SEEK_SET, run_id, 1, 0)
                )
        self._mine.discard(run_id)

    def goes_on(self, run_id: int) -> bool:
        """Tell whether a run goes on, in this process or another."""
        if run_id in self._mine:
            return True
        handle = self._open()
        if handle is None:
            return False
        try:
            asked = fcntl.fcntl(handle, fcntl.F_OFD_GETLK, struct.pack(_LOCK, fcntl.F_WRLCK, os.SEEK_SET, run_id, 1, 0))
        except OSError:
            return False
        return bool(struct.unpack(_LOCK, asked)[0] != fcntl.F_UNLCK)

    def close(self) -> None:
        """Let the file go, and every lock with it."""
        if self._handle is not None:
            os.close(self._handle)
            self._handle = None
        self._mine.clear()
