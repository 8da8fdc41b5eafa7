"""Keeping the machine awake while something works on it."""

from collections.abc import Callable
from typing import TYPE_CHECKING

from upright_bolt.session.machine import Machine

if TYPE_CHECKING:
    from upright_bolt.session.session import Session


def reason(session: "Session") -> str:
    """Return why the machine must not fall asleep now; empty if it may."""
    if session.search is not None:
        return "" if session.search.paused else "A search for the edge of the voltage is in progress"
    if session.series is not None:
        return "A series of runs is in progress"
    return "A run is in progress" if session.run is not None else ""


class StayAwake:
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
