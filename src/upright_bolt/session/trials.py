"""Trials: every change is provisional until it is kept, and is on record before it is made."""

import uuid
from collections.abc import Callable, Mapping

from upright_bolt.errors import BadInput, BoltError, FileFault, Refused
from upright_bolt.kernel.driver import ControlDriver
from upright_bolt.kernel.ports import KernelFiles
from upright_bolt.model.control import Control, Value
from upright_bolt.model.settings import Settings, show_settings
from upright_bolt.model.trial import ApplyReport, ApplyRow, Trial
from upright_bolt.session import apply, journal
from upright_bolt.session.journal import Journal

ReadControls = Callable[[], Mapping[str, Control]]


class Trials:
    """The one trial of a machine, its journal and its ends.

    Args:
        drivers: all drivers, in writing order.
        files: the port.
        record: the machine's journal.
        read_controls: returns the controls as they stand now.
        stamp: returns the date and time for the record.
        boot_id: the present boot.
        base_mhz: the base clock, if known.
    """

    def __init__(
        self,
        drivers: Mapping[str, ControlDriver],
        files: KernelFiles,
        record: Journal,
        read_controls: ReadControls,
        stamp: Callable[[], str],
        boot_id: str,
        base_mhz: float | None,
    ) -> None:
        self._drivers = drivers
        self._files = files
        self._journal = record
        self._read_controls = read_controls
        self._stamp = stamp
        self._boot_id = boot_id
        self._base_mhz = base_mhz
        self.current: Trial | None = record.open_trial()

    def try_out(self, settings: Settings, by: str, *, standing: bool, owner: str = "") -> ApplyReport:
        """Put settings in force as a trial, or widen the running one.

        Returns:
            The report. If it is not ``ok``, nothing has changed and a running trial goes on as it was.

        Raises:
            BadInput: nothing was asked for.
        """
        if not settings:
            raise BadInput("There is nothing to try: no setting was given.")
        controls = self._read_controls()
        refused = apply.check(settings, controls, self._base_mhz)
        if refused:
            return apply.refused_report(settings, controls, refused)
        try:
            before_now = apply.snapshot(list(settings), self._drivers, self._files)
        except FileFault as fault:
            why = f"It cannot be read now, so it could not be put back: {fault}"
            return ApplyReport(
                tuple(ApplyRow(n, v, controls[n].in_force, ok=False, why=why) for n, v in settings.items())
            )
        earlier = self.current
        trial = self._opened(settings, before_now, controls, by, standing=standing, owner=owner)
        self._journal.begin(trial, self._stamp())
        report = apply.put_in_force(settings, self._drivers, self._files, before_now)
        self._conclude(trial, earlier, report)
        return report

    def _opened(
        self,
        settings: Settings,
        before: dict[str, str],
        controls: Mapping[str, Control],
        by: str,
        *,
        standing: bool,
        owner: str,
    ) -> Trial:
        values = {n: v for n in settings if (v := controls[n].in_force) is not None}
        running = self.current
        if running is None:
            return Trial(
                uuid.uuid4().hex[:12],
                dict(settings),
                before,
                values,
                self._stamp(),
                by,
                standing,
                self._boot_id,
                owner,
            )
        stands = running.standing and standing
        return Trial(
            running.id,
            {**running.settings, **settings},
            {**before, **running.before},
            {**values, **running.before_values},
            running.since,
            running.by,
            stands,
            self._boot_id,
            running.owner if stands == running.standing else owner,
        )

    def _conclude(self, trial: Trial, earlier: Trial | None, report: ApplyReport) -> None:
        if report.ok:
            self.current = trial
            self._journal.append(journal.APPLIED, trial.id, self._stamp())
        elif report.left_changed:
            self.current = trial  # it stays open, so that the next start tries to put back again
            self._journal.append(journal.LEFT, trial.id, self._stamp(), files=list(report.left_changed))
        elif earlier is not None:
            self._journal.begin(earlier, self._stamp())
            self._journal.append(journal.APPLIED, earlier.id, self._stamp())
        else:
            self._journal.append(journal.REFUSED, trial.id, self._stamp(), why=report.sentence())

    def keep(self) -> Trial:
        """End the trial; its settings stay in force until a restart.

        Raises:
            BadInput: no trial is running.
        """
        trial = self._running()
        self._journal.append(journal.KEPT, trial.id, self._stamp())
        self.current = None
        return trial

    def put_back(self, why: str) -> Trial:
        """Put back what was in force before the trial, and end it.

        Raises:
            BadInput: no trial is running.
            Refused: some files did not take their earlier values; the trial stays open.
        """
        trial = self._running()
        left = apply.restore(trial.before, self._files)
        if left:
            self._journal.append(journal.LEFT, trial.id, self._stamp(), files=list(left))
            raise Refused(
                f"Not everything could be put back: {', '.join(left)} did not take the earlier value. "
                "The trial stays on record; try again with the rights to write these files, or restart the machine."
            )
        self._journal.append(journal.PUT_BACK, trial.id, self._stamp(), why=why)
        self.current = None
        return trial

    def _running(self) -> Trial:
        if self.current is None:
            raise BadInput("No trial is running.")
        return self.current

    def ended_by_restart(self) -> None:
        """Note that the machine's restart has ended the trial, if there is one: nothing is left to put back."""
        if self.current is not None:
            self._journal.append(journal.RESTARTED, self.current.id, self._stamp())
            self.current = None

    def recover(self) -> str:
        """Deal with a trial that an earlier process left; return a sentence on what was done, or nothing."""
        trial = self.current
        if trial is None:
            return ""
        what = f"The trial of {trial.since} ({show_settings(trial.settings)}, by {trial.by})"
        if trial.boot_id != self._boot_id:
            self.ended_by_restart()
            return f"{what} ended with a restart of the machine, which put the firmware's values back."
        if trial.standing and not self._journal.half_done():
            return ""
        try:
            self.put_back("the program that ran it ended without doing so")
        except BoltError as fault:
            return f"{what} outlived its program. {fault}"
        return f"{what} outlived its program, so what was in force before it was put back."

    def expected(self, kept: Mapping[str, Value]) -> dict[str, Value]:
        """Return what should be in force: what was kept, and over it the trial."""
        return {**kept, **(self.current.settings if self.current else {})}
