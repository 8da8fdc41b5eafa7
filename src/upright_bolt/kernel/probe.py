"""Reading a machine that may lie: every fault is noted once, and the rest goes on."""

import errno
from contextlib import suppress

from upright_bolt.errors import FileFault
from upright_bolt.kernel.ports import SLEEPS, KernelFiles, Registers
from upright_bolt.model.note import Diagnostic, DiagnosticCode, Particular, note

LONGEST_NUMBER = 24
"""Characters; the longest the kernel writes is a 64-bit number with its sign."""


class Probe:
    """Reads files and registers for a survey; a missing file is None, a faulty one is None and noted.

    Attributes:
        files: the port.
        registers: the port.
        gaps: what was found missing or faulty so far, in order.
    """

    def __init__(self, files: KernelFiles, registers: Registers) -> None:
        self.files = files
        self.registers = registers
        self.gaps: list[Diagnostic] = []
        self._noted: set[str] = set()

    def over(self, files: KernelFiles, registers: Registers) -> "Probe":
        """Return a probe over other ports that goes on with what this one has noted."""
        other = Probe(files, registers)
        other.gaps, other._noted = self.gaps, self._noted
        return other

    def note(self, what: str, code: DiagnosticCode, /, **particulars: Particular) -> None:
        """Note once that ``what`` (a subject, a file) is missing, and why."""
        self.add(note(code, what, **particulars))

    def add(self, gap: Diagnostic) -> None:
        """Note a gap, the first one about each thing."""
        if gap.about not in self._noted:
            self._noted.add(gap.about)
            self.gaps.append(gap)

    def text(self, path: str, *, limit: int = 4096) -> str | None:
        """Return the stripped text, or None if the file is missing or faulty (then it is noted)."""
        try:
            data = self.files.read(path)
        except FileFault as fault:
            if fault.errno not in (errno.ENOENT, errno.ENOTDIR, errno.ENODEV, SLEEPS):
                self.note(path, DiagnosticCode.FILE_UNREADABLE, what=fault.what)
            return None
        if len(data) > limit:
            self.note(path, DiagnosticCode.FILE_TOO_LONG, bytes=float(len(data)))
            return None
        try:
            text = data.decode("ascii" if limit == 4096 else "utf-8").strip("\n\t \0")
        except UnicodeDecodeError:
            self.note(path, DiagnosticCode.FILE_NOT_TEXT)
            return None
        if not text and limit == 4096:
            self.note(path, DiagnosticCode.FILE_EMPTY)
            return None
        return text

    def long_text(self, path: str) -> str:
        """Return a text of any length, empty if missing or faulty."""
        return self.text(path, limit=1 << 20) or ""

    def number(self, path: str) -> int | None:
        """Return a whole number, or None if the file is missing or not a number (then it is noted)."""
        text = self.text(path)
        if text is None:
            return None
        if len(text) <= LONGEST_NUMBER:
            with suppress(ValueError):
                return int(text)
        shown = text if len(text) <= 20 else text[:20] + "…"
        self.note(path, DiagnosticCode.FILE_NOT_NUMBER, text=shown)
        return None

    def register(self, cpu: int, number: int) -> int | None:
        """Return a register, or None if it cannot be read; the caller decides whether that is worth a note."""
        try:
            return self.registers.read(cpu, number)
        except FileFault:
            return None

    def register_fault(self, cpu: int, number: int) -> FileFault | None:
        """Return why a register cannot be read; None if it can."""
        try:
            self.registers.read(cpu, number)
        except FileFault as fault:
            return fault
        return None


def cpu_list(text: str) -> list[int]:
    """Return the processors of a kernel list such as ``0-3,8``; parts that are not numbers are left out."""
    found: list[int] = []
    for part in text.split(","):
        first, _, last = part.strip().partition("-")
        if first.isdecimal() and (last.isdecimal() or not last):
            found.extend(range(int(first), min(int(last or first), int(first) + 4096) + 1))
    return found
