"""The root record of failures: values that failed on this machine, and what is at risk at the moment.

Whoever may write the machine keeps it, apart from everything else, in two copies with checksums. A run or trial at
values that can fail is on disk before it begins, so that a machine that froze can tell the story after the reboot.
Failures are never dropped but by an administrator.
"""

from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from upright_bolt.checksummed_log import copy_aside
from upright_bolt.disk import Document, JsonCodec, bounded
from upright_bolt.errors import BoltError, CorruptData, Refused
from upright_bolt.model.catalogue import find_declaration
from upright_bolt.model.control import Value
from upright_bolt.model.failure import Failure, FailureKind, merged, reaches

VERSION = 1
FILE, COPY = "failures", "failures-copy"
MOST = 100


@dataclass(frozen=True, slots=True)
class AtRisk:
    """A run or a trial that goes on at values that can fail.

    Attributes:
        values: by control, in its unit.
        boot_id: the boot in which it began.
        by: who began it.
    """

    values: dict[str, float]
    boot_id: str
    by: str


@dataclass(frozen=True, slots=True)
class FailureRecord:
    """What is on record.

    Attributes:
        revision: grows with each change; the copy with the higher one counts.
        failures: what has failed, on this processor and on others that were here before.
        lost: both copies were damaged, so that it is not known what has failed; until failures are cleared.
        run: the run that goes on at values that can fail; None if none does.
        trial: the trial likewise.
        clean_boot: the boot that was shut down in order.
        cleared_at: when an administrator last cleared failures; date and time.
        cleared_by: who did.
    """

    revision: int = 0
    failures: tuple[Failure, ...] = ()
    lost: bool = False
    run: AtRisk | None = None
    trial: AtRisk | None = None
    clean_boot: str = ""
    cleared_at: str = ""
    cleared_by: str = ""


_RECORD: JsonCodec[FailureRecord] = JsonCodec(FailureRecord)


class FailureLog:
    """The failures of one machine. Only whoever holds the machine may change it.

    Args:
        folder: where the machine's record lies.
        chip: the machine's processor; empty if it does not say.
        boot_id: the present boot.
        stamp: returns the date and time.

    Attributes:
        now: what is on record.
        repaired: names of copies that were damaged or missing; empty if both were sound.
    """

    def __init__(self, folder: Path, chip: str, boot_id: str, stamp: Callable[[], str]) -> None:
        self._copies = [Document(folder / name, "upright-bolt failures", VERSION, _RECORD) for name in (FILE, COPY)]
        self._chip = chip
        self._boot_id = boot_id
        self._stamp = stamp
        found = [_read(copy) for copy in self._copies]
        sound = [record for record in found if record is not None]
        there = [copy for copy in self._copies if copy.path.exists()]
        # Where both copies are unreadable, nobody knows what has failed: that is told apart from “nothing has”.
        self.now = max(sound, key=lambda record: record.revision, default=FailureRecord(lost=bool(there)))
        self._differ = bool(there) and any(record != self.now for record in found)
        bad = [copy.path.name for copy, record in zip(self._copies, found, strict=True) if record is None]
        # Of a first save that a crash cut short there is one copy; nothing was lost with it.
        self.repaired = tuple(bad) if self.now.revision > 1 or len(there) == len(self._copies) else ()

    def repair(self) -> None:
        """Write both copies anew where one is damaged, missing, or older, as a crash between the two leaves it.

        Damaged ones are kept aside. A full disk leaves them for the next start.
        """
        if not self._differ:
            return
        for copy in self._copies:
            if copy.path.name in self.repaired and copy.path.exists():
                copy_aside(copy.path)
        with suppress(BoltError):
            self._save(self.now)

    @property
    def failures(self) -> tuple[Failure, ...]:
        """What has failed on this processor; where the machine does not name it, all that has failed."""
        return tuple(one for one in self.now.failures if self._is_here(one))

    def _is_here(self, failure: Failure) -> bool:
        # A disk may move to another machine: failures go with the chip that they were seen on.
        return not (self._chip and failure.chip) or failure.chip == self._chip

    def among(self, values: Mapping[str, Value]) -> frozenset[str]:
        """Return which of some values have failed together on this processor, by name."""
        return frozenset(name for one in self.failures if reaches(values, one) for name in one.values)

    def add(self, values: dict[str, float], how: FailureKind, by: str) -> bool:
        """Record that values failed together; return whether that was not known yet.

        Raises:
            BoltError: it cannot be written; this process knows of it all the same.
        """
        if not values:
            return False
        new = Failure(dict(values), how, self._stamp(), by, chip=self._chip)
        failures = merged(self.failures, new, MOST)
        if failures == self.failures:
            return False
        # The limit of the list holds for each processor, so that others' failures push none of this one's out.
        elsewhere = [one for one in self.now.failures if not self._is_here(one)]
        self.now = replace(self.now, failures=(*elsewhere, *failures))  # first: a full disk must not forgive it
        self._change()
        return True

    def clear(self, by: str) -> tuple[Failure, ...]:
        """Forget what has failed on this processor, for an administrator; return it. Raises BoltError."""
        gone = self.failures
        elsewhere = tuple(one for one in self.now.failures if not self._is_here(one))
        self._change(failures=elsewhere, lost=False, cleared_at=self._stamp(), cleared_by=by)
        return gone

    def begin_run(self, values: dict[str, float], by: str) -> None:
        """Record that a run begins at values that can fail. Raises Refused if it cannot be written."""
        # A run at values that cannot fail proves nothing about an earlier one, and must not look like it.
        if not values:
            self.end_run()
            return
        try:
            self._change(run=AtRisk(dict(values), self._boot_id, by))
        except BoltError as fault:
            raise Refused(f"No run was started, because it could not be recorded first. {fault}") from fault

    def end_run(self) -> None:
        """Record that the run is over. Raises BoltError."""
        if self.now.run is not None:
            self._change(run=None)

    def begin_trial(self, values: dict[str, float], by: str) -> None:
        """Record a trial at values that can fail; of none, that there is no such trial. Raises BoltError."""
        trial = AtRisk(dict(values), self._boot_id, by) if values else None
        if trial != self.now.trial:
            self._change(trial=trial)

    @property
    def at_risk(self) -> tuple[AtRisk, ...]:
        """The run and the trial that are on record as going on."""
        return tuple(one for one in (self.now.run, self.now.trial) if one is not None)

    @property
    def went_down(self) -> tuple[AtRisk, ...]:
        """The run and the trial with which the machine went down in an earlier boot."""
        return tuple(one for one in self.at_risk if one.boot_id not in (self._boot_id, self.now.clean_boot))

    def note_shutdown(self) -> None:
        """Record that this boot ends in order, so that nothing of it is a failure. Raises BoltError."""
        self._change(clean_boot=self._boot_id, run=None, trial=None)

    def note_start(self) -> None:
        """Forget that this boot was to end in order: it goes on. Raises BoltError."""
        if self.now.clean_boot == self._boot_id:
            self._change(clean_boot="")

    def _change(self, **changes: object) -> None:
        """Write a changed record, then adopt it. Raises BoltError."""
        new = replace(self.now, revision=self.now.revision + 1, **changes)  # type: ignore[arg-type]
        # On the disk before it counts: what this process believes must survive its crash.
        self._save(new)
        self.now = new

    def _save(self, record: FailureRecord) -> None:
        for copy in self._copies:
            copy.save(record)


def _read(copy: Document[FailureRecord]) -> FailureRecord | None:
    try:
        record = copy.load()
        bounded(record)
    except CorruptData:
        return None
    # A control that this version does not know would be checked against nothing.
    if record is not None and any(find_declaration(n) is None for one in record.failures for n in one.values):
        return None
    return record
