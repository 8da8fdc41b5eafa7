"""What is remembered of profiles in force: a document that is on disk before the machine is written to, and a log."""

from collections import deque
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from upright_bolt.checksummed_log import PRIVATE, ChecksummedLog, copy_aside
from upright_bolt.disk import Document, JsonCodec, bounded, write_atomically
from upright_bolt.errors import BoltError, CorruptData
from upright_bolt.model.control import Value
from upright_bolt.model.hold import LogEntry

VERSION = 1
AT_BOOT = "at-boot"
"""A file that is there while something begins at the machine's start."""
COMPACT_BYTES = 128 << 10
KEPT_ENTRIES = 400
MOST_BYTES = 4 << 20


@dataclass(frozen=True, slots=True)
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


@dataclass(frozen=True, slots=True)
class Suspicion:
    """What was applied when the machine went down uncleanly: a profile, or a trial if it has no name.

    ``damaged`` tells that it is not known what was: the record cannot be read.
    """

    profile: str
    settings: dict[str, Value]
    at: str
    damaged: bool = False


@dataclass(frozen=True, slots=True)
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
        settling: what is settling; None if nothing is.
        suspicion: what is under suspicion; None if nothing is.
        unclean: how many boots in a row ended uncleanly.
    """

    boot_id: str = ""
    active: bool = False
    wanted: str = ""
    by_hand: bool = False
    rule: str = ""
    hold: bool = False
    boot: bool = False
    settling: Settling | None = None
    suspicion: Suspicion | None = None
    unclean: int = 0


_REMEMBERED: JsonCodec[Remembered] = JsonCodec(Remembered)
_ENTRY: JsonCodec[LogEntry] = JsonCodec(LogEntry)


class Record:
    """The document and the log of one machine.

    Args:
        folder: where they lie.

    Attributes:
        now: what is remembered; only ``change`` makes another of it.
        damaged: the document could not be read, so that nothing is known of how the last boot ended.
        told: how many entries this process has added to the log.
        unreadable: how many entries of the log were damaged when it was read.
    """

    def __init__(self, folder: Path) -> None:
        self._document = Document(folder / "in-force", "upright-bolt profiles in force", VERSION, _REMEMBERED)
        self._log = ChecksummedLog(folder / "hold-log", VERSION, _ENTRY, MOST_BYTES)
        self.damaged = False
        self.told = self.unreadable = 0
        try:
            self.now = self._document.load() or Remembered()
            bounded(self.now)
        except CorruptData:
            self.now, self.damaged = Remembered(), True
        # In memory as well, so that a full disk or a damaged file does not hide what this process has done.
        self._tail: deque[LogEntry] = deque(self._read(), maxlen=KEPT_ENTRIES)

    def mark_boot(self, *, on: bool) -> None:
        """Leave word for the machine's start, which begins nothing where there is none. Raises BoltError."""
        mark = self._log.path.with_name(AT_BOOT)
        if on:
            write_atomically(mark, b"", mode=PRIVATE)
        else:
            try:
                mark.unlink(missing_ok=True)
            except OSError as fault:
                raise BoltError(f"{mark} cannot be removed: {fault.strerror}.") from fault

    def change(self, **changes: object) -> None:
        """Write what is remembered with some of it changed, then adopt it. Raises BoltError, as ``adopt``."""
        self.adopt(replace(self.now, **changes))  # type: ignore[arg-type]

    def adopt(self, new: Remembered) -> None:
        """Write other memories, then make them those that count. Raises BoltError; nothing has changed then."""
        # In this order: what could not be written must not count in this process either.
        self._document.save(new)
        self.now, self.damaged = new, False

    def keep_damaged(self) -> None:
        """Copy the damaged document aside."""
        copy_aside(self._document.path)

    def _read(self) -> tuple[LogEntry, ...]:
        try:
            found = self._log.read()
        except (OSError, BoltError):
            self.unreadable = 1
            return ()
        self.unreadable = found.unreadable
        return found.entries

    def append(self, entry: LogEntry) -> None:
        """Add an entry to the log. A full disk keeps it out of the file, not from being read in this process."""
        self._tail.append(entry)
        self.told += 1
        with suppress(BoltError):
            if self._log.append(entry) > COMPACT_BYTES:
                self._log.rewrite(self._tail)

    def entries(self, most: int = KEPT_ENTRIES) -> tuple[LogEntry, ...]:
        """Return the latest entries, oldest first."""
        return tuple(self._tail)[-most:]

    def since(self, told: int) -> tuple[LogEntry, ...]:
        """Return the entries added since ``told`` stood at that number, as far as they are still kept."""
        return self.entries(self.told - told) if self.told > told else ()
