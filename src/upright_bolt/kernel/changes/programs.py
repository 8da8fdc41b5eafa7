"""Which of some programs are running: a scan of new processes only, and of none while no process has begun.

Any process can give itself any name (prctl), so only those of trusted users count.

The kernel's own pages: Documentation/filesystems/proc, on /proc/loadavg, /proc/N/comm and /proc/N/status.
"""

import ctypes
import os
from collections.abc import Callable
from contextlib import suppress

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.ports import KernelFiles

COMM_CHARS = 15
"""The kernel keeps so many of a name."""


class ProgramScan:
    """Finds programs by name.

    Args:
        files: the machine's kernel files.
        trusts: tells whether the processes of a user, by number, count.
    """

    def __init__(self, files: KernelFiles, trusts: Callable[[int], bool]) -> None:
        self._files = files
        self._trusts = trusts
        self._names: frozenset[str] = frozenset()
        self._newest = ""
        self._known: set[str] = set()
        """Processes that were looked at twice: one that has just begun may still become another program."""
        self._young: set[str] = set()
        self._matches: dict[str, str] = {}

    def running(self, names: frozenset[str]) -> frozenset[str]:
        """Return which of ``names`` are running."""
        if names != self._names:
            self._names, self._newest = names, ""
            self._known.clear()
            self._young.clear()
            self._matches.clear()
        # The last number of /proc/loadavg is the newest process: while it is the same, no process has begun.
        newest = self._text(paths.LOADAVG).rpartition(" ")[2]
        if newest != self._newest or self._young or not newest:
            self._newest = newest
            self._scan()
        else:
            self._matches = {n: name for n, name in self._matches.items() if self._name_of(n) == name}
        return frozenset(self._matches.values())

    def _scan(self) -> None:
        there = {name for name in self._files.names(paths.PROC) if name.isdecimal()}
        unseen = there - self._known
        self._matches = {n: name for n, name in self._matches.items() if n in there and n not in unseen}
        for number in unseen:
            if name := self._name_of(number):
                self._matches[number] = name
        self._known = (self._known & there) | (self._young & there)
        # A process begins as a copy of its parent, and becomes its own program a moment later.
        self._young = unseen - self._young

    def _name_of(self, number: str) -> str:
        """Return which of the names a process has, if it counts; empty for none of them."""
        name = self._called(number)
        return name if name and self._counts(number) else ""

    def _counts(self, number: str) -> bool:
        """Tell whether a trusted user has started a process: its real user, since a link can name a setuid program."""
        status = self._text(paths.process_file(int(number), "status"))
        words = next((line.split() for line in status.splitlines() if line.startswith("Uid:")), [])
        return len(words) > 1 and words[1].isdecimal() and self._trusts(int(words[1]))

    def _called(self, number: str) -> str:
        comm = self._text(paths.process_file(int(number), "comm"))
        near = [name for name in self._names if name[:COMM_CHARS] == comm]
        if not near or all(len(name) <= COMM_CHARS for name in near):
            return near[0] if near else ""
        words = self._text(paths.process_file(int(number), "cmdline")).split("\0")
        return next((name for name in near if any(word.rpartition("/")[2] == name for word in words[:2])), "")

    def _text(self, path: str) -> str:
        try:
            return self._files.read(path).decode(errors="replace").strip()
        except FileFault:
            return ""


class DeskUsers:
    """Tells whose processes count: those of root, of this process's user, and of the person at the desk.

    The person at the desk is the user of the active session of a seat, as systemd's login manager tells
    (sd_uid_get_seats(3)). A session
    over the network has no seat. Without that library nobody else counts.
    """

    def __init__(self) -> None:
        self._library: ctypes.CDLL | None = None
        with suppress(OSError):
            self._library = ctypes.CDLL("libsystemd.so.0")

    def __call__(self, uid: int) -> bool:
        """Tell whether the processes of a user count."""
        if uid in (0, os.geteuid()):
            return True
        return self._library is not None and self._library.sd_uid_get_seats(ctypes.c_uint32(uid), 1, None) > 0
