"""Trials: every change is provisional until it is kept, and is on record before it is made."""

import uuid
from collections.abc import Callable, Collection, Mapping
from contextlib import suppress
from dataclasses import replace

from upright_bolt.errors import BadInput, BoltError, FileFault, Refused
from upright_bolt.model.catalogue import FIRMWARE_LIMITS
from upright_bolt.model.control import Control, Value
from upright_bolt.model.failure import at_risk
from upright_bolt.model.note import DiagnosticCode, note
from upright_bolt.model.settings import Settings
from upright_bolt.model.trial import ApplyReport, ApplyRow, Recovery, RecoveryOutcome, Trial
from upright_bolt.settings import apply
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.control_reader import ControlReader
from upright_bolt.settings.earlier_values import EarlierValues
from upright_bolt.settings.failure_log import FailureLog
from upright_bolt.settings.journal import Entry, EntryKind, Journal
from upright_bolt.settings.journal_replay import BootMemory, Past
from upright_bolt.settings.pending import Pending
from upright_bolt.settings.stock_plan import StockPlan
from upright_bolt.text.trials import not_reverted


class Trials:
    """The one trial of a machine, its journal and its ends.

    Args:
        backend: the machine.
        controls: its controls, with their ranges.
        journal: the machine's journal.
        memory: what is remembered of the present boot.
        past: what the journal tells.
        failures: what has failed, and where a trial at values that can fail is on record, apart from the journal.
        stamp: returns the date and time for the record.
    """

    def __init__(
        self,
        backend: Backend,
        controls: ControlReader,
        journal: Journal,
        memory: BootMemory,
        past: Past,
        failures: FailureLog,
        stamp: Callable[[], str],
    ) -> None:
        self._backend = backend
        self._controls = controls
        self._journal = journal
        self._memory = memory
        self._boot_id = memory.boot_id
        self._stamp = stamp
        self._current = past.trial
        self._stands = past.applied and not past.returning
        self._pending = Pending(backend, controls, journal, memory, past, stamp)
        self._failures = failures
        self._earlier = EarlierValues(backend, controls, memory, failures)
        self._sure_of = ""
        """Id of the trial whose earlier texts this process has read from the machine itself."""

    def try_out(
        self,
        settings: Settings,
        controls: Mapping[str, Control],
        stock: Mapping[str, Value],
        by: str,
        *,
        standing: bool,
        owner: str = "",
    ) -> ApplyReport:
        """Put settings that passed their check in force as a trial, or widen the running one.

        Args:
            settings: what is asked.
            controls: at least the asked controls, as they stand.
            stock: values of what may change and is not remembered as stock yet.
            by: who asks, for a person.
            standing: the trial outlives the program.
            owner: who may keep it.

        Returns:
            The report. If it is not ``ok``, nothing has changed and a running trial goes on as it was.

        Raises:
            Refused: it cannot be written down; nothing has changed, or the sentence says what has.
        """
        try:
            # Read before anything is written: the way back is what the files hold now, not what anybody believes they
            # hold.
            before_now = self._backend.snapshot(settings, self._memory.kept)
        except FileFault as fault:
            why = note(DiagnosticCode.NOT_RESTORABLE, fault=str(fault))
            return ApplyReport(
                tuple(ApplyRow(n, v, controls[n].current, ok=False, why=why) for n, v in settings.items())
            )
        earlier = self.current
        values = {n: v for n in settings if (v := self._earlier.chosen(n, controls[n])) is not None}
        source = self._backend.power_source() if any(name in FIRMWARE_LIMITS for name in settings) else ""
        trial = self._opened(settings, before_now, values, by, standing=standing, owner=owner, source=source)
        own = self._earlier.of_firmware(values, before_now, source, self.expected(self._memory.kept))
        try:
            # The order is that of a crash: stock first, since it outlives the trial; then what can fail, since a freeze
            # must be explained by it; the trial itself last. Only when all are on the disk may a file be written.
            self._memory.remember_stock(stock, before_now, own, self._stamp())
            self._pending.about_to_set(settings)
            self._failures.begin_trial(at_risk(trial.settings), trial.by)
            self._journal.append(Entry(EntryKind.BEGIN, trial.id, self._stamp(), data=trial))
        except BoltError as fault:
            self.current = earlier
            raise Refused(f"Nothing was changed, since it cannot be written down first. {fault}") from fault
        # Texts that this process has read itself need no validation when they are reverted; those of a journal do.
        if earlier is None:
            self._sure_of = trial.id
        report = apply.apply_settings(settings, self._backend, before_now)
        if report.ok:
            self._begun(trial, earlier, before_now)
        else:
            self._undone(trial, earlier, report)
        return report

    @property
    def current(self) -> Trial | None:
        """The trial that is running; None if none is."""
        return self._current

    @current.setter
    def current(self, trial: Trial | None) -> None:
        self._current = trial
        with suppress(BoltError):  # a full disk: the next start judges by what was noted last
            self._failures.begin_trial(at_risk(trial.settings) if trial is not None else {}, trial.by if trial else "")

    def _opened(
        self,
        settings: Settings,
        before: dict[str, str],
        values: dict[str, Value],
        by: str,
        *,
        standing: bool,
        owner: str,
        source: str,
    ) -> Trial:
        running = self.current
        if running is None:
            name, boot_id = uuid.uuid4().hex[:12], self._boot_id
            return Trial(
                name, dict(settings), before, values, self._stamp(), by, standing, boot_id, owner, power_source=source,
                asleep_s=self._backend.asleep_s(),
            )  # fmt: skip
        # A trial that was to end with its program stays so when it is widened: nothing outlives what its owner expects.
        stands = running.standing and standing
        return replace(
            running,
            settings={**running.settings, **settings},
            # What was there before the trial began counts, not what an earlier part of it has set.
            before={**before, **running.before},
            before_values={**values, **running.before_values},
            standing=stands,
            boot_id=self._boot_id,
            owner=running.owner if stands == running.standing else owner,
            power_source=running.power_source or source,
        )

    def _begun(self, trial: Trial, earlier: Trial | None, before_now: Mapping[str, str]) -> None:
        """Write down that a trial is in force; what cannot be written down does not stay in force. Raises Refused."""
        try:
            self._record(EntryKind.APPLIED, trial)
        except BoltError as fault:
            # Applied and not on record, it would be taken for stock by the next start.
            left = self._backend.restore(before_now)
            self.current = trial if left else earlier
            now = (
                f"It could not all be put back: {', '.join(left)} hold what was asked; restart the machine."
                if left
                else "It was put back at once, so nothing has changed."
            )
            raise Refused(f"What was put in force could not be written down. {now} {fault}") from fault
        self.current = trial

    def _undone(self, trial: Trial, earlier: Trial | None, report: ApplyReport) -> None:
        """Write down that a trial was refused. If that fails, the next start puts back once more, which is harmless."""
        at = self._stamp()
        if report.left_changed:
            # Half applied and half reverted: neither the trial nor what was before it is what the machine holds.
            self.current = trial  # it stays open, so that the next start tries to put back again
            said = [Entry(EntryKind.LEFT, trial.id, at, files=report.left_changed)]
        elif earlier is not None:
            said = [Entry(EntryKind.BEGIN, earlier.id, at, data=earlier), Entry(EntryKind.APPLIED, earlier.id, at)]
        else:
            codes = dict.fromkeys(row.why.code.value for row in report.rows if row.why is not None)
            said = [Entry(EntryKind.REFUSED, trial.id, at, why=", ".join(codes))]
        if not report.left_changed:
            self.current = earlier
        with suppress(BoltError):
            self._journal.append(*said)

    def _record(self, kind: EntryKind, trial: Trial, *, why: str = "", files: tuple[str, ...] = ()) -> None:
        """Write an entry about a trial. Raises BoltError."""
        closing = kind is not EntryKind.APPLIED
        self._journal.append(Entry(kind, trial.id, self._stamp(), why=why, files=files), closing=closing)

    def keep(self) -> Trial:
        """End the trial; its settings stay in force until a restart.

        Raises:
            BadInput: no trial is running.
            Refused: that cannot be written down; the trial goes on.
        """
        trial = self._running()
        kept = Entry(EntryKind.KEPT, trial.id, self._stamp(), boot_id=self._boot_id, kept=dict(trial.settings),
                     asleep_s=trial.asleep_s)  # fmt: skip
        try:
            self._journal.append(kept)
        except BoltError as fault:
            raise Refused(f"Nothing was kept, since it cannot be written down; the trial goes on. {fault}") from fault
        self._memory.note_kept(trial.settings, trial.asleep_s)
        self.current = None
        return trial

    def revert(self, why: str) -> Trial:
        """Put back what was in force before the trial, and end it.

        Limits that the firmware has set anew since, for another power source, are left to it.

        Returns:
            The trial; its ``unrecorded`` says if the end could not be written down.

        Raises:
            BadInput: no trial is running.
            Refused: some files did not take their earlier values; the trial stays open.
        """
        trial = self._earlier.without_firmware_changes(self._running())
        left, unrecorded = self._restored(trial, why)
        if left:
            raise Refused(not_reverted(left, self._backend.why_closed(left)))
        return replace(trial, unrecorded=unrecorded)

    def reset_to_stock(self, plan: StockPlan, by: str) -> Trial:
        """Put the machine's own values in force and keep nothing of them any more; no trial is running.

        Args:
            plan: what is written.
            by: who asks, for a person.

        Returns:
            A trial that has ended, whose ``before_values`` are in force now.

        Raises:
            Refused: some files did not take their value; the rest is in force, and the next start tries again.
        """
        at = self._stamp()
        trial = Trial(uuid.uuid4().hex[:12], {}, dict(plan.texts), dict(plan.values), at, by, standing=False,
                      boot_id=self._boot_id, power_source=self._backend.power_source())  # fmt: skip
        # As a trial like any other: a crash half-way is then recovered like any other.
        with suppress(BoltError):  # a full disk shall not keep anything in force
            self._journal.append(Entry(EntryKind.BEGIN, trial.id, at, data=trial))
        self.current = trial
        done = self.revert("asked for the machine's own values")
        self._forget_kept((*plan.values, *plan.absent), trial.id)
        return done

    def _restored(self, trial: Trial, why: str) -> tuple[tuple[str, ...], str]:
        """Put back what was before a trial, and end it unless some files are left.

        It goes on whether or not it can be written down: a disk without room shall not keep anything in force.

        Returns:
            The files that are left, and why the end could not be written down.
        """
        with suppress(BoltError):
            self._record(EntryKind.PUTTING_BACK, trial)
        names, trial = self._earlier.without_failed(trial)
        if names:
            self._forget_kept(names, trial.id)
        refused: tuple[str, ...] = ()
        texts = trial.before
        if trial.id != self._sure_of:
            texts, refused = self._earlier.writable(trial.before)
        left = tuple(dict.fromkeys((*refused, *self._backend.restore(texts))))
        unrecorded = ""
        try:
            if left:
                self._record(EntryKind.LEFT, trial, files=left)
            else:
                self._record(EntryKind.PUT_BACK, trial, why=why)
        except BoltError as fault:
            unrecorded = str(fault)
        self._pending.note()
        if not left:
            self.current = None
        return left, unrecorded

    def _forget_kept(self, names: Collection[str], trial: str) -> None:
        """Note that controls are at their stock values again."""
        with suppress(BoltError):
            self._journal.append(
                Entry(EntryKind.TO_STOCK, trial, self._stamp(), boot_id=self._boot_id, names=tuple(names)), closing=True
            )
        self._memory.forget_kept(names)

    @property
    def has_pending_restores(self) -> bool:
        """Whether something is to be written once a processor or GPU is there again."""
        return self._pending.concerns(self.expected(self._memory.kept))

    def flush_pending(self) -> None:
        """Write what is pending for processors that are there again."""
        trial = self._pending.write(self.expected(self._memory.kept), self.current)
        if trial is not self.current:
            self.current = trial

    def _running(self) -> Trial:
        if self.current is None:
            raise BadInput("No trial is running.")
        return self.current

    def ended_by_restart(self) -> None:
        """Note that the machine's restart has ended the trial, if there is one: nothing is left to put back."""
        if self.current is not None:
            with suppress(BoltError):  # its boot's name says the same at the next start
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
        if trial.standing and self._stands:
            return Recovery(shown, RecoveryOutcome.ENDED) if self._gone(trial) else None
        trial = self._earlier.without_firmware_changes(trial)
        left, unrecorded = self._restored(trial, "the program that ran it ended without doing so")
        outcome = RecoveryOutcome.NOT_PUT_BACK if left else RecoveryOutcome.PUT_BACK
        shown = replace(shown, unrecorded=unrecorded, left_to_firmware=trial.left_to_firmware)
        return Recovery(shown, outcome, left, why=self._backend.why_closed(left))

    def _gone(self, trial: Trial) -> bool:
        """End a standing trial of which nothing is in force; tell whether it was one.

        It was put back when that could not be written down.
        """
        drivers = self._backend.drivers
        values = self._backend.values(trial.settings)
        held = any(drivers[name].same(trial.settings[name], value) for name, value in values.items())
        if held or not all(self._backend.holds(path, text) for path, text in trial.before.items()):
            return False
        with suppress(BoltError):
            self._record(EntryKind.PUT_BACK, trial, why="nothing of it was in force")
        self.current = None
        return True

    def expected(self, kept: Mapping[str, Value]) -> dict[str, Value]:
        """Return what should be in force: what was kept, and over it the trial."""
        return {**kept, **(self.current.settings if self.current else {})}
