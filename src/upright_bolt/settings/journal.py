"""The journal: what is about to happen to a machine, on disk before it happens.

A line is an entry as JSON, with a checksum (``checksummed_log``). A crash can tear the last line only, which then was
never acknowledged and is left out. Any other line that does not hold what it should is damage: ``journal_replay`` says
what follows from it.

The file is bounded: whoever holds the machine compacts it once it has grown beyond ``COMPACT_BYTES``.
"""

import os
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass, field
from enum import StrEnum
from functools import reduce
from pathlib import Path

from upright_bolt.checksummed_log import PRIVATE, ChecksummedLog, Lines, NewerVersion
from upright_bolt.disk import JsonCodec, bounded, write_atomically
from upright_bolt.errors import BadInput, BoltError, CorruptData
from upright_bolt.model.catalogue import find_declaration
from upright_bolt.model.control import Value
from upright_bolt.model.trial import Trial

VERSION = 4
OLDEST = 3
"""Its lines are those of today without what was added since; earlier ones are told as unreadable."""
EARLIER = "journal.jsonl"
"""Where the first version of this program kept its record."""
COMPACT_BYTES = 256 << 10
"""A journal longer than this is compacted: reading so much takes a few milliseconds."""
MOST_BYTES = 16 << 20
"""No journal is longer, however many processors a machine has; one that is was not written by this program."""
KEPT_ENTRIES = 100
RESERVE_BYTES = 16 << 10
"""Room for the few lines that end a trial."""


class EntryKind(StrEnum):
    """What an entry tells."""

    STOCK = "stock"
    """Values and file texts from before this program changed them for the first time in a boot."""
    BEGIN = "begin"
    """A trial is opened, or the open one widened, before its first write."""
    APPLIED = "applied"
    REFUSED = "refused"
    KEPT = "kept"
    PUTTING_BACK = "putting back"
    PUT_BACK = "put back"
    RESTARTED = "ended by restart"
    LEFT = "could not put back"
    TO_STOCK = "to stock"
    """Controls that were kept are not any more: the machine's own values are in force again."""
    OWED = "owed"
    """What is pending for processors that are offline; each entry takes the place of the last."""


LASTING = (EntryKind.STOCK, EntryKind.KEPT, EntryKind.TO_STOCK, EntryKind.OWED)
"""What counts for the whole boot."""
CLOSING = frozenset({EntryKind.REFUSED, EntryKind.KEPT, EntryKind.PUT_BACK, EntryKind.RESTARTED})


@dataclass(frozen=True, slots=True)
class Stock:
    """Control values, and texts by kernel file, from before this program changed them in a boot.

    ``by_source`` has the texts of limits that firmware sets by power source, by that source. ``unsure``: an earlier
    record of this boot could not be read, so whatever is not here may have been changed before.
    """

    values: dict[str, Value] = field(default_factory=dict)
    texts: dict[str, str] = field(default_factory=dict)
    by_source: dict[str, dict[str, str]] = field(default_factory=dict)
    unsure: bool = False


def joined(later: Stock, earlier: Stock) -> Stock:
    """Return both; what the earlier one says counts."""
    sources = {
        source: {**later.by_source.get(source, {}), **earlier.by_source.get(source, {})}
        for source in (*later.by_source, *earlier.by_source)
    }
    unsure = later.unsure or earlier.unsure
    return Stock({**later.values, **earlier.values}, {**later.texts, **earlier.texts}, sources, unsure)


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry.

    Attributes:
        kind: what it tells.
        trial: id of the trial it is about; empty for ``stock``.
        at: date and time.
        data: the whole trial, for ``begin``.
        boot_id: the boot that ``stock`` and ``kept`` belong to.
        stock: for ``stock``.
        kept: what is kept in this boot from now on, for ``kept``.
        why: why a trial was refused or put back.
        files: files that could not be put back.
        names: controls, for ``to stock``.
        owed: texts still to be reverted, by kernel file, for ``owed``.
        missed: processors that were offline when something was set, for ``owed``.
        asleep_s: for how long the machine had slept in this boot, for ``kept``.
    """

    kind: EntryKind
    trial: str
    at: str
    data: Trial | None = None
    boot_id: str = ""
    stock: Stock | None = None
    kept: dict[str, Value] = field(default_factory=dict)
    why: str = ""
    files: tuple[str, ...] = ()
    names: tuple[str, ...] = ()
    owed: dict[str, str] = field(default_factory=dict)
    asleep_s: float = 0.0
    missed: tuple[int, ...] = ()


_ENTRY: JsonCodec[Entry] = JsonCodec(Entry)


Reading = Lines[Entry]


def check(entry: Entry) -> None:
    """Raise CorruptData for what no entry can tell."""
    bounded(entry)
    if any(find_declaration(name) is None for name in _names(entry)):
        raise CorruptData("control")
    if (entry.kind is EntryKind.BEGIN) != (entry.data is not None):
        raise CorruptData("kind")
    if (entry.kind is EntryKind.STOCK) != (entry.stock is not None):
        raise CorruptData("kind")


def _names(entry: Entry) -> Iterable[str]:
    yield from entry.kept
    yield from entry.names
    if entry.stock is not None:
        yield from entry.stock.values
    if entry.data is not None:
        yield from entry.data.settings
        yield from entry.data.before_values


class Journal:
    """The journal of one machine. Only whoever holds the machine may write it.

    Args:
        path: the file.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self.log = ChecksummedLog(path, VERSION, _ENTRY, MOST_BYTES, oldest=OLDEST, check=check)
        self._compact_at = COMPACT_BYTES

    def read(self) -> Reading:
        """Return what it holds; a file that cannot be read at all counts as one damaged line.

        Raises:
            CorruptData: it was written by a newer version, so nothing can be concluded from it.
        """
        try:
            return self.log.read()
        except (OSError, BadInput):
            return Reading(unreadable=1)
        except NewerVersion:
            raise CorruptData(
                f"{self.path} was written by a newer version of this program; use that one to end its trials."
            ) from None

    def unread(self, found: Reading) -> Path | None:
        """Return the file that an earlier version of this program has written in a form that is not read any more."""
        earlier = self.path.with_name(EARLIER)
        if earlier.is_file():
            return earlier
        return self.path if found.older else None

    def append(self, *entries: Entry, closing: bool = False) -> None:
        """Write entries together and wait until they are on the disk.

        Args:
            entries: what is written.
            closing: they end something: where the disk is full, the reserve is given up for them.

        Raises:
            BoltError: it cannot be written, or could not be read again; the journal is as before.
        """
        if not self.log.can_hold(*entries):
            raise BoltError(f"{self.path} cannot hold this: a text in it is too long, or no text.")
        try:
            self._append(entries)
        except BoltError:
            if not closing or not self._give_up_reserve():
                raise
            self._append(entries)

    def keep_reserve(self) -> None:
        """Keep room on the disk for the end of what is about to begin. Raises BoltError."""
        if not self._reserve.exists():
            write_atomically(self._reserve, os.urandom(RESERVE_BYTES), mode=PRIVATE)

    @property
    def _reserve(self) -> Path:
        return self.path.with_name("reserve")

    def _give_up_reserve(self) -> bool:
        try:
            self._reserve.unlink()
        except OSError:
            return False
        return True

    def _append(self, entries: tuple[Entry, ...]) -> None:
        size = self.log.append(*entries)
        if size > self._compact_at:
            with suppress(BoltError):  # a full disk: it is tried again with the next entry
                self.compact()

    def compact(self) -> None:
        """Leave out a torn last line and old entries. Raises BoltError if it is not written, CorruptData if newer."""
        found = self.read()
        if found.unreadable:
            return
        if found.whole_bytes < found.size or found.size > self._compact_at:
            kept = _needed(found.entries) if found.size > self._compact_at else found.entries
            self.replace(kept)

    def replace(self, entries: Iterable[Entry]) -> None:
        """Hold these entries and no others, at once. Raises BoltError."""
        self._compact_at = max(COMPACT_BYTES, 2 * self.log.rewrite(entries))


def _needed(entries: tuple[Entry, ...]) -> list[Entry]:
    """Return the entries that still tell something, and the last few that tell what was."""
    begun = [i for i, entry in enumerate(entries) if entry.kind is EntryKind.BEGIN]
    last = begun[-1] if begun else len(entries)
    closed = any(entry.kind in CLOSING for entry in entries[last:])
    tail = entries[last:] if not closed else entries[last + 1 :]
    before = [entry for entry in entries[:last] if entry.kind is not EntryKind.BEGIN]
    lasting = [entry for entry in before if entry.kind in LASTING]
    recent = [entry for entry in before[-KEPT_ENTRIES:] if entry.kind not in LASTING]
    return [*recent, *_merged(lasting), *tail]


def _merged(lasting: list[Entry]) -> list[Entry]:
    """Return one entry of each kind in place of several of the latest boot."""
    merged: list[Entry] = []
    latest = lasting[-1].boot_id if lasting else ""
    of_boot = [entry for entry in lasting if entry.boot_id == latest]
    stocks = [entry.stock for entry in of_boot if entry.stock is not None]
    if stocks:
        together = reduce(lambda earlier, later: joined(later, earlier), stocks)
        merged.append(Entry(EntryKind.STOCK, "", of_boot[-1].at, boot_id=latest, stock=together))
    kept: dict[str, Value] = {}
    for entry in of_boot:
        kept = {name: value for name, value in (kept | entry.kept).items() if name not in entry.names}
    if kept:
        asleep_s = max(entry.asleep_s for entry in of_boot)
        merged.append(Entry(EntryKind.KEPT, "", of_boot[-1].at, boot_id=latest, kept=kept, asleep_s=asleep_s))
    owed = next((entry for entry in reversed(of_boot) if entry.kind is EntryKind.OWED), None)
    if owed is not None and (owed.owed or owed.missed):
        merged.append(owed)
    return merged
