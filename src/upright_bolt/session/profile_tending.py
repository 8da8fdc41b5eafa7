"""Keeping profiles in force from a session whose process has the machine itself; a service does it by itself."""

from collections.abc import Callable
from contextlib import suppress

from upright_bolt.analysis.evidence import offsets_of
from upright_bolt.errors import BoltError
from upright_bolt.model.hold import LogEntry
from upright_bolt.session.active_run import ActiveRun
from upright_bolt.settings.access import MachineAccess

WITH_TROUBLE_S = 10.0
LATEST = 20


class ProfileTending:
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

    def tend(self, *, at_once: bool = False) -> None:
        """Do what is due; ``at_once`` whatever is."""
        profiles = self._profiles
        if profiles is None or self._busy():
            return
        if not (at_once or profiles.near or self._now_s() >= self._due_s):
            return
        try:
            self._due_s = self._now_s() + profiles.tend()
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

    def take_ended(self, run: ActiveRun) -> None:
        """Take up a run that has ended: voltages at which work went wrong are put in force by no profile any more."""
        offsets = offsets_of(run.head.settings) if run.errors else {}
        if self._profiles is not None and offsets:
            with suppress(BoltError):  # who may not try settings has no say in it
                self._profiles.note_failed(offsets)
        self._due_s = self._now_s()
