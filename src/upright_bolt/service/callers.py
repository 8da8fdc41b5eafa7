"""Who calls, as the bus says and never the caller; and how much of the service one caller may take up."""

import asyncio
import pwd
from dataclasses import dataclass, field
from typing import Any

from sdbus import DbusLimitsExceededError, SdBus

from upright_bolt.errors import Denied
from upright_bolt.service.names import Action

PENDING_EACH = 16
PENDING_ALL = 256
MOST_CALLERS = 512
CREDENTIALS_S = 5.0


@dataclass(slots=True)
class Caller:
    """One connection to the bus.

    Attributes:
        unique: its name on the bus, which is never given to another.
        uid, pid: as the bus tells them; None until it has.
        gone: it has left the bus.
        pending: its calls under way.
        granted: whether polkit lets it watch, for as long as polkit's rules do not change.
        series: actions that were granted for the length of a series of trials, see ``BeginSeries``.
        refusals: how often it was refused.
    """

    unique: str
    uid: int | None = None
    pid: int | None = None
    gone: bool = False
    pending: int = 0
    granted: set[Action] = field(default_factory=set)
    series: frozenset[Action] = frozenset()
    refusals: int = 0

    @property
    def words(self) -> str:
        """Who it is, for records and sentences."""
        try:
            name = pwd.getpwuid(self.uid).pw_name if self.uid is not None else "?"
        except KeyError:
            name = "a user without name"
        return f"{name} (uid {self.uid}, process {self.pid})"


class Callers:
    """Everybody who has called and is still there.

    Args:
        bus: the service's connection.
    """

    def __init__(self, bus: SdBus) -> None:
        self._bus = bus
        self._known: dict[str, Caller] = {}
        self._pending = 0
        self.calls = 0

    def enter(self, unique: str | None) -> Caller:
        """Count a call in.

        Raises:
            DbusLimitsExceededError: this caller, or all together, have too many calls under way.
        """
        if not unique:
            raise Denied("The bus did not say who calls.")
        caller = self._known.get(unique)
        if caller is None:
            if len(self._known) >= MOST_CALLERS:
                raise DbusLimitsExceededError("Too many programs are talking to the service; try again later.")
            caller = self._known[unique] = Caller(unique)
        if caller.pending >= PENDING_EACH or self._pending >= PENDING_ALL:
            raise DbusLimitsExceededError("Too many calls are under way; wait for answers before asking more.")
        caller.pending += 1
        self._pending += 1
        self.calls += 1
        return caller

    def leave(self, caller: Caller) -> None:
        """Count a call out."""
        caller.pending -= 1
        self._pending -= 1

    async def identify(self, caller: Caller) -> None:
        """Let the bus tell who a caller is.

        Raises:
            Denied: it does not know, or does not answer in time.
        """
        if caller.uid is not None:
            return
        ask = self._bus.new_method_call_message(
            "org.freedesktop.DBus", "/org/freedesktop/DBus", "org.freedesktop.DBus", "GetConnectionCredentials"
        )
        ask.append_data("s", caller.unique)
        try:
            reply = await asyncio.wait_for(self._bus.call_async(ask), CREDENTIALS_S)
        except Exception as fault:
            self._known.pop(caller.unique, None)
            raise Denied("The bus did not say who calls, so nothing was done.") from fault
        found: dict[str, tuple[str, Any]] = reply.get_contents()  # type: ignore[assignment]
        caller.uid = int(found["UnixUserID"][1])
        caller.pid = int(found["ProcessID"][1]) if "ProcessID" in found else None

    def left(self, unique: str) -> Caller | None:
        """Note that a name has left the bus; return its caller if it had called."""
        caller = self._known.pop(unique, None)
        if caller is not None:
            caller.gone = True
        return caller

    def forget_grants(self) -> None:
        """Ask polkit anew from now on: its rules have changed."""
        for caller in self._known.values():
            caller.granted.clear()
            caller.series = frozenset()

    @property
    def present(self) -> int:
        """How many callers are on the bus."""
        return len(self._known)
