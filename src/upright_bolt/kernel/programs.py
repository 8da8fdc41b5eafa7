"""Which of some programs are running: a scan of new processes only, and of none while no process has begun.

The kernel's own pages: Documentation/filesystems/proc, on /proc/loadavg and /proc/N/comm.
"""

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.ports import KernelFiles

COMM_CHARS = 15
"""The kernel keeps so many of a name."""


class ProgramScan:
    """Finds programs by name.

    Args:
        files: the machine's kernel files.
    """

    def __init__(self, files: KernelFiles) -> None:
        self._files = files
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
        self._young = unseen - self._young

    def _name_of(self, number: str) -> str:
        """Return which of the names a process has; empty for none of them."""
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
