"""Who writes a kernel file: fanotify, which tells the process of every writing of a marked file.

Only writing is asked for: anybody may open and read these files as often as they like, and that must cost nothing
here.

It needs CAP_SYS_ADMIN when it is set up, and no longer afterwards. Python has no wrapper of these two calls, so they
are made through the C library.

The manual's pages: fanotify(7), fanotify_init(2), fanotify_mark(2).
"""

import ctypes
import os
import struct
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path

from upright_bolt.kernel import paths
from upright_bolt.model.change import ENDED, better_named
from upright_bolt.sanitize import one_line

FAN_CLOEXEC, FAN_NONBLOCK = 0x01, 0x02
FAN_MARK_ADD, FAN_MARK_REMOVE = 0x01, 0x02
FAN_MODIFY = 0x02
AT_FDCWD = -100
EVENT = struct.Struct("=IBBHQii")
"""length, version, reserved, length of the metadata, mask, file descriptor, process."""
READ_BYTES = 16384
MOST_READS = 4
"""In one turn: some 2,700 events. What is left makes the descriptor readable again."""
LONGEST_WORDS = 60

FileIdentity = tuple[int, int]
"""Device and number of a file: what differs once it was made anew under its old name."""


class Writers:
    """Tells who has written to marked files. Where the kernel does not let it, it tells nothing."""

    def __init__(self) -> None:
        self._library = ctypes.CDLL(None, use_errno=True)
        # Flags of the descriptors that come with the events, not of the group's own.
        flags = os.O_RDONLY | os.O_CLOEXEC
        self.handle: int = self._library.fanotify_init(FAN_CLOEXEC | FAN_NONBLOCK, flags)
        self._marked: dict[Path, FileIdentity] = {}

    @property
    def known(self) -> bool:
        """Whether the kernel lets it."""
        return self.handle >= 0

    def mark(self, files: Mapping[Path, FileIdentity]) -> None:
        """Tell of these files from now on, and of no others; a file that was marked already is not let go in between.

        Args:
            files: each with its identity, since a file made anew under an old name has to be marked anew.
        """
        if not self.known:
            return
        for path in [path for path, identity in self._marked.items() if files.get(path) != identity]:
            del self._marked[path]
            self._change_mark(FAN_MARK_REMOVE, path)  # fails where the file has gone, and its mark with it
        for path, identity in files.items():
            if path not in self._marked and self._change_mark(FAN_MARK_ADD, path):
                self._marked[path] = identity

    def _change_mark(self, how: int, path: Path) -> bool:
        mask = ctypes.c_uint64(FAN_MODIFY)
        return bool(self._library.fanotify_mark(self.handle, how, mask, AT_FDCWD, os.fsencode(path)) == 0)

    def take(self) -> dict[str, str]:
        """Return who has written since the last call, in words, by file; this process is left out."""
        found: dict[str, str] = {}
        names: dict[int, str] = {}
        for _ in range(MOST_READS if self.known else 0):
            try:
                data = os.read(self.handle, READ_BYTES)
            # The kernel opens the file for every event it hands over. Where that fails the whole read fails with its
            # error, and the event is lost; the next turn goes on.
            except (BlockingIOError, PermissionError, FileNotFoundError):
                break
            at = 0
            while at + EVENT.size <= len(data):
                length, _, _, _, mask, file, process = EVENT.unpack_from(data, at)
                # Later kernels may add records after the metadata: the event says how long it is.
                at += max(length, EVENT.size)
                # Every event brings an open descriptor, which has to be closed whatever else it is.
                path = _path_of(file)
                if mask & FAN_MODIFY and path and process != os.getpid():
                    if process not in names:
                        names[process] = _words_of(process)
                    name = names[process]
                    who = f"{name} (process {process})" if name else f"process {process}{ENDED}"
                    found[path] = better_named(who, found.get(path, ""))
        return found

    def close(self) -> None:
        """Mark nothing any more. What was set up stays: it could not be set up again without the capability."""
        self.mark({})

    def end(self) -> None:
        """Give it up for good."""
        if self.known:
            os.close(self.handle)
            self.handle = -1


def _path_of(file: int) -> str:
    """Return which file an event is about, and close its descriptor; empty if that cannot be told."""
    if file < 0:
        return ""
    try:
        return str(Path(paths.own_open_file(file)).readlink())
    except OSError:
        return ""
    finally:
        os.close(file)


def _words_of(process: int) -> str:
    """Return what a process calls itself, with its command; empty if it has ended."""
    with suppress(OSError):
        name = Path(paths.process_file(process, "comm")).read_text(errors="replace").strip()
        words = Path(paths.process_file(process, "cmdline")).read_bytes()[:1000].replace(b"\0", b" ")
        command = one_line(words.decode(errors="replace").strip())[:LONGEST_WORDS]
        return f"{one_line(name)}: {command}" if command and command != name else one_line(name)
    return ""
