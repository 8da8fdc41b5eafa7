"""The two ports through which everything above reads and writes a machine: kernel files and registers.

Variants: ``RealFiles``/``DeviceRegisters`` (this computer, or a copy of kernel files under a folder) here, and
the simulated ones in ``upright_bolt.simulator``. Failures are ``FileFault``; only the callables that ``opener``
returns raise plain ``OSError``, since they sit in the sampling loop.
"""

import errno
import os
import stat
from collections.abc import Callable, Mapping
from functools import partial
from pathlib import Path
from typing import Protocol

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths

VALUE_SIZE = 4096
TEXT_SIZE = 1 << 20
SLEEPS = errno.EHOSTDOWN
"""Error of a file that is kept shut since its device sleeps; no file of the kernel's answers with it."""
UNREAD = (1 << 64) - 1
"""Stands in a copy of registers where none was read; no register this program knows holds all ones."""

Read = Callable[[], bytes]
"""Reads an open file from its beginning; raises OSError."""


class KernelFiles(Protocol):
    """Kernel files by the names the kernel gives them."""

    def read(self, path: str) -> bytes:
        """Return the content. Raises FileFault."""
        ...

    def write(self, path: str, data: bytes) -> None:
        """Write the content at once. Raises FileFault."""
        ...

    def names(self, path: str) -> list[str]:
        """Return the sorted names in a folder; empty if there is none."""
        ...

    def exists(self, path: str) -> bool:
        """Tell whether the file or folder is there."""
        ...

    def writable(self, path: str) -> bool:
        """Tell whether this process may write the file."""
        ...

    def closed_to_all(self, path: str) -> bool:
        """Tell whether nobody may write the file, not even root."""
        ...

    def opener(self, path: str, size: int = VALUE_SIZE) -> Read:
        """Open the file for repeated reading. Raises FileFault."""
        ...

    def close(self) -> None:
        """Close everything that was opened for repeated reading."""
        ...


class Registers(Protocol):
    """Model-specific registers of 64 bits by processor and number.

    Attributes:
        copied: whether these are the numbers of a copy, behind which no processor answers.
    """

    copied: bool

    def read(self, cpu: int, register: int) -> int:
        """Return the register. Raises FileFault."""
        ...

    def write(self, cpu: int, register: int, value: int) -> None:
        """Write the register. Raises FileFault."""
        ...

    def close(self) -> None:
        """Close everything that was opened."""
        ...


class ForwardingFiles:
    """Port ``KernelFiles`` that hands everything to another one: what wraps a port changes only what it is for."""

    def __init__(self, files: KernelFiles) -> None:
        self._files = files

    @property
    def register_backed(self) -> bool:
        """Whether values that stand behind registers are among these files, see ``kernel.register_files``."""
        return bool(getattr(self._files, "register_backed", False))

    @property
    def vendor_library(self) -> object:
        """The graphics vendor's library: its module's name, or a twin's; empty where it knows nothing of a machine."""
        return getattr(self._files, "vendor_library", "")

    def read(self, path: str) -> bytes:
        """Return the content. Raises FileFault."""
        return self._files.read(path)

    def write(self, path: str, data: bytes) -> None:
        """Write the content. Raises FileFault."""
        self._files.write(path, data)

    def names(self, path: str) -> list[str]:
        """Return the sorted names in a folder; empty if there is none."""
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


class OverlaidFiles(ForwardingFiles):
    """Port ``KernelFiles`` with other contents in place of some; nothing can be written through it.

    Args:
        files: what is read elsewhere.
        contents: by path.
    """

    def __init__(self, files: KernelFiles, contents: Mapping[str, bytes]) -> None:
        super().__init__(files)
        self._contents = contents

    def read(self, path: str) -> bytes:
        """Return the content. Raises FileFault."""
        found = self._contents.get(path)
        return self._files.read(path) if found is None else found

    def write(self, path: str, data: bytes) -> None:  # noqa: ARG002 - the port's form
        """Refuse. Raises FileFault."""
        raise FileFault(path, errno.EROFS)


ANY_WRITE = stat.S_IWUSR | stat.S_IWGRP | stat.S_IWOTH


class RealFiles:
    """Kernel files below a root folder: ``/`` for this computer, any folder for a copy.

    Attributes:
        vendor_library: Python module of the graphics vendor's library, which knows this computer alone; empty for a
            copy.
    """

    def __init__(self, root: Path) -> None:
        self._root = str(root).rstrip("/")
        self.vendor_library = "" if self._root else "pynvml"
        self._open: list[int] = []

    def _at(self, path: str) -> str:
        return self._root + path

    def read(self, path: str) -> bytes:
        """Return the content, at most ``TEXT_SIZE`` bytes. Raises FileFault."""
        try:
            # O_NONBLOCK: a copy may hold a pipe under a file's name, and would keep this process waiting for ever.
            fd = os.open(self._at(path), os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
            try:
                parts = []
                room = TEXT_SIZE
                while room > 0 and (part := os.read(fd, min(room, 65536))):
                    parts.append(part)
                    room -= len(part)
                return b"".join(parts)
            finally:
                os.close(fd)
        except OSError as fault:
            raise FileFault(path, fault.errno or 0) from fault

    def write(self, path: str, data: bytes) -> None:
        """Write in one system call, as kernel files want it. Raises FileFault."""
        try:
            # sysfs ignores O_TRUNC; a plain file of a copy needs it.
            fd = os.open(self._at(path), os.O_WRONLY | os.O_TRUNC | os.O_CLOEXEC)
            try:
                os.write(fd, data)
            finally:
                os.close(fd)
        except OSError as fault:
            raise FileFault(path, fault.errno or 0) from fault

    def names(self, path: str) -> list[str]:
        """Return the sorted names in a folder; empty if it cannot be listed."""
        try:
            return sorted(os.listdir(self._at(path)))  # noqa: PTH208 - names only; pathlib builds an object for each
        except OSError:
            return []

    def exists(self, path: str) -> bool:
        """Tell whether the file or folder is there."""
        return Path(self._at(path)).exists()

    def writable(self, path: str) -> bool:
        """Tell whether this process may write it: root passes every permission check, so the mode counts too."""
        try:
            mode = Path(self._at(path)).stat().st_mode
        except OSError:
            return False
        return bool(mode & ANY_WRITE) and os.access(self._at(path), os.W_OK)

    def closed_to_all(self, path: str) -> bool:
        """Tell whether nobody may write it, not even root: the kernel marks such files read-only."""
        try:
            mode = Path(self._at(path)).stat().st_mode
        except OSError:
            return False
        return not mode & ANY_WRITE

    def opener(self, path: str, size: int = VALUE_SIZE) -> Read:
        """Open once and hand back a ``pread`` from the start. Raises FileFault."""
        try:
            fd = os.open(self._at(path), os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError as fault:
            raise FileFault(path, fault.errno or 0) from fault
        self._open.append(fd)
        return partial(os.pread, fd, size, 0)

    def close(self) -> None:
        """Close what ``opener`` opened."""
        while self._open:
            os.close(self._open.pop())


class CopiedFiles(RealFiles):
    """A copy of kernel files below a folder that anybody may have made: links lead to nothing outside it.

    What is no plain file (a pipe, a device) is as good as not there.
    """

    def __init__(self, root: Path) -> None:
        super().__init__(root)
        self._checked: dict[str, str] = {}

    def _at(self, path: str) -> str:
        found = self._checked.get(path)
        if found is None:
            found = self._checked[path] = contained(self._root, path)
        return found


def contained(root: str, path: str) -> str:
    """Return where a path below a folder leads; a name that does not exist if that is outside, or no file or folder."""
    top = os.path.realpath(root)
    real = os.path.realpath(root + path)
    below = real == top or real.startswith(top.rstrip("/") + "/")
    try:
        mode = Path(real).stat().st_mode
    except (OSError, ValueError):
        mode = stat.S_IFREG
    return real if below and (stat.S_ISREG(mode) or stat.S_ISDIR(mode)) else f"{top}/.outside"


class NoRegisters:
    """The registers of a processor of which nothing is known: none can be read."""

    copied = False

    def read(self, cpu: int, register: int) -> int:
        """Raise FileFault."""
        raise FileFault(f"{paths.msr_device(cpu)} register {register:#x}", errno.EIO)

    def write(self, cpu: int, register: int, value: int) -> None:  # noqa: ARG002 - the port's form
        """Raise FileFault."""
        raise FileFault(f"{paths.msr_device(cpu)} register {register:#x}", errno.EIO)

    def close(self) -> None:
        """Nothing is open."""


COPY_STRIDE = 8
"""Bytes from one register to the next in a plain file: on the device itself they stand one apart, though each has eight
bytes, so a plain file laid out alike would let neighbours overwrite each other."""


class DeviceRegisters:
    """Registers through ``/dev/cpu/N/msr``, or through plain files below a folder.

    Args:
        root: the folder that stands for ``/``.
        stride: bytes from one register to the next: 1 on the device, ``COPY_STRIDE`` in a copy.

    Attributes:
        writes: how often a register was written.
    """

    def __init__(self, root: Path, stride: int = 1) -> None:
        self.writes = 0
        self._root = str(root).rstrip("/")
        self._stride = stride
        self.copied = stride != 1
        self._open: dict[int, int] = {}

    def _at(self, cpu: int) -> str:
        path = paths.msr_device(cpu)
        return self._root + path if self._stride == 1 else contained(self._root, path)

    def _fd(self, cpu: int) -> int:
        fd = self._open.get(cpu)
        if fd is None:
            fd = os.open(self._at(cpu), os.O_RDONLY | os.O_CLOEXEC)
            self._open[cpu] = fd
        return fd

    def read(self, cpu: int, register: int) -> int:
        """Return the 64 bits at the register's number. Raises FileFault."""
        name = f"{paths.msr_device(cpu)} register {register:#x}"
        try:
            data = os.pread(self._fd(cpu), 8, register * self._stride)
        except OSError as fault:
            raise FileFault(name, fault.errno or 0) from fault
        value = int.from_bytes(data, "little")
        if len(data) != 8 or value == UNREAD:
            raise FileFault(name, errno.EIO, "the register is not in this copy")
        return value

    def write(self, cpu: int, register: int, value: int) -> None:
        """Write the 64 bits at the register's number. Raises FileFault."""
        name = f"{paths.msr_device(cpu)} register {register:#x}"
        # Counted before the write: the kernel may tell of it before this process goes on.
        self.writes += 1
        try:
            # Opened for each write: a descriptor that stays open would be one more way to write registers for whoever
            # gets into this process.
            fd = os.open(self._at(cpu), os.O_WRONLY | os.O_CLOEXEC)
            try:
                os.pwrite(fd, value.to_bytes(8, "little"), register * self._stride)
            finally:
                os.close(fd)
        except OSError as fault:
            raise FileFault(name, fault.errno or 0) from fault

    def close(self) -> None:
        """Close the devices."""
        for fd in self._open.values():
            os.close(fd)
        self._open.clear()
