"""The journal: what is about to happen to a machine, on disk before it happens.

Append-only, one JSON object a line, flushed to the disk (fsync) before an entry counts as written. The first line says
what the file is and in which version. A crash can tear the last line only; reading skips a torn line. ``begin`` opens a
trial or widens the open one; ``kept``, ``put back``, ``refused`` and ``ended by restart`` close it.

The file is compacted by whoever holds the machine: of closed trials the last few hundred entries stay.
"""

import json
import os
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from upright_bolt.disk import Typed, sync_folder, write_atomically
from upright_bolt.errors import Damaged
from upright_bolt.model.trial import Trial

FORMAT, VERSION = "upright-bolt journal", 2
COMPACT_BYTES = 256 << 10
"""A journal longer than this is compacted when its machine is opened: reading so much takes about a millisecond."""
KEPT_ENTRIES = 200


class EntryKind(StrEnum):
    """What an entry tells."""

    BEGIN = "begin"
    APPLIED = "applied"
    REFUSED = "refused"
    KEPT = "kept"
    PUT_BACK = "put back"
    RESTARTED = "ended by restart"
    LEFT = "could not put back"


CLOSING = frozenset({EntryKind.REFUSED, EntryKind.KEPT, EntryKind.PUT_BACK, EntryKind.RESTARTED})


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry.

    Attributes:
        kind: what it tells.
        trial: id of the trial it is about.
        at: date and time.
        data: the whole trial, for ``begin``.
        why: why a trial was refused or put back.
        files: files that could not be put back.
    """

    kind: EntryKind
    trial: str
    at: str
    data: Trial | None = None
    why: str = ""
    files: tuple[str, ...] = ()


_ENTRY: Typed[Entry] = Typed(Entry)


class Journal:
    """The journal of one machine."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def append(self, entry: Entry) -> None:
        """Write one entry and wait until it is on the disk. Raises OSError."""
        new = not self._path.exists()
        self._path.parent.mkdir(parents=True, exist_ok=True)
        with self._path.open("ab") as file:
            mended = b"" if file.tell() == 0 or self._ends_whole() else b"\n"
            head = _header() if file.tell() == 0 else mended
            file.write(head + _ENTRY.text(entry).encode() + b"\n")
            file.flush()
            os.fsync(file.fileno())
        if new:
            sync_folder(self._path.parent)

    def _ends_whole(self) -> bool:
        with self._path.open("rb") as file:
            file.seek(-1, os.SEEK_END)
            return file.read(1) == b"\n"

    def begin(self, trial: Trial, at: str) -> None:
        """Open a trial, or widen the open one, before its first write. Raises OSError."""
        self.append(Entry(EntryKind.BEGIN, trial.id, at, data=trial))

    def entries(self) -> list[Entry]:
        """Return every readable entry, oldest first.

        Raises:
            Damaged: the journal was written by a newer version, so nothing can be concluded from it.
        """
        try:
            lines = self._path.read_bytes().splitlines()
        except FileNotFoundError:
            return []
        _check_version(lines[0] if lines else b"", self._path)
        found = []
        for line in lines:
            try:
                found.append(_ENTRY.from_text(line))
            except Damaged:
                continue
        return found

    def open_trial(self) -> tuple[Trial | None, bool]:
        """Return the trial that was begun and not ended, and whether it was in force, widening included.

        Raises:
            Damaged: the journal was written by a newer version.
        """
        return _open_trial(self.entries())

    def compact(self) -> None:
        """Leave out old entries if the file has grown; only whoever holds the machine may do so. Raises BoltError."""
        try:
            if self._path.stat().st_size <= COMPACT_BYTES:
                return
        except FileNotFoundError:
            return
        entries = self.entries()
        trial, _ = _open_trial(entries)
        first_open = next((i for i, entry in enumerate(entries) if trial and entry.trial == trial.id), len(entries))
        kept = entries[min(first_open, max(0, len(entries) - KEPT_ENTRIES)) :]
        lines = (_ENTRY.text(entry).encode() + b"\n" for entry in kept)
        write_atomically(self._path, _header() + b"".join(lines))


def _open_trial(entries: list[Entry]) -> tuple[Trial | None, bool]:
    current: Trial | None = None
    applied = False
    for entry in entries:
        if entry.kind is EntryKind.BEGIN:
            current, applied = entry.data, False
        elif entry.kind is EntryKind.APPLIED:
            applied = True
        elif current is not None and entry.trial == current.id and entry.kind in CLOSING:
            current = None
    return current, applied


def _header() -> bytes:
    return json.dumps({"format": FORMAT, "version": VERSION}).encode() + b"\n"


def _check_version(first: bytes, path: Path) -> None:
    """Raise Damaged if the first line tells of a newer version.

    A journal from before versions has no such line, and one that is damaged there tells nothing, as a torn entry does.
    """
    try:
        head = json.loads(first or b"{}")
    except ValueError:
        return
    version = head.get("version") if isinstance(head, dict) and head.get("format") == FORMAT else None
    if isinstance(version, int) and version > VERSION:
        raise Damaged(f"{path} was written by a newer version of this program; use that one to end its trials.")
