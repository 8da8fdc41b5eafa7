"""Trials: every change is provisional until it is kept, and is on record before it is made."""

import uuid
from collections.abc import Callable, Mapping
from dataclasses import replace

from upright_bolt.errors import BadInput, FileFault, Refused
from upright_bolt.model.control import Control, Value
from upright_bolt.model.note import NoteCode, note
from upright_bolt.model.settings import Settings
from upright_bolt.model.trial import ApplyReport, ApplyRow, Recovery, RecoveryOutcome, Trial
from upright_bolt.settings import apply
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.journal import Entry, EntryKind, Journal


class Trials:
    """The one trial of a machine, its journal and its ends.

    Args:
        backend: the machine.
        journal: the machine's journal.
        boot_id: the present boot.
        stamp: returns the date and time for the record.

    Attributes:
        current: the trial that is running; None if none is.

    Raises:
        Damaged: the journal was written by a newer version.
    """

    def __init__(self, backend: Backend, journal: Journal, boot_id: str, stamp: Callable[[], str]) -> None:
        self._backend = backend
        self._journal = journal
        self._boot_id = boot_id
        self._stamp = stamp
        self.current, self._was_in_force = journal.open_trial()

    def try_out(
        self, settings: Settings, controls: Mapping[str, Control], by: str, *, standing: bool, owner: str = ""
    ) -> ApplyReport:
        """Put settings that passed their check in force as a trial, or widen the running one.

        Args:
            settings: what is asked.
            controls: at least the asked controls, as they stand.
            by: who asks, for a person.
            standing: the trial outlives the program.
            owner: who may keep it.

        Returns:
            The report. If it is not ``ok``, nothing has changed and a running trial goes on as it was.
        """
        try:
            before_now = self._backend.snapshot(settings)
        except FileFault as fault:
            why = note(NoteCode.NOT_RESTORABLE, fault=str(fault))
            return ApplyReport(
                tuple(ApplyRow(n, v, controls[n].in_force, ok=False, why=why) for n, v in settings.items())
            )
        earlier = self.current
        values = {n: v for n in settings if (v := controls[n].in_force) is not None}
        trial = self._opened(settings, before_now, values, by, standing=standing, owner=owner)
        self._journal.begin(trial, self._stamp())
        report = apply.put_in_force(settings, self._backend, before_now)
        self._conclude(trial, earlier, report)
        return report

    def _opened(
        self,
        settings: Settings,
        before: dict[str, str],
        values: dict[str, Value],
        by: str,
        *,
        standing: bool,
        owner: str,
    ) -> Trial:
        running = self.current
        if running is None:
            name, boot_id = uuid.uuid4().hex[:12], self._boot_id
            return Trial(name, dict(settings), before, values, self._stamp(), by, standing, boot_id, owner)
        stands = running.standing and standing
        return replace(
            running,
            settings={**running.settings, **settings},
            before={**before, **running.before},
            before_values={**values, **running.before_values},
            standing=stands,
            boot_id=self._boot_id,
            owner=running.owner if stands == running.standing else owner,
        )

    def _conclude(self, trial: Trial, earlier: Trial | None, report: ApplyReport) -> None:
        if report.ok:
            self.current = trial
            self._record(EntryKind.APPLIED, trial)
        elif report.left_changed:
            self.current = trial  # it stays open, so that the next start tries to put back again
            self._record(EntryKind.LEFT, trial, files=report.left_changed)
        elif earlier is not None:
            self._journal.begin(earlier, self._stamp())
            self._record(EntryKind.APPLIED, earlier)
        else:
            codes = dict.fromkeys(row.why.code.value for row in report.rows if row.why is not None)
            self._record(EntryKind.REFUSED, trial, why=", ".join(codes))

    def _record(self, kind: EntryKind, trial: Trial, *, why: str = "", files: tuple[str, ...] = ()) -> None:
        self._journal.append(Entry(kind, trial.id, self._stamp(), why=why, files=files))

    def keep(self) -> Trial:
        """End the trial; its settings stay in force until a restart.

        Raises:
            BadInput: no trial is running.
        """
        trial = self._running()
        self._record(EntryKind.KEPT, trial)
        self.current = None
        return trial

    def put_back(self, why: str) -> Trial:
        """Put back what was in force before the trial, and end it.

        Raises:
            BadInput: no trial is running.
            Refused: some files did not take their earlier values; the trial stays open.
        """
        trial = self._running()
        left = self._restored(trial, why)
        if left:
            raise Refused(
                f"Not everything could be put back: {', '.join(left)} did not take the earlier value. "
                "The trial stays on record; try again with the rights to write these files, or restart the machine."
            )
        return trial

    def _restored(self, trial: Trial, why: str) -> tuple[str, ...]:
        """Put back what was before a trial; end it unless some files are left, which are returned."""
        left = self._backend.restore(trial.before)
        if left:
            self._record(EntryKind.LEFT, trial, files=left)
        else:
            self._record(EntryKind.PUT_BACK, trial, why=why)
            self.current = None
        return left

    def _running(self) -> Trial:
        if self.current is None:
            raise BadInput("No trial is running.")
        return self.current

    def ended_by_restart(self) -> None:
        """Note that the machine's restart has ended the trial, if there is one: nothing is left to put back."""
        if self.current is not None:
            self._record(EntryKind.RESTARTED, self.current)
            self.current = None

    def recover(self) -> Recovery | None:
        """Deal with a trial that an earlier process left; return what was done, or None if nothing had to be."""
        trial = self.current
        if trial is None:
            return None
        shown = replace(trial, before={})
        if trial.boot_id != self._boot_id:
            self.ended_by_restart()
            return Recovery(shown, RecoveryOutcome.RESTARTED)
        if trial.standing and self._was_in_force:
            return None
        left = self._restored(trial, "the program that ran it ended without doing so")
        return Recovery(shown, RecoveryOutcome.NOT_PUT_BACK if left else RecoveryOutcome.PUT_BACK, left)

    def expected(self, kept: Mapping[str, Value]) -> dict[str, Value]:
        """Return what should be in force: what was kept, and over it the trial."""
        return {**kept, **(self.current.settings if self.current else {})}
