"""Keeping profiles in force from a session whose process has the machine itself; a service does it by itself."""

from collections.abc import Callable
from contextlib import suppress

from upright_bolt.errors import BoltError
from upright_bolt.model.hold import LogEntry
from upright_bolt.session.active_run import ActiveRun
from upright_bolt.settings.access import MachineAccess

WITH_TROUBLE_S = 10.0
LATEST = 20


class LocalEnforcement:
    """Tends when something is due, between samples.

    Args:
        access: the way to the machine.
        now_s: the machine's clock.
        busy: tells whether a run or a series goes on, during which profiles wait.
    """

    def __init__(self, access: MachineAccess, now_s: Callable[[], float], busy: Callable[[], bool]) -> None:
        self._profiles = access.profiles
        self._now_s = now_s
        self._busy = busy
        self._due_s = 0.0
        self._last: tuple[LogEntry, ...] | None = None
        self._reported: int | None = None
        """The run whose first error was reported."""

    def reconcile(self, *, at_once: bool = False) -> None:
        """Do what is due; ``at_once`` whatever is."""
        profiles = self._profiles
        if profiles is None or self._busy():
            return
        if not (at_once or profiles.near or self._now_s() >= self._due_s):
            return
        try:
            self._due_s = self._now_s() + profiles.reconcile()
        except BoltError:
            self._due_s = self._now_s() + WITH_TROUBLE_S

    def news(self, *, heard: bool) -> tuple[LogEntry, ...]:
        """Return what the hold has done since the last call; a service is asked only if it was ``heard`` to act."""
        profiles = self._profiles
        if profiles is None or not (profiles.near or heard or self._last is None):
            return ()
        try:
            entries = profiles.log(LATEST)
        except BoltError:
            return ()
        last, self._last = self._last, entries[-1:]
        if last is None or not last:
            return entries if last is not None else ()
        return entries[entries.index(last[0]) + 1 :] if last[0] in entries else entries

    def take_errors(self, run: ActiveRun) -> None:
        """Report the first thing that goes wrong in a run, whatever watches it: no profile applies that any more."""
        if self._profiles is None or not run.errors or run.id == self._reported:
            return
        self._reported = run.id
        with suppress(BoltError):  # nothing was applied that could fail, or this person may not set anything
            self._profiles.report_failure()

    def run_ended(self) -> None:
        """See to profiles at once: they have waited for the end of a run."""
        self._due_s = self._now_s()
