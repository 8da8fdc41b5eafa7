"""Lines with a seal: a file that is only appended to, each line of which is on the disk before it counts.

A line is version, length in bytes, checksum and content, with a space between them. It is flushed to the disk (fsync)
before it counts as written. A crash can tear the last line only, which then was never acknowledged.
"""

import os
import sys
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import dataclass, replace
from hashlib import blake2b
from pathlib import Path
from typing import Generic, TypeVar

from upright_bolt.disk import JsonCodec, bounded, read_bounded, sync_folder, write_atomically
from upright_bolt.errors import BoltError, CorruptData

T = TypeVar("T")
PRIVATE = 0o600
SUM_BYTES = 8
ASIDE = 5
"""So many damaged files of a name are kept beside the good one."""
MOST_ASIDE_BYTES = 16 << 20


class NewerVersion(CorruptData):
    """A line that a later version of this program has written."""


class OlderVersion(CorruptData):
    """A line that an earlier version of this program has written, in a form that is not read any more."""


@dataclass(frozen=True)
class Lines(Generic[T]):
    """What a file of sealed lines holds.

    Attributes:
        entries: what every sound line tells, oldest first.
        unreadable: how many lines are damaged, or of a form that is not read any more.
        older: some are of such a form.
        whole_bytes: length of the file without a torn last line, or a damaged last line end.
        size: length of the file.
    """

    entries: tuple[T, ...] = ()
    unreadable: int = 0
    older: bool = False
    whole_bytes: int = 0
    size: int = 0


def sealed(version: int, content: bytes) -> bytes:
    """Return a line with its end."""
    return b"%d %d %s %s\n" % (version, len(content), _sum(b"%d" % version, content), content)


def _sum(version: bytes, content: bytes) -> bytes:
    return blake2b(version + b" " + content, digest_size=SUM_BYTES).hexdigest().encode()


def opened(version: int, line: bytes, oldest: int | None = None) -> bytes:
    """Return the content of a line without its end.

    Args:
        version: the version of the form in which lines are written today.
        line: the line.
        oldest: the oldest version that is still read; only the present one if not given.

    Raises:
        NewerVersion: a later version of this program has written it, undamaged.
        OlderVersion: an earlier one has, in a form that is not read any more.
        CorruptData: it does not hold what it should.
    """
    of_line, length, check, content = (*line.split(b" ", 3), b"", b"", b"")[:4]
    if not length.isdigit() or length != b"%d" % len(content) or check != _sum(of_line, content):
        raise CorruptData("checksum")
    if not of_line.isdigit() or int(of_line) > version:
        raise NewerVersion("version")
    if int(of_line) < (version if oldest is None else oldest):
        raise OlderVersion("version")
    return content


def lines_of(content: bytes, entry_of: Callable[[bytes], T]) -> Lines[T]:
    """Return what the bytes of a file tell; ``entry_of`` reads a line. Raises NewerVersion."""
    *lines, last = content.split(b"\n")
    entries: list[T] = []
    unreadable, older, torn = 0, False, len(last)
    if last:
        with suppress(CorruptData):  # its line end alone may be damaged: the entry was acknowledged
            entry_of(last[:-1])
            lines.append(last[:-1])
            torn = 1
    for line in lines:
        try:
            entries.append(entry_of(line))
        except NewerVersion:
            raise
        except CorruptData as fault:
            unreadable += 1
            older |= isinstance(fault, OlderVersion)
    return Lines(tuple(entries), unreadable, older, len(content) - torn, len(content))


def read_log(path: Path, entry_of: Callable[[bytes], T], most: int) -> Lines[T]:
    """Return what a file of sealed lines tells; one that has lost its end counts as having one line damaged.

    Args:
        path: the file; without one there are no lines.
        entry_of: reads a line.
        most: bytes it may have.

    Raises:
        BadInput: it is no regular file, or longer.
        NewerVersion: a later version of this program has written it.
        OSError: it cannot be read.
    """
    marked = _marked(path)
    try:
        content = read_bounded(path, most)
    except FileNotFoundError:
        content = b""
    found = lines_of(content, entry_of)
    # Another process may append or rewrite meanwhile: only what was noted both before and after must be there.
    lost = len(content) < marked and len(content) < _marked(path)
    return replace(found, unreadable=found.unreadable + 1) if lost else found


class ChecksummedLog(Generic[T]):
    """A file of sealed lines, each of which holds one entry.

    Args:
        path: the file.
        version: the version of the form in which lines are written today.
        form: how an entry becomes text, and text an entry.
        most: bytes it may have.
        oldest: the oldest version that is still read; only the present one if not given.
        check: raises CorruptData for what no entry can hold, beyond its form.
    """

    def __init__(
        self, path: Path, version: int, form: JsonCodec[T], most: int, *, oldest: int | None = None,
        check: Callable[[T], None] = bounded,
    ) -> None:  # fmt: skip
        self.path = path
        self._version, self._oldest = version, oldest
        self._form = form
        self._most = most
        self._check = check

    def line(self, entry: T) -> bytes:
        """Return an entry as a line."""
        return sealed(self._version, self._form.text(entry).encode())

    def entry(self, line: bytes) -> T:
        """Return the entry of a line. Raises NewerVersion, OlderVersion or CorruptData, as ``opened``."""
        entry = self._form.from_text(opened(self._version, line, self._oldest))
        self._check(entry)
        return entry

    def read(self) -> Lines[T]:
        """Return what it holds. Raises BadInput, NewerVersion or OSError, as ``read_log``."""
        return read_log(self.path, self.entry, self._most)

    def can_hold(self, *entries: T) -> bool:
        """Tell whether entries could be read again."""
        return lines_of(b"".join(map(self.line, entries)), self.entry).entries == entries

    def append(self, *entries: T) -> int:
        """Write entries together, wait until they are on the disk, and return the file's length. Raises BoltError."""
        try:
            return append(self.path, b"".join(map(self.line, entries)))
        except OSError as fault:
            raise BoltError(f"{self.path} cannot be written: {fault.strerror}.") from fault

    def rewrite(self, entries: Iterable[T]) -> int:
        """Hold these entries and no others, at once, and return the file's length. Raises BoltError."""
        content = b"".join(map(self.line, entries))
        rewrite(self.path, content)
        return len(content)


def append(path: Path, lines: bytes) -> int:
    """Append lines, or leave the file as it was; return its length. Raises OSError."""
    new = not path.exists()
    handle = os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC, PRIVATE)
    try:
        size = os.fstat(handle).st_size
        _write_whole(handle, lines, size)
    finally:
        os.close(handle)
    if new:
        sync_folder(path.parent)
    _mark(path, size + len(lines))
    return size + len(lines)


def rewrite(path: Path, lines: bytes) -> None:
    """Put other lines in the place of all, at once. Raises BoltError."""
    _mark(path, min(len(lines), _marked(path)), durable=True)  # first: a crash in between must not look like a loss
    write_atomically(path, lines, mode=PRIVATE)
    _mark(path, len(lines))


def _mark(path: Path, size: int, *, durable: bool = False) -> None:
    """Note how long a file is by now, so that the loss of its end is seen.

    A full disk or a power cut leaves the note before, which tells of less.
    """
    with suppress(BoltError):
        write_atomically(_mark_of(path), sealed(0, b"%d" % size), durable=durable, mode=PRIVATE)


def _marked(path: Path) -> int:
    try:
        return int(opened(0, _mark_of(path).read_bytes()[:100].removesuffix(b"\n")))
    except FileNotFoundError:
        return 0
    except (OSError, CorruptData):
        return sys.maxsize


def _mark_of(path: Path) -> Path:
    return path.with_name(f"{path.name}-length")


def _write_whole(handle: int, lines: bytes, size: int) -> None:
    try:
        rest = lines
        while rest:
            rest = rest[os.write(handle, rest) :]
        os.fsync(handle)
    except OSError:
        with suppress(OSError):
            os.ftruncate(handle, size)
        raise


def copy_aside(path: Path) -> Path | None:
    """Copy a damaged file beside itself under the next free name, and return the copy; None if that cannot be."""
    names = [path.with_name(f"{path.name}.damaged-{number}") for number in range(1, ASIDE + 1)]
    target = next((name for name in names if not name.exists()), names[-1])
    with suppress(OSError, BoltError), path.open("rb") as file:
        write_atomically(target, file.read(MOST_ASIDE_BYTES), mode=PRIVATE)
        return target
    return None
