"""One process at a time may change a machine. The lock is the kernel's: it falls with the process that held it.

What is locked is the folder of the machine's record, so that a full disk, or one that can only be read, does not keep
anybody from putting back. Nobody but the folder's owner can open it, so nobody else can lock it.
"""

import fcntl
import os
from contextlib import suppress
from pathlib import Path

from upright_bolt.errors import InUse
from upright_bolt.kernel import paths
from upright_bolt.privileges import make_private, user_words

HOLDER_CHARS = 200


class MachineLock:
    """Holds a machine for this process until ``release`` or the process's end.

    Args:
        folder: where the machine's record lies.
        holder: who holds it, for the sentence that another process shows.
    """

    def __init__(self, folder: Path, holder: str) -> None:
        self._folder = folder
        self._holder = holder
        self._fd: int | None = None

    def acquire(self) -> None:
        """Take the lock.

        Raises:
            InUse: another process has it; the sentence says which.
            BoltError: the folder belongs to somebody else, or others may write it.
            OSError: there is no such folder, and it cannot be made.
        """
        make_private(self._folder)
        # The folder itself is locked: a lock file could be deleted and made anew, and then locked twice.
        fd = os.open(self._folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as fault:
            who = _who_holds(fd, self._words)
            os.close(fd)
            raise InUse(f"This machine is in use by {who}. Close it first, or work there.") from fault
        with suppress(OSError):  # only words for others: a full disk may lack them
            self._words.write_text(f"{os.getpid()} {self._holder}")
            self._words.chmod(0o600)
        self._fd = fd

    def acquire_if_possible(self) -> None:
        """Take the lock, or go on without where its folder cannot be made: a user without a home. Raises InUse."""
        with suppress(OSError):
            self.acquire()

    @property
    def _words(self) -> Path:
        return self._folder / "holder"

    def release(self) -> None:
        """Give it up."""
        if self._fd is not None:
            os.close(self._fd)
            self._fd = None


def _who_holds(fd: int, words: Path) -> str:
    """Return who has locked what ``fd`` has open: as the kernel says, with the holder's own words if they are its."""
    # The file with the holder's words may be left over from another process; the kernel's table is not.
    pid = _locked_by(os.fstat(fd))
    if pid is None:
        return "a process that cannot be seen from here"
    try:
        number, _, said = words.read_text(errors="replace")[:HOLDER_CHARS].partition(" ")
    except OSError:
        number = said = ""
    if number == str(pid) and said.isprintable():
        return f"{said} (process {pid})"
    try:
        told = Path(paths.process_file(pid, "comm"))
        return f"“{told.read_text(errors='replace').strip()}” of {user_words(told.stat().st_uid)} (process {pid})"
    except OSError:
        return f"process {pid}"


def _locked_by(file: os.stat_result) -> int | None:
    """Return the process that holds an flock on a file, from the kernel's table; None if it does not show it."""
    wanted = f"{os.major(file.st_dev):02x}:{os.minor(file.st_dev):02x}:{file.st_ino}"
    with suppress(OSError, ValueError, IndexError):
        for line in Path(paths.LOCKS).read_text().splitlines():
            parts = line.split()
            if parts[1] == "FLOCK" and parts[5] == wanted and int(parts[4]) > 0:
                return int(parts[4])
    return None
