"""One process at a time may change a machine. The lock is the kernel's: it falls with the process that held it."""

import fcntl
import os
from pathlib import Path

from upright_bolt.errors import InUse


class MachineLock:
    """Holds a machine for this process until ``release`` or the process's end.

    Args:
        path: the lock file.
        holder: who holds it, for the sentence that another process shows.
    """

    def __init__(self, path: Path, holder: str) -> None:
        self._path = path
        self._holder = holder
        self._fd: int | None = None

    def acquire(self) -> None:
        """Take the lock.

        Raises:
            InUse: another process has it; the sentence says which.
        """
        self._path.parent.mkdir(parents=True, exist_ok=True)
        fd = os.open(self._path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o644)
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as fault:
            who = os.read(fd, 200).decode(errors="replace").strip() or "another process"
            os.close(fd)
            raise InUse(f"This machine is in use by {who}. Close it first, or work there.") from fault
        os.ftruncate(fd, 0)
        os.write(fd, f"{self._holder} (process {os.getpid()})".encode())
        self._fd = fd

    def release(self) -> None:
        """Give it up."""
        if self._fd is not None:
            os.close(self._fd)
            self._fd = None
