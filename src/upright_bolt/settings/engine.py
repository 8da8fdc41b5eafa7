"""The settings engine: the one place that decides what is in force on a machine.

A program run directly and the root service host the same engine: checks, trials, journal, what was kept and
what is expected.
"""

from collections.abc import Callable, Collection, Mapping
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from upright_bolt.errors import BadInput, BoltError, InUse, Refused
from upright_bolt.kernel.clock import LEAST_SLEEP_S
from upright_bolt.kernel.driver import CanBeCapped, why_unreadable
from upright_bolt.model.catalogue import declaration_of
from upright_bolt.model.control import Control, Value
from upright_bolt.model.machine import About
from upright_bolt.model.note import CAPPED, Diagnostic, DiagnosticCode
from upright_bolt.model.sample import Sample
from upright_bolt.model.settings import Settings
from upright_bolt.model.trial import ApplyReport, Drift, Recovery, RecoveryOutcome, Status, Trial
from upright_bolt.settings import apply
from upright_bolt.settings.access import Change, ProfileAccess, nothing
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.control_reader import ControlReader
from upright_bolt.settings.failure_log import FailureLog
from upright_bolt.settings.failures import Failures
from upright_bolt.settings.journal import Journal
from upright_bolt.settings.journal_replay import BootMemory, replay_journal
from upright_bolt.settings.lock import MachineLock
from upright_bolt.settings.recovery import Damage, recover
from upright_bolt.settings.stock_plan import plan_stock
from upright_bolt.settings.timestamp import now_stamp
from upright_bolt.settings.trials import Trials
from upright_bolt.text.trials import not_applied

HELD = "Another process of this program holds this machine; change its settings there."


class SettingsEngine:
    """``MachineAccess`` in the process that has the rights.

    Args:
        backend: the machine; it belongs to the engine from now on.
        folder: where journal and memory lie.
        holder: who this process is, for records.
        lock: held already by this process; None if another process has the machine, which makes this read-only.
        run_lock: what a run takes besides, where a machine can be reached with several records.

    Attributes:
        recovered: what was done about a trial that an earlier process left; None if nothing.
        failures: what has failed on this machine.

    Raises:
        CorruptData: the journal was written by a newer version.
    """

    fastest_s = 0.05

    def __init__(
        self,
        backend: Backend,
        folder: Path,
        holder: str,
        lock: MachineLock | None,
        run_lock: MachineLock | None = None,
    ) -> None:
        self.trouble = ""
        self.while_waiting: Callable[[], None] = nothing
        self.profiles: ProfileAccess | None = None
        self._backend = backend
        self._holder = holder
        self._lock = lock
        self._run_lock = run_lock
        journal = Journal(folder / "journal")
        self._memory = BootMemory(folder / "stock", journal, backend.boot_id())
        self._controls = ControlReader(backend, self._memory)
        damage: Damage | None = None
        if lock is None:
            past = replay_journal(journal.read().entries, self._memory.boot_id)
            # Whoever has the machine next writes down that the restart has ended it; it is not running until then.
            if past.trial is not None and past.trial.boot_id != self._memory.boot_id:
                past = replace(past, trial=None)
            self._memory.take(past)
        else:
            past, damage = recover(journal, self._memory, backend, now_stamp())
        log = FailureLog(folder, backend.about.identity.processor, backend.boot_id(), now_stamp)
        self._trials = Trials(backend, self._controls, journal, self._memory, past, log, now_stamp)
        backend.remember(self.expected)
        if lock is not None:
            backend.on_processors = self._trials.flush_pending
        self.failures = Failures(log, backend, self)
        self.recovered: Recovery | None = None
        if lock is not None:
            self.failures.recover()
            self.recovered = _with_damage(self._trials.recover(), damage)
            with suppress(BoltError):  # what it could not reset is told as a drift
                self.failures.reset_failed()
            self._trials.flush_pending()

    @property
    def closed(self) -> str:
        """Why nothing can be changed, or nothing."""
        return HELD if self._lock is None else ""

    @property
    def about(self) -> About:
        """What does not change."""
        return self._backend.about

    @property
    def has_pending_restores(self) -> bool:
        """Whether something is to be reverted once a processor is online again."""
        return self._lock is not None and self._trials.has_pending_restores

    def look_at_processors(self) -> None:
        """See whether processors have come or gone, and flush what is pending for those that have come."""
        self._backend.look_at_processors()

    @property
    def trial(self) -> Trial | None:
        """The trial that is running; None if none is."""
        return self._trials.current

    def controls(self) -> dict[str, Control]:
        """Return every control as it stands on this machine."""
        self._backend.look_at_processors()
        return self._controls.read_all()

    def current_values(self) -> dict[str, Value]:
        """Return every control that can be read, with its value."""
        self._backend.look_at_processors()
        return self._backend.values()

    def sample(self) -> Sample:
        """Read every sensor once."""
        return self._backend.sample()

    def status(self) -> Status:
        """Return the trial, what was kept, and what no longer holds."""
        self._backend.look_at_processors()
        return Status(self.trial, self.drift(), self.kept, self._backend.power_source(), self._capped(),
                      self._backend.beyond, self._slept(), stock_unknown=self._memory.unsure)  # fmt: skip

    @property
    def expected(self) -> dict[str, Value]:
        """What should be in force: what was kept, and over it the trial."""
        return self._trials.expected(self._memory.kept)

    @property
    def kept(self) -> dict[str, Value]:
        """What was kept in this boot."""
        return dict(self._memory.kept)

    def drift(self, names: Collection[str] | None = None) -> tuple[Drift, ...]:
        """Return what no longer holds, of some controls or of all."""
        drift = []
        for name, expected in self.expected.items():
            if (names is not None and name not in names) or self._backend.is_asleep(name):
                continue
            driver = self._backend.drivers.get(name)
            got = driver.read() if driver else None
            if driver is None or got is None or not driver.same(expected, got):
                drift.append(Drift(name, expected, got, self._why_drifted(name, got)))
        return tuple(drift)

    def _slept(self) -> bool:
        """Tell whether the machine has slept since something was set that should be in force."""
        trial, now_s = self.trial, self._backend.asleep_s()
        if trial is not None:
            return now_s > trial.asleep_s + LEAST_SLEEP_S
        return bool(self._memory.kept) and now_s > self._memory.asleep_s + LEAST_SLEEP_S

    def _why_drifted(self, name: str, got: Value | None) -> Diagnostic | None:
        """Return what is known of a control that does not hold what it should, beyond what it holds."""
        driver = self._backend.drivers.get(name)
        if driver is None:
            return self._backend.absent.get(name)
        why = driver.facts().note
        if got is None:
            return why if why is not None else why_unreadable(driver)
        return why if why is not None and why.code is DiagnosticCode.PROCESSORS_DIFFER else None

    def _capped(self) -> dict[str, Diagnostic]:
        """Return what holds down a control that was set, by its name."""
        drivers = [self._backend.drivers.get(name) for name in self.expected]
        notes = {driver.name: driver.facts().note for driver in drivers if isinstance(driver, CanBeCapped)}
        return {name: why for name, why in notes.items() if why is not None and why.code in CAPPED}

    def try_settings(self, settings: Settings, *, standing: bool, by: str = "", owner: str = "") -> ApplyReport:
        """Put settings in force as a trial, or widen the running one.

        Args:
            settings: what is asked.
            standing: the trial outlives this process.
            by: who asked, in words; this process if empty.
            owner: whose trial it is, where several share this process (see the service).

        Returns:
            The report. If it is not ``ok``, nothing has changed and a running trial goes on as it was.

        Raises:
            BadInput: nothing was asked for.
            InUse: another process holds the machine.
            Refused: it cannot be written down.
        """
        self.check_writable()
        if not settings:
            raise BadInput("There is nothing to try: no setting was given.")
        controls = self._controls.read_for(settings)
        refused = apply.check(settings, controls, self._backend.base_mhz)
        if refused:
            return apply.refused_report(settings, controls, refused)
        stock = self._unknown_stock(settings, controls)
        report = self._trials.try_out(settings, controls, stock, by or self._holder, standing=standing, owner=owner)
        self._backend.refresh(settings)
        return report

    def _unknown_stock(self, settings: Settings, controls: Mapping[str, Control]) -> dict[str, Value]:
        """Return the values of what is about to change, and of what changes along with it, if not remembered yet."""
        unknown = [name for name in self._backend.touched_by(settings) if name not in self._memory.stock]
        read = {name: controls[name].stock for name in unknown if name in controls}
        read |= self._backend.values(name for name in unknown if name not in controls)
        return {name: value for name, value in read.items() if value is not None}

    def keep(self, *, just_applied: bool = False) -> Trial:
        """End the trial and leave its settings applied until a restart.

        Args:
            just_applied: the caller has applied them a moment ago, so they need not be looked at again.

        Raises:
            BadInput: no trial is running.
            InUse: another process holds the machine.
            Refused: the settings have failed meanwhile, are no longer applied, or cannot be written down.
        """
        self.check_writable()
        if self.trial is not None:
            self.failures.refuse_failed(self.trial.settings)
            gone = () if just_applied else self.drift(self.trial.settings)
            if gone:
                raise Refused(f"Nothing was kept, since {not_applied(gone)}. Apply it again, or revert the trial.")
        return self._trials.keep()

    def revert(self, why: str = "asked for") -> Trial:
        """Put back what was in force before the trial. Raises BadInput, InUse or Refused."""
        self.check_writable()
        trial = self._trials.revert(why)
        self._backend.refresh(trial.settings)
        return trial

    def reset_to_stock(self, names: Collection[str] = (), by: str = "") -> Trial:
        """Put the machine's own values in force, after *keep* as well; a running trial ends.

        Limits that the firmware has set by itself since, for another power source, are left to it.

        Args:
            names: of controls; all that were changed in this boot if empty.
            by: who asks, in words; this process if empty.

        Returns:
            What was done, as a trial that has ended: ``before_values`` are in force now.

        Raises:
            BadInput: nothing was changed in this boot.
            NotFound: there is no such control.
            InUse: another process holds the machine.
            Refused: some files did not take their value.
        """
        self.check_writable()
        for name in names:
            declaration_of(name)  # a wrong name ends no trial
        if self.trial is not None:
            self.revert("the machine's own values were asked for")
        plan = plan_stock(self._backend, self._memory, names)
        done = self._trials.reset_to_stock(plan, by or self._holder)
        self._backend.refresh(plan.names)
        values = self._backend.values(done.before_values)
        return replace(done, before_values=values, left_to_firmware=plan.left_to_firmware)

    def changes_by_others(self) -> tuple[Change, ...]:
        """Return nothing: nobody else can change a machine that this process holds."""
        return ()

    def begin_series(self, names: Collection[str]) -> None:
        """Do nothing: whoever has the rights is asked no question."""

    def end_series(self) -> None:
        """Do nothing."""

    def begin_run(self, what: str) -> None:
        """Let no other run begin on this machine. Raises InUse, or Refused if it cannot be written down."""
        if self._lock is None:
            raise InUse(HELD)
        if self._run_lock is not None:
            self._run_lock.acquire_if_possible()
        self.note_run(what, self._holder)

    def note_run(self, what: str, by: str) -> None:
        """Record which workload runs from now on, at values that can fail; ``what`` is empty for none.

        Raises:
            Refused: it cannot be written down, so the run must not begin.
        """
        from upright_bolt.model.workloads import WORKLOADS  # noqa: PLC0415 - short commands begin no run

        on_gpu = what in WORKLOADS and WORKLOADS[what].on_gpu
        self._backend.watch_chips(closely=on_gpu)
        if what:
            self.failures.begin_run(by, on_gpu=on_gpu)
        else:
            self.failures.end_run()

    def end_run(self) -> None:
        """The run is over."""
        if self._lock is not None:
            self.note_run("", self._holder)
        if self._run_lock is not None:
            self._run_lock.release()

    def note_shutdown(self) -> None:
        """Record that the machine is being shut down in order. Raises BoltError."""
        if self._lock is not None:
            self.failures.log.note_shutdown()

    def check_writable(self) -> None:
        """Raise InUse unless this process holds the machine."""
        if self._lock is None:
            raise InUse(HELD)
        self._backend.look_at_processors()

    def close(self, *, run_goes_on: bool = False) -> str:
        """Put back a trial that does not outlive this process, and let the machine go; once.

        Args:
            run_goes_on: a run of another process has not ended with this one, and stays on record.
        """
        trouble = ""
        if self.profiles is not None:
            self.profiles.close()
        if self._lock is not None:
            trial = self.trial
            if self._backend.boot_id() != self._memory.boot_id:  # it has restarted under this process
                self.failures.machine_went_down()
                self._trials.ended_by_restart()
            elif trial is not None and not trial.standing:
                try:
                    self.revert("the program was closed")
                except Exception as fault:  # noqa: BLE001 - whatever it is, the rest must still be let go
                    trouble = str(fault)
            self._backend.refresh()
            if not run_goes_on:
                self.end_run()
            self._lock.release()
            self._lock = None
        self._backend.close()
        return trouble


def _with_damage(recovered: Recovery | None, damage: Damage | None) -> Recovery | None:
    """Return what was recovered together with what was damaged."""
    if damage is None:
        return recovered
    outcome = RecoveryOutcome.STOCK if damage.whole_record else RecoveryOutcome.RENEWED
    if recovered is None:
        return Recovery(None, outcome, damaged=damage.names, aside=damage.aside, older=damage.older)
    if damage.whole_record and recovered.outcome is RecoveryOutcome.PUT_BACK:
        recovered = replace(recovered, outcome=outcome)
    return replace(recovered, damaged=damage.names, aside=damage.aside, older=damage.older)
