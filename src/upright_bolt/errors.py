"""Every error this package raises on purpose; each is one sentence for a person.

The tree::

    BoltError              something could not be done (exit code 1)
    ├── BadInput           what was asked for makes no sense (exit code 2)
    │   └── NotFound       it names something that this machine or data folder does not have
    ├── FileFault          a kernel file or register could not be read or written
    ├── Refused            the machine, its firmware or the kernel refused a change
    ├── InUse              another process holds the machine
    ├── CorruptData        a file of this program does not hold what it should
    ├── Denied             the person has no right to it
    ├── NoFolder           a folder that records go to cannot be written
    └── MachineFroze       a simulated machine froze, which ends whatever was running on it
"""

import errno as errno_names
import os

from upright_bolt.sanitize import one_line


class BoltError(Exception):
    """Something could not be done; the text is a sentence for a person, on one line whatever went into it."""

    exit_code = 1

    def __str__(self) -> str:
        return one_line(super().__str__())


class BadInput(BoltError):
    """What was asked for is not understood or not allowed."""

    exit_code = 2


class NotFound(BadInput):
    """A name or number that this machine or data folder does not have."""


class Refused(BoltError):
    """The machine, its firmware or the kernel refused a change."""


class InUse(BoltError):
    """Another process of this program holds the machine."""


class Denied(BoltError):
    """The rights of the person do not allow it; the sentence says what would."""


class CorruptData(BoltError):
    """A file of this program, or data from outside, does not hold what it should."""


class NoFolder(BoltError):
    """The folder for records cannot be written."""


class MachineFroze(BoltError):
    """A simulated machine froze and restarted; as on a real one, whatever ran on it has ended."""


class FileFault(BoltError):
    """A kernel file or register could not be read or written.

    Attributes:
        path: the file as the kernel names it (``/sys/...``).
        errno: the system's error number, or 0 if the content was the fault.
    """

    def __init__(self, path: str, errno: int, what: str = "") -> None:
        self.path = path
        self.errno = errno
        self.what = what or (os.strerror(errno) if errno else "unreadable content")
        code = errno_names.errorcode.get(errno, "")
        super().__init__(f"{path}: {self.what}" + (f" ({code})" if code else ""))
