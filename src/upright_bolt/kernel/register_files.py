"""Kernel files and register-backed values behind one port, so that one mechanism checks, writes, reads back and undoes.

A voltage offset is not a file: it is set through a mailbox register. Here it has a path of its own
(``paths.OFFSETS``) whose text is the offset in the mailbox's steps of 1/1024 V, as a signed whole number. Bits of a
register likewise (``paths.REGISTER_BITS``), as a whole number; writing them leaves the register's other bits as
they are. Every other path goes straight to the files.
"""

from upright_bolt.kernel import mailbox, paths, registers
from upright_bolt.kernel.ports import ForwardingFiles, KernelFiles, Registers


class RegisterFiles(ForwardingFiles):
    """Port ``KernelFiles`` over files and registers.

    Args:
        files: the machine's.
        registers: the machine's.
        chips: the same files as far as they belong to graphics chips.
    """

    def __init__(self, files: KernelFiles, registers: Registers, chips: KernelFiles) -> None:
        super().__init__(files)
        self._registers = registers
        self._chips = chips

    @property
    def register_backed(self) -> bool:
        """They are."""
        return True

    @property
    def vendor_library(self) -> object:
        """See ``ForwardingFiles``: as the files of GPUs have it."""
        return getattr(self._chips, "vendor_library", "")

    def read(self, path: str) -> bytes:
        """Return the content, or a register-backed value as text. Raises FileFault."""
        if path.startswith(paths.OF_GRAPHICS):
            return self._chips.read(path)
        plane = paths.OFFSETS.get(path)
        if plane is not None:
            return b"%d" % mailbox.read_offset(self._registers, plane)
        location = paths.REGISTER_BITS.get(path)
        if location is None:
            return self._files.read(path)
        register, high, low = location
        return b"%d" % registers.bits(self._registers.read(0, register), high, low)

    def write(self, path: str, data: bytes) -> None:
        """Write the content, or a register-backed value. Raises FileFault."""
        if path.startswith(paths.OF_GRAPHICS):
            self._chips.write(path, data)
            return
        plane = paths.OFFSETS.get(path)
        if plane is not None:
            mailbox.write_offset(self._registers, plane, int(data))
            return
        location = paths.REGISTER_BITS.get(path)
        if location is None:
            self._files.write(path, data)
            return
        register, high, low = location
        mask = (1 << (high + 1)) - (1 << low)
        kept = self._registers.read(0, register) & ~mask
        self._registers.write(0, register, kept | (int(data) << low) & mask)

    def exists(self, path: str) -> bool:
        """Tell whether the file or folder is there."""
        return (self._chips if path.startswith(paths.OF_GRAPHICS) else self._files).exists(path)

    def writable(self, path: str) -> bool:
        """Tell whether this process may write the file."""
        return (self._chips if path.startswith(paths.OF_GRAPHICS) else self._files).writable(path)

    def closed_to_all(self, path: str) -> bool:
        """Tell whether nobody may write the file, not even root."""
        return (self._chips if path.startswith(paths.OF_GRAPHICS) else self._files).closed_to_all(path)
