"""Kernel files and register-backed values behind one face, so that one mechanism checks, writes, reads back and undoes.

A voltage offset is not a file: it is set through a mailbox register. Here it has a path of its own
(``paths.OFFSETS``) whose text is the offset in the mailbox's steps of 1/1024 V, as a signed whole number. Bits of a
register likewise (``paths.REGISTER_BITS``), as a whole number; writing them leaves the register's other bits as
they are. Every other path goes straight to the files.
"""

from upright_bolt.kernel import mailbox, paths, registers
from upright_bolt.kernel.ports import VALUE_SIZE, KernelFiles, Read, Registers


class Surfaces:
    """Port ``KernelFiles`` over files and registers."""

    def __init__(self, files: KernelFiles, registers: Registers) -> None:
        self._files = files
        self._registers = registers

    def read(self, path: str) -> bytes:
        """Return the content, or a register-backed value as text. Raises FileFault."""
        plane = paths.OFFSETS.get(path)
        if plane is not None:
            return b"%d" % mailbox.read_offset(self._registers, plane)
        place = paths.REGISTER_BITS.get(path)
        if place is None:
            return self._files.read(path)
        register, high, low = place
        return b"%d" % registers.bits(self._registers.read(0, register), high, low)

    def write(self, path: str, data: bytes) -> None:
        """Write the content, or a register-backed value. Raises FileFault."""
        plane = paths.OFFSETS.get(path)
        if plane is not None:
            mailbox.write_offset(self._registers, plane, int(data))
            return
        place = paths.REGISTER_BITS.get(path)
        if place is None:
            self._files.write(path, data)
            return
        register, high, low = place
        mask = (1 << (high + 1)) - (1 << low)
        kept = self._registers.read(0, register) & ~mask
        self._registers.write(0, register, kept | (int(data) << low) & mask)

    def names(self, path: str) -> list[str]:
        """Return the sorted names in a folder."""
        return self._files.names(path)

    def exists(self, path: str) -> bool:
        """Tell whether the file or folder is there."""
        return self._files.exists(path)

    def writable(self, path: str) -> bool:
        """Tell whether this process may write the file."""
        return self._files.writable(path)

    def closed_to_all(self, path: str) -> bool:
        """Tell whether nobody may write the file, not even root."""
        return self._files.closed_to_all(path)

    def opener(self, path: str, size: int = VALUE_SIZE) -> Read:
        """Open the file for repeated reading. Raises FileFault."""
        return self._files.opener(path, size)

    def close(self) -> None:
        """Close everything that was opened for repeated reading."""
        self._files.close()
