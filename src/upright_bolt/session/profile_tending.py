"""Keeping profiles in force from a session whose process has the machine itself; a service does it by itself."""

from collections.abc import Callable

from upright_bolt.errors import BoltError
from upright_bolt.settings.access import MachineAccess

WITH_TROUBLE_S = 10.0


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

    def tend(self, *, at_once: bool = False) -> None:
        """Do what is due; ``at_once`` whatever is."""
        if self._profiles is None or self._busy() or (not at_once and self._now_s() < self._due_s):
            return
        try:
            self._due_s = self._now_s() + self._profiles.tend()
        except BoltError:
            self._due_s = self._now_s() + WITH_TROUBLE_S
