"""Keeping the machine awake while something works on it."""

from collections.abc import Callable

from upright_bolt.session.machine import Machine


class SleepInhibitor:
    """Holds the machine awake from the first reason on until there is none any more.

    Args:
        machine: may be able to.
    """

    def __init__(self, machine: Machine) -> None:
        self._machine = machine
        self._let_go: Callable[[], None] | None = None

    def see(self, why: str) -> None:
        """Take note of what goes on now; empty for nothing."""
        stay_awake = self._machine.stay_awake
        if why and self._let_go is None and stay_awake is not None:
            self._let_go = stay_awake(why)
        elif not why and self._let_go is not None:
            self._let_go()
            self._let_go = None
