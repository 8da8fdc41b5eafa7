"""Who writes a kernel file: fanotify, which tells the process of every opening and writing of a marked file.

It needs CAP_SYS_ADMIN when it is set up, and no longer afterwards. Python has no wrapper of these two calls, so they
are made through the C library.

The manual's pages: fanotify(7), fanotify_init(2), fanotify_mark(2).
"""

import ctypes
import os
import struct
from collections.abc import Collection
from contextlib import suppress
from pathlib import Path

from upright_bolt.kernel import paths
from upright_bolt.plain_text import one_line

FAN_CLOEXEC, FAN_NONBLOCK = 0x01, 0x02
FAN_MARK_ADD, FAN_MARK_FLUSH = 0x01, 0x80
FAN_MODIFY, FAN_OPEN = 0x02, 0x20
AT_FDCWD = -100
EVENT = struct.Struct("=IBBHQii")
"""length, version, reserved, length of the metadata, mask, file descriptor, process."""
READ_BYTES = 16384
MOST_NAMES = 64
LONGEST_WORDS = 60


class Writers:
    """Tells who has written to marked files. Where the kernel does not let it, it tells nothing."""

    def __init__(self) -> None:
        self._library = ctypes.CDLL(None, use_errno=True)
        self._names: dict[int, str] = {}
        """What processes that have a marked file open call themselves, by number, as of its opening."""
        flags = os.O_RDONLY | os.O_CLOEXEC
        self.handle: int = self._library.fanotify_init(FAN_CLOEXEC | FAN_NONBLOCK, flags)

    @property
    def known(self) -> bool:
        """Whether the kernel lets it."""
        return self.handle >= 0

    def mark(self, files: Collection[Path]) -> None:
        """Tell of these files from now on, and of no others."""
        if not self.known:
            return
        self._library.fanotify_mark(self.handle, FAN_MARK_FLUSH, ctypes.c_uint64(0), AT_FDCWD, None)
        for path in files:
            mask = ctypes.c_uint64(FAN_OPEN | FAN_MODIFY)
            self._library.fanotify_mark(self.handle, FAN_MARK_ADD, mask, AT_FDCWD, os.fsencode(path))

    def take(self) -> dict[str, str]:
        """Return who has written since the last call, in words, by file; this process is left out."""
        found: dict[str, str] = {}
        while self.known:
            try:
                data = os.read(self.handle, READ_BYTES)
            except (BlockingIOError, PermissionError, FileNotFoundError):
                break
            at = 0
            while at + EVENT.size <= len(data):
                length, _, _, _, mask, file, process = EVENT.unpack_from(data, at)
                at += max(length, EVENT.size)
                self._take_one(found, mask, file, process)
        return found

    def _take_one(self, found: dict[str, str], mask: int, file: int, process: int) -> None:
        try:
            path = str(Path(paths.own_open_file(file)).readlink()) if file >= 0 else ""
        except OSError:
            path = ""
        finally:
            if file >= 0:
                os.close(file)
        if process == os.getpid():
            return
        if mask & FAN_OPEN and len(self._names) < MOST_NAMES:
            self._names[process] = _words_of(process) or self._names.get(process, "")
        if mask & FAN_MODIFY and path:
            name = self._names.pop(process, "") or _words_of(process)
            found[path] = f"{name} (process {process})" if name else f"process {process}, which has ended"

    def close(self) -> None:
        """Mark nothing any more. What was set up stays: it could not be set up again without the capability."""
        self.mark(())

    def end(self) -> None:
        """Give it up for good."""
        if self.known:
            os.close(self.handle)
            self.handle = -1


def _words_of(process: int) -> str:
    """Return what a process calls itself, with its command; empty if it has ended."""
    with suppress(OSError):
        name = Path(paths.process_file(process, "comm")).read_text(errors="replace").strip()
        words = Path(paths.process_file(process, "cmdline")).read_bytes()[:1000].replace(b"\0", b" ")
        command = one_line(words.decode(errors="replace").strip())[:LONGEST_WORDS]
        return f"{one_line(name)}: {command}" if command and command != name else one_line(name)
    return ""
