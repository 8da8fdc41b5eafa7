"""The record of a machine's searches: every rung on disk before its first write, and its outcome after it.

Every line tells by itself which search and test it belongs to, so that damage to one costs no other. Where lines cannot
be read, or do not follow from each other, the search is over and nothing of it is recommended. What has failed in it
still counts, and so does every test whose end cannot be read.
"""

import os
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from upright_bolt.checksummed_log import ChecksummedLog, NewerVersion, copy_aside, lines_of
from upright_bolt.disk import JsonCodec, bounded
from upright_bolt.errors import BoltError, CorruptData, NotFound
from upright_bolt.model.catalogue import find_declaration
from upright_bolt.model.search import Asked, Outcome, Purpose, Rung, RungEnd, Search, SearchEnd, Why, told_by_person
from upright_bolt.model.work import FULL_WORTH

VERSION = 2
FILE = "searches"
MOST_BYTES = 16 << 20


@dataclass(frozen=True, slots=True)
class Entry:
    """One line: the search it belongs to with what was asked, and a rung, how that rung ended, or how it ended."""

    search: int
    asked: Asked
    rung: Rung | None = None
    rung_end: RungEnd | None = None
    end: SearchEnd | None = None


_ENTRY: JsonCodec[Entry] = JsonCodec(Entry)


def check(entry: Entry) -> None:
    """Raise CorruptData for what no entry can tell."""
    bounded(entry)
    named = [*entry.asked.controls, *(entry.rung.settings if entry.rung else ())]
    if any(find_declaration(name) is None for name in named):
        raise CorruptData("control")


class SearchLog:
    """The searches of one machine. Only whoever holds the machine may write it.

    Args:
        folder: where the machine's record lies.
        machine: as typed; a search that another machine has made ended there, and nothing of it is recommended here.

    Attributes:
        unreadable: how many lines of it were damaged when it was read last.
    """

    def __init__(self, folder: Path, machine: str) -> None:
        self._machine = machine
        self._path = folder / FILE
        self.log = ChecksummedLog(self._path, VERSION, _ENTRY, MOST_BYTES, check=check)
        self._stop = folder / f"{FILE}.stop"
        self.unreadable = 0

    def all(self) -> list[Search]:
        """Return the searches, oldest first. Raises BoltError if the record is of a newer version or cannot be read."""
        try:
            lines = self.log.read()
        except NewerVersion:
            raise BoltError(f"{self._path} was written by a newer version of this program.") from None
        except OSError as fault:
            raise BoltError(f"{self._path} cannot be read: {fault.strerror}.") from fault
        self.unreadable = lines.unreadable
        found = _searches(lines.entries, doubtful=lines.unreadable > 0)
        return [one if one.asked.machine == self._machine else _of_another_machine(one) for one in found]

    def get(self, number: int) -> Search:
        """Return a search by its number. Raises NotFound or BoltError."""
        for search in self.all():
            if search.asked.id == number:
                return search
        raise NotFound(f"There is no search {number} of this machine.")

    def open_search(self) -> Search | None:
        """Return the search that has not ended; None if there is none. Raises BoltError."""
        return next((search for search in reversed(self.all()) if search.end is None), None)

    def numbered(self, asked: Asked) -> Search:
        """Return a new search with its number; nothing is written yet. Raises BoltError."""
        return Search(
            replace(asked, machine=self._machine, id=1 + max((search.asked.id for search in self.all()), default=0))
        )

    def begin(self, search: Search) -> None:
        """Keep a new search. Raises BoltError."""
        self._append(Entry(search.asked.id, search.asked))

    def open_rung(self, search: Search, rung: Rung) -> None:
        """Keep that a rung is about to begin. Raises BoltError."""
        self._append(Entry(search.asked.id, search.asked, rung=rung))

    def close_rung(self, search: Search, end: RungEnd) -> None:
        """Keep how a rung ended. Raises BoltError."""
        rung = next((one for one in search.rungs if one.number == end.number), None)
        self._append(Entry(search.asked.id, search.asked, rung=rung, rung_end=end))

    def finish(self, search: Search, end: SearchEnd) -> None:
        """Keep how a search ended. Raises BoltError."""
        self._append(Entry(search.asked.id, search.asked, end=end))

    def set_damage_aside(self) -> None:
        """Copy a damaged record aside, and write what it still tells in its place, doubtful tests as failed.

        Raises:
            BoltError: it cannot be written.
        """
        searches = self.all()
        if not self.unreadable and all(search.end is None or search.end.why is not Why.DAMAGED for search in searches):
            return
        entries = [entry for search in searches for entry in _entries_of(search)]
        if not self.unreadable and self._path.read_bytes() == b"".join(map(self.log.line, entries)):
            return
        copy_aside(self._path)
        self.log.rewrite(entries)

    def ask_to_stop(self) -> None:
        """Ask the process that carries the search on to stop it. Raises BoltError."""
        try:
            self._stop.touch(mode=0o600)
        except OSError as fault:
            raise BoltError(f"{self._stop} cannot be written: {fault.strerror}.") from fault

    def stop_asked(self) -> bool:
        """Tell once whether another process has asked to stop."""
        if not self._stop.exists():
            return False
        with suppress(OSError):
            self._stop.unlink()
        return True

    def _append(self, entry: Entry) -> None:
        try:
            self._path.parent.mkdir(parents=True, exist_ok=True)
            self._drop_torn()
        except OSError as fault:
            raise BoltError(f"{self._path} cannot be written: {fault.strerror}.") from fault
        self.log.append(entry)

    def _drop_torn(self) -> None:
        """Cut off a last line that a crash has torn, so that the next one begins a line of its own."""
        if not self._path.exists():
            return
        with self._path.open("r+b") as file:
            size = file.seek(0, os.SEEK_END)
            file.seek(max(0, size - 1))
            if file.read() in (b"", b"\n"):
                return
            file.seek(0)
            content = file.read()
            whole = lines_of(content, self.log.entry).whole_bytes
            file.truncate(whole)
            if not content[:whole].endswith(b"\n") and whole:  # its end alone was damaged: the line counts
                file.seek(whole)
                file.write(b"\n")


def recover(log: SearchLog, boot_id: str) -> Search | None:
    """Return the search that goes on, with a rung that was cut off closed; None if there is none.

    A rung of an earlier boot is what froze the machine: nothing restarts in the middle of a rung by itself. One of the
    same boot was cut off with its program, and proves nothing.

    Raises:
        BoltError: the record cannot be read or written.
    """
    log.set_damage_aside()
    search = log.open_search()
    if search is None or search.open_rung is None:
        return search
    closed = as_cut_off(search, boot_id)
    log.close_rung(closed, closed.ends[search.open_rung.number])
    return log.get(search.asked.id)


def as_cut_off(search: Search, boot_id: str) -> Search:
    """Return a search with its open rung ended: one of an earlier boot is what froze the machine."""
    rung = search.open_rung
    if rung is None:
        return search
    outcome = Outcome.STOPPED if rung.boot_id == boot_id else Outcome.FROZE
    return replace(search, ends={**search.ends, rung.number: RungEnd(rung.number, outcome)})


def answer_open(log: SearchLog, outcome: Outcome) -> Search:
    """Write down how it went while a person used the machine in the rung that waits for it, and return the search.

    Raises:
        NotFound: no rung waits for an answer.
        BoltError: the record cannot be read or written.
    """
    search = log.open_search()
    rung = search.open_rung if search is not None else None
    if search is None or rung is None or rung.purpose is not Purpose.IN_USE:
        raise NotFound("No search waits for an answer.")
    lasted = 0.0 if outcome is Outcome.STOPPED else rung.load_s
    end = RungEnd(rung.number, outcome, lasted, FULL_WORTH["watch"] * lasted, lasted)
    log.close_rung(search, told_by_person(end, outcome))
    return log.get(search.asked.id)


def _entries_of(search: Search) -> list[Entry]:
    """Return a search as the entries that tell of it."""
    entries = [Entry(search.asked.id, search.asked)]
    for rung in search.rungs:
        entries.append(Entry(search.asked.id, search.asked, rung=rung))
        if rung.number in search.ends:
            entries.append(Entry(search.asked.id, search.asked, rung=rung, rung_end=search.ends[rung.number]))
    if search.end is not None:
        entries.append(Entry(search.asked.id, search.asked, end=search.end))
    return entries


def _searches(entries: Iterable[Entry], *, doubtful: bool) -> list[Search]:
    found: dict[int, Search] = {}
    doubted: set[int] = set()
    for entry in entries:
        search = found.get(entry.search)
        if search is None:
            search = found[entry.search] = Search(entry.asked)
            if entry.rung is not None or entry.end is not None:
                doubted.add(entry.search)  # its first line is lost
        found[entry.search] = _with(search, entry)
        if not _follows(search, entry):
            doubted.add(entry.search)
    if doubtful:
        doubted.add(max(found, default=0))
    return [_without_doubt(search) if number in doubted else search for number, search in sorted(found.items())]


def _with(search: Search, entry: Entry) -> Search:
    rung, end = entry.rung, entry.rung_end
    if rung is not None and all(one.number != rung.number for one in search.rungs):
        search = replace(search, rungs=tuple(sorted((*search.rungs, rung), key=lambda one: one.number)))
    if end is not None:
        search = replace(search, ends={**search.ends, end.number: end})
    return replace(search, end=entry.end) if entry.end is not None else search


def _follows(search: Search, entry: Entry) -> bool:
    """Tell whether a line follows from what came before it."""
    if entry.rung_end is not None:
        return search.open_rung is not None and search.open_rung.number == entry.rung_end.number
    if entry.rung is not None:
        return search.open_rung is None and search.end is None and entry.rung.number == len(search.rungs) + 1
    return entry.end is None or search.open_rung is None


def _of_another_machine(search: Search) -> Search:
    return replace(search, end=SearchEnd(Why.CHIP_CHANGED))


def _without_doubt(search: Search) -> Search:
    """Return a damaged search: it is over, and a test whose end cannot be read counts as one that froze the machine."""
    open_ones = [rung for rung in search.rungs if rung.number not in search.ends]
    ends = {rung.number: RungEnd(rung.number, Outcome.FROZE) for rung in open_ones}
    return replace(search, ends={**search.ends, **ends}, end=SearchEnd(Why.DAMAGED))
