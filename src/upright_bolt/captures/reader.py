"""Reads an archive that anybody may have made: strictly, with bounds on everything before it takes any memory.

The form is the tar of POSIX.1-2001 (pax), packed with gzip (RFC 1952), with plain files in it and nothing else. Every
block is looked at: what is damaged, cut off or followed by something is refused as a whole.
"""

import gzip
import io
import tarfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from upright_bolt.disk import read_bounded
from upright_bolt.errors import BadInput, BoltError

BLOCK = tarfile.BLOCKSIZE
MOST_PACKED_BYTES = 16 << 20
MOST_BYTES = 32 << 20
MOST_FILE_BYTES = 4 << 20
MOST_FILES = 20_000
"""A machine with 512 processors has about 12,000 files that are looked at."""
DEEPEST = 24
LONGEST_NAME = 400
MOST_PAX_BYTES = 2048
TOP_FOLDERS = ("sys", "proc", "dev")
_ZEROS = bytes(BLOCK)


class NoCapture(BoltError):
    """An archive that is not a capture."""


@dataclass(frozen=True, slots=True)
class Member:
    """One file of an archive: where it belongs below the root, its content, and whether it may be written."""

    parts: tuple[str, ...]
    content: bytes
    writable: bool


def members(source: Path) -> Iterator[Member]:
    """Yield the files of a capture, one after another; only after the last is it certain that the archive is whole.

    Raises:
        NoCapture: it is none; the sentence says why.
    """
    try:
        with gzip.open(io.BytesIO(read_bounded(source, MOST_PACKED_BYTES))) as packed:
            yield from _members(_Bounded(packed))
    except BadInput as fault:
        raise NoCapture(f"{source} is not a capture: {fault}") from fault
    except (OSError, EOFError, zlib.error) as fault:
        raise NoCapture(f"{source} cannot be opened as a capture: {fault}.") from fault
    except _Fault as fault:
        raise NoCapture(f"{source} is not a capture: {fault}.") from fault


class _Fault(Exception):
    pass


class _Bounded:
    """Reads what is unpacked, of which there may be so much and no more."""

    def __init__(self, packed: gzip.GzipFile) -> None:
        self._packed = packed
        self._room = MOST_BYTES + MOST_FILES * 2 * BLOCK

    def exactly(self, size: int) -> bytes:
        """Return so many bytes. Raises _Fault if there are fewer, or it has been too much."""
        self._room -= size
        if self._room < 0:
            raise _Fault(f"it unpacks to more than {MOST_BYTES >> 20} MB")
        data = self._packed.read(size)
        if len(data) < size:
            raise _Fault("it is cut off")
        return data

    def expect_zeros_to_the_end(self) -> None:
        """Read to the end, which also lets gzip check its sum. Raises _Fault if there is anything but zeros."""
        while data := self._packed.read(BLOCK):
            self._room -= len(data)
            if data.strip(b"\0") or self._room < 0:
                raise _Fault("something follows its end")


def _members(reader: _Bounded) -> Iterator[Member]:
    seen: set[tuple[str, ...]] = set()
    room = MOST_BYTES
    pax_name = ""
    while (block := reader.exactly(BLOCK)) != _ZEROS:
        try:
            entry = tarfile.TarInfo.frombuf(block, "utf-8", "strict")
        except (tarfile.HeaderError, ValueError) as fault:
            raise _Fault(f"a header in it is damaged ({fault})") from fault
        if entry.type == tarfile.XHDTYPE:
            pax_name = _pax_path(reader, entry.size)
            continue
        name, pax_name = pax_name or entry.name, ""
        parts = _parts(name)
        if entry.type not in (tarfile.REGTYPE, tarfile.AREGTYPE):
            raise _Fault(f"it holds “{name}”, which is no plain file")
        room -= entry.size
        if not 0 <= entry.size <= MOST_FILE_BYTES or room < 0:
            raise _Fault("it is too large")
        if parts in seen or len(seen) >= MOST_FILES:
            raise _Fault(f"it holds “{name}” twice" if parts in seen else f"it holds more than {MOST_FILES} files")
        seen.add(parts)
        content = reader.exactly(entry.size)
        reader.exactly(-entry.size % BLOCK)
        yield Member(parts, content, bool(entry.mode & 0o200))
    reader.expect_zeros_to_the_end()


def _pax_path(reader: _Bounded, size: int) -> str:
    """Return the name that a pax header gives, its only record. Raises _Fault."""
    if not 0 < size <= MOST_PAX_BYTES:
        raise _Fault("a header in it is too large")
    data = reader.exactly(size)
    reader.exactly(-size % BLOCK)
    length, _, record = data.partition(b" ")
    key, _, value = record.rstrip(b"\n").partition(b"=")
    if not length.isdigit() or int(length) != size or key != b"path" or not record.endswith(b"\n"):
        raise _Fault("a header in it says more than a name")
    try:
        return value.decode("utf-8", "strict")
    except UnicodeDecodeError as fault:
        raise _Fault("a name in it is no text") from fault


def _parts(name: str) -> tuple[str, ...]:
    """Return a name's parts. Raises _Fault unless it stays below the folders of a capture."""
    shown = name[:80].encode("unicode_escape").decode()
    if len(name) > LONGEST_NAME or not name.isascii() or not name.isprintable():
        raise _Fault(f"it holds “{shown}”, which is no name of a kernel file")
    parts = PurePosixPath(name).parts
    if ".." in parts or not parts or parts[0] not in TOP_FOLDERS or not 1 < len(parts) <= DEEPEST:
        raise _Fault(f"it holds “{shown}”")
    return parts
