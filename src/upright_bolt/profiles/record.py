"""What is remembered of profiles in force: a document that is on disk before the machine is written to, and a log."""

from collections import deque
from dataclasses import dataclass, field
from pathlib import Path

from upright_bolt.disk import Document, Typed, bounded, write_atomically
from upright_bolt.errors import BoltError, Damaged
from upright_bolt.model.control import Value
from upright_bolt.model.hold import LogEntry
from upright_bolt.sealed import PRIVATE, append, lines_of, opened, sealed

VERSION = 1
MOST_FAILED = 100
AT_BOOT = "at-boot"
"""A file that is there while something begins at the machine's start."""
COMPACT_BYTES = 128 << 10
KEPT_ENTRIES = 400
MOST_BYTES = 4 << 20


@dataclass(slots=True)
class Settling:
    """A profile that has been in force for less than five minutes.

    Attributes:
        boot_id: the boot in which it was put in force.
        profile: its name.
        settings: what of it is risky.
        since_s: the machine's clock then.
    """

    boot_id: str
    profile: str
    settings: dict[str, Value]
    since_s: float


@dataclass(slots=True)
class Suspicion:
    """What was in force or tried when the machine went down uncleanly: a profile, or a trial if it has no name."""

    profile: str
    settings: dict[str, Value]
    at: str


@dataclass(slots=True)
class Remembered:
    """What outlives the program.

    Attributes:
        boot_id: the boot that ``active`` and ``wanted`` were last seen in.
        active: rules and profiles are followed in this boot.
        wanted: the profile that should be in force; empty for none.
        by_hand: a person chose it; ``rule`` counted then, as its sentence.
        rule: see ``by_hand``.
        hold: what the person wants of ``active``, also for later boots.
        boot: whether to begin at boot.
        clean_boot: the boot whose program was ended in order.
        settling: what is settling; None if nothing is.
        suspicion: what is under suspicion; None if nothing is.
        unclean: how many boots in a row ended uncleanly.
        failed: offsets that went wrong together, with the chip.
    """

    boot_id: str = ""
    active: bool = False
    wanted: str = ""
    by_hand: bool = False
    rule: str = ""
    hold: bool = False
    boot: bool = False
    clean_boot: str = ""
    settling: Settling | None = None
    suspicion: Suspicion | None = None
    unclean: int = 0
    failed: list[tuple[str, dict[str, float]]] = field(default_factory=list)


_REMEMBERED: Typed[Remembered] = Typed(Remembered)
_ENTRY: Typed[LogEntry] = Typed(LogEntry)


class Record:
    """The document and the log of one machine.

    Args:
        folder: where they lie.

    Attributes:
        now: what is remembered; ``save`` makes changes last.
        damaged: the document could not be read, so that nothing is known of how the last boot ended.
    """

    def __init__(self, folder: Path) -> None:
        self._document = Document(folder / "in-force", "upright-bolt profiles in force", VERSION, _REMEMBERED)
        self._log = folder / "hold-log"
        self.damaged = False
        try:
            self.now = self._document.load() or Remembered()
            bounded(self.now)
        except Damaged:
            self.now, self.damaged = Remembered(), True
        self._tail: deque[LogEntry] = deque(self._read(), maxlen=KEPT_ENTRIES)

    def mark_boot(self, *, on: bool) -> None:
        """Leave word for the machine's start, which begins nothing where there is none. Raises BoltError."""
        mark = self._log.with_name(AT_BOOT)
        if on:
            write_atomically(mark, b"", mode=PRIVATE)
        else:
            try:
                mark.unlink(missing_ok=True)
            except OSError as fault:
                raise BoltError(f"{mark} cannot be removed: {fault.strerror}.") from fault

    def save(self) -> None:
        """Make what is remembered last. Raises BoltError."""
        self._document.save(self.now)

    def _read(self) -> tuple[LogEntry, ...]:
        try:
            with self._log.open("rb") as file:
                found = lines_of(file.read(MOST_BYTES), lambda line: _ENTRY.from_text(opened(VERSION, line)))
        except (OSError, BoltError):
            return ()
        return found.entries

    def tell(self, entry: LogEntry) -> None:
        """Add an entry to the log. A full disk keeps it out of the file, not from being read in this process."""
        self._tail.append(entry)
        line = sealed(VERSION, _ENTRY.text(entry).encode())
        try:
            if append(self._log, line) > COMPACT_BYTES:
                lines = [sealed(VERSION, _ENTRY.text(each).encode()) for each in self._tail]
                write_atomically(self._log, b"".join(lines), mode=PRIVATE)
        except (OSError, BoltError):
            return

    def entries(self, most: int = KEPT_ENTRIES) -> tuple[LogEntry, ...]:
        """Return the latest entries, oldest first."""
        return tuple(self._tail)[-most:]

    def note_failed(self, chip: str, offsets: dict[str, float]) -> None:
        """Remember offsets that went wrong together. Raises BoltError."""
        self.now.failed = [*self.now.failed, (chip, offsets)][-MOST_FAILED:]
        self.save()

    def failed_on(self, chip: str) -> list[dict[str, float]]:
        """Return what went wrong on a chip."""
        return [offsets for of_chip, offsets in self.now.failed if of_chip == chip]
