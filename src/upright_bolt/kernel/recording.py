"""Ports that pass everything on and remember what was read: what a capture consists of."""

from contextlib import suppress

from upright_bolt.errors import FileFault
from upright_bolt.kernel.gpu.gpus import SleepGuard, find_cards
from upright_bolt.kernel.ports import SLEEPS, VALUE_SIZE, ForwardingFiles, KernelFiles, Read, Registers


class RecordingFiles(ForwardingFiles):
    """Port ``KernelFiles`` that remembers; of a chip that sleeps nothing, since it is left asleep.

    Attributes:
        contents: path to the content last read; None for a file that is there but could not be read.
        open_to_writes: paths that this process may write.
    """

    def __init__(self, files: KernelFiles) -> None:
        super().__init__(SleepGuard(files, find_cards(files)))
        self.contents: dict[str, bytes | None] = {}
        self.open_to_writes: set[str] = set()

    def read(self, path: str) -> bytes:
        """Return the content, and remember it. Raises FileFault."""
        try:
            self.contents[path] = data = self._files.read(path)
        except FileFault as fault:
            if fault.errno != SLEEPS and self._files.exists(path):
                self.contents.setdefault(path, None)
            raise
        return data

    def exists(self, path: str) -> bool:
        """Tell whether the file or folder is there; a file that is looked for belongs to the record."""
        there = self._files.exists(path)
        if there and path not in self.contents and not self._files.names(path):
            with suppress(FileFault):
                self.read(path)
        return there

    def writable(self, path: str) -> bool:
        """Tell whether this process may write the file, and remember it."""
        writable = self._files.writable(path)
        if writable:
            self.open_to_writes.add(path)
        return writable

    def opener(self, path: str, size: int = VALUE_SIZE) -> Read:
        """Open the file for repeated reading; its present content belongs to the record. Raises FileFault."""
        self.read(path)
        return self._files.opener(path, size)


class RecordingRegisters:
    """Port ``Registers`` that remembers.

    Attributes:
        values: processor and register to the value last read.
    """

    def __init__(self, registers: Registers) -> None:
        self._registers = registers
        self.copied = registers.copied
        self.values: dict[tuple[int, int], int] = {}

    def read(self, cpu: int, register: int) -> int:
        """Return the register, and remember it. Raises FileFault."""
        value = self._registers.read(cpu, register)
        self.values[cpu, register] = value
        return value

    def write(self, cpu: int, register: int, value: int) -> None:
        """Write the register. Raises FileFault."""
        self._registers.write(cpu, register, value)

    def close(self) -> None:
        """Close everything that was opened."""
        self._registers.close()
