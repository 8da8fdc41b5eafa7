"""What the journal and the second copy of the stock values tell of a machine's present boot.

Registers and kernel files are back at firmware values after a restart, so what was kept or remembered under another
boot's name does not count.
"""

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from upright_bolt.checksummed_log import PRIVATE, copy_aside
from upright_bolt.disk import write_atomically
from upright_bolt.errors import CorruptData
from upright_bolt.model.control import Value
from upright_bolt.model.trial import Trial
from upright_bolt.settings.journal import (
    CLOSING,
    MOST_BYTES,
    Entry,
    EntryKind,
    Journal,
    Stock,
    joined,
)


@dataclass(slots=True)
class Past:
    """What entries tell.

    Attributes:
        stock: values and texts from before this program changed them for the first time in this boot.
        kept: what was kept in this boot.
        asleep_s: for how long the machine had slept in this boot when something was kept last.
        trial: the trial that was begun and not ended.
        applied: that trial was in force, widening included.
        returning: putting it back had begun.
        owed: texts still to be put back to files of processors that were offline.
        missed: processors that were offline when something was set.
    """

    stock: Stock = field(default_factory=Stock)
    kept: dict[str, Value] = field(default_factory=dict)
    asleep_s: float = 0.0
    trial: Trial | None = None
    applied: bool = False
    returning: bool = False
    owed: dict[str, str] = field(default_factory=dict)
    missed: frozenset[int] = frozenset()


def replay_journal(entries: Iterable[Entry], boot_id: str) -> Past:
    """Return what entries, oldest first, tell of the boot ``boot_id``."""
    past = Past()
    for entry in entries:
        if entry.kind is EntryKind.BEGIN:
            past.trial, past.applied, past.returning = entry.data, False, False
        elif entry.boot_id == boot_id:
            _take_lasting(past, entry)
        if past.trial is None or entry.trial != past.trial.id:
            continue
        if entry.kind is EntryKind.APPLIED:
            past.applied = True
        elif entry.kind is EntryKind.PUTTING_BACK:
            past.returning = True
        elif entry.kind in CLOSING:
            past.trial = None
    return past


def _take_lasting(past: Past, entry: Entry) -> None:
    """Take over what counts for the whole boot."""
    if entry.kind is EntryKind.STOCK and entry.stock is not None:
        past.stock = joined(entry.stock, past.stock)
    elif entry.kind is EntryKind.KEPT:
        past.kept |= entry.kept
        past.asleep_s = entry.asleep_s
    elif entry.kind is EntryKind.TO_STOCK:
        past.kept = {name: value for name, value in past.kept.items() if name not in entry.names}
    elif entry.kind is EntryKind.OWED:
        past.owed, past.missed = dict(entry.owed), frozenset(entry.missed)


@dataclass(frozen=True, slots=True)
class OwnTexts:
    """Texts that the firmware itself has set for a power source, by kernel file."""

    source: str
    texts: Mapping[str, str]


class BootMemory:
    """Stock values and what was kept in the present boot, as the journal tells; stock is on disk a second time.

    Args:
        path: the second copy: one line, as in the journal.
        journal: the machine's journal.
        boot_id: the present boot.

    Attributes:
        path: the second copy.
        doubtful: it is damaged.
        missing: there is none, not even of an earlier boot.
        kept: what was kept in this boot.
        asleep_s: for how long the machine had slept in this boot when something was kept last.
    """

    def __init__(self, path: Path, journal: Journal, boot_id: str) -> None:
        self.path = path
        self._journal = journal
        self.boot_id = boot_id
        self.doubtful = self.missing = False
        self.kept: Mapping[str, Value] = {}
        self.asleep_s = 0.0
        self._second = self._read_second()
        self._stock = self._second

    @property
    def stock(self) -> Mapping[str, Value]:
        """Values from before this program changed them for the first time in this boot."""
        return self._stock.values

    @property
    def unsure(self) -> bool:
        """Whether stock values that are not in ``stock`` are unknown until the next restart."""
        return self._stock.unsure

    @property
    def stock_texts(self) -> Mapping[str, str]:
        """The same as texts by kernel file."""
        return self._stock.texts

    def _read_second(self) -> Stock:
        try:
            with self.path.open("rb") as file:
                entry = self._journal.log.entry(file.read(MOST_BYTES).removesuffix(b"\n"))
        except FileNotFoundError:
            self.missing = True
            return Stock()
        except (OSError, CorruptData):
            self.doubtful = True
            return Stock()
        return entry.stock if entry.stock is not None and entry.boot_id == self.boot_id else Stock()

    def take(self, past: Past) -> bool:
        """Take over what the journal tells; return whether it tells of all that the second copy does."""
        self.kept, self.asleep_s = dict(past.kept), past.asleep_s
        self._stock = joined(past.stock, self._second)
        return self._second.values.keys() <= past.stock.values.keys()

    @property
    def behind(self) -> bool:
        """Whether the second copy lacks something: a program died between writing the two."""
        return self._second.values.keys() < self._stock.values.keys()

    def entry(self, at: str) -> Entry:
        """Return the entry that tells of stock."""
        return Entry(EntryKind.STOCK, "", at, boot_id=self.boot_id, stock=self._stock)

    def texts_on(self, source: str) -> dict[str, str]:
        """Return the machine's own texts by kernel file while it draws its power from ``source``."""
        return {**self._stock.texts, **self._stock.by_source.get(source, {})}

    def knows_on(self, source: str, files: Collection[str]) -> bool:
        """Tell whether the machine's own text of one of the files is known for a power source."""
        return any(path in self._stock.by_source.get(source, {}) for path in files)

    def knows_elsewhere(self, source: str, files: Collection[str]) -> bool:
        """Tell whether it is known for another power source."""
        return any(self.knows_on(other, files) for other in self._stock.by_source if other != source)

    def remember_stock(self, values: Mapping[str, Value], texts: Mapping[str, str], own: "OwnTexts", at: str) -> None:
        """Remember what is about to be changed for the first time, if it can be known. Raises BoltError.

        Args:
            values: of controls.
            texts: of their files.
            own: texts that the firmware has set for the present power source.
            at: date and time.
        """
        # After a lost record, what the machine holds now may be what an earlier process has set.
        if self.unsure:
            return
        fresh = {name: value for name, value in values.items() if name not in self._stock.values}
        unseen = {path: text for path, text in texts.items() if path not in self._stock.texts}
        known = self._stock.by_source.get(own.source, {})
        of_source = {path: text for path, text in own.texts.items() if path not in known} if own.source else {}
        if not fresh and not unseen and not of_source:
            return
        self._journal.keep_reserve()
        by_source = {own.source: of_source} if of_source else {}
        new = joined(Stock(fresh, unseen, by_source), self._stock)
        self._journal.append(Entry(EntryKind.STOCK, "", at, boot_id=self.boot_id, stock=new))
        # The journal first: where a crash comes in between, the second copy is behind, and is known to be.
        self._stock = new
        self.save_second(at)

    def save_second(self, at: str) -> Path | None:
        """Write the second copy; a damaged one is set aside first, and its new place returned. Raises BoltError."""
        aside = copy_aside(self.path) if self.doubtful else None
        write_atomically(self.path, self._journal.log.line(self.entry(at)), mode=PRIVATE)
        self.doubtful = self.missing = False
        self._second = self._stock
        return aside

    def forget_kept(self, names: Collection[str]) -> None:
        """Keep these no longer; the journal tells of it already."""
        self.kept = {name: value for name, value in self.kept.items() if name not in names}

    def note_kept(self, values: Mapping[str, Value], asleep_s: float) -> None:
        """Take over what is kept from now on; the journal tells of it already."""
        self.kept, self.asleep_s = {**self.kept, **values}, asleep_s
