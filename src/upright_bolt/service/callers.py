"""Who calls, as the bus says and never the caller; and how much of the service one user may take up."""

import asyncio
from collections import Counter
from dataclasses import dataclass, field

from upright_bolt.errors import Denied
from upright_bolt.privileges import user_words
from upright_bolt.service.connection import BUS, BusFault, Connection
from upright_bolt.service.names import Action, TooMuch

PENDING_EACH = 16
"""Calls of one connection under way."""
PENDING_OF_USER = 64
"""The same over all connections of one user: their other programs shall get through as well."""
ENDING_EACH = 4
"""So many more may be under way of what ends something: a trial, a series, a run."""
CONNECTIONS_EACH = 32
MOST_CALLERS = 4096
"""Connections of all users together: a bound for memory, far above what a machine has users for."""
CREDENTIALS_S = 5.0


@dataclass(slots=True)
class Caller:
    """One connection to the bus.

    Attributes:
        unique: its name on the bus, which is never given to another.
        uid, pid: as the bus tells them; None until it has.
        gone: it has left the bus.
        pending: its calls under way.
        may_watch: polkit lets it watch, for as long as polkit's rules do not change.
        denied_until_s: until then it is not asked again whether it may watch.
        series: actions that were granted for the length of a series of trials, and whether a password was given.
    """

    unique: str
    uid: int | None = None
    pid: int | None = None
    gone: bool = False
    pending: int = 0
    may_watch: bool = False
    denied_until_s: float = 0.0
    series: dict[Action, bool] = field(default_factory=dict)

    @property
    def words(self) -> str:
        """Who it is, for records and sentences."""
        name = user_words(self.uid) if self.uid is not None else "?"
        return f"{name} (uid {self.uid}, process {self.pid})"


class Callers:
    """Everybody who has called and is still there.

    Args:
        bus: the service's connection.

    Attributes:
        calls: how many calls there have been.
    """

    def __init__(self, bus: Connection) -> None:
        self._bus = bus
        self._known: dict[str, Caller] = {}
        self._pending: Counter[int] = Counter()
        self._connections: Counter[int] = Counter()
        self._questions: dict[str, asyncio.Task[None]] = {}
        self.calls = 0

    def enter(self, unique: str, *, ends: bool) -> Caller:
        """Count a call in.

        Args:
            unique: the caller's name on the bus.
            ends: the call ends something, so it has room of its own.

        Raises:
            TooMuch: this user has too many calls under way.
            Denied: the bus did not say who calls.
        """
        if not unique:
            raise Denied("The bus did not say who calls.")
        caller = self._known.get(unique)
        if caller is None:
            if len(self._known) >= MOST_CALLERS:
                raise TooMuch("Too many programs are talking to the service; try again later.")
            caller = self._known[unique] = Caller(unique)
        # Whoever has filled the queue with other calls must still be able to revert.
        more = ENDING_EACH if ends else 0
        of_user = 0 if caller.uid is None else self._pending[caller.uid]
        if caller.pending >= PENDING_EACH + more or of_user >= PENDING_OF_USER + more:
            raise TooMuch(
                f"{max(caller.pending, of_user)} calls of this program or user are under way; wait for answers first."
            )
        caller.pending += 1
        if caller.uid is not None:
            self._pending[caller.uid] += 1
        self.calls += 1
        return caller

    def leave(self, caller: Caller) -> None:
        """Count a call out."""
        caller.pending -= 1
        if caller.uid is not None:
            self._pending[caller.uid] -= 1
            if not self._pending[caller.uid]:
                del self._pending[caller.uid]

    async def identify(self, caller: Caller) -> None:
        """Let the bus tell who a caller is; it is asked once for each connection.

        Raises:
            Denied: it does not know, or does not answer in time.
            TooMuch: this user has too many connections.
        """
        if caller.uid is not None:
            return
        asked = self._questions.get(caller.unique)
        if asked is None:
            asked = self._questions[caller.unique] = asyncio.create_task(self._ask_who(caller))
            asked.add_done_callback(lambda _: self._questions.pop(caller.unique, None))
        # Several calls of one connection wait for one answer; a call that is cancelled must not cancel it for the
        # others.
        await asyncio.shield(asked)

    async def _ask_who(self, caller: Caller) -> None:
        try:
            (found,) = await self._bus.call(
                BUS, "GetConnectionCredentials", "s", caller.unique, patience_s=CREDENTIALS_S
            )
            uid, pid = int(found["UnixUserID"][1]), int(found["ProcessID"][1])
        except (BusFault, TimeoutError, KeyError, ValueError) as fault:
            self._known.pop(caller.unique, None)
            raise Denied("The bus did not say who calls, so nothing was done.") from fault
        if self._connections[uid] >= CONNECTIONS_EACH:
            self._known.pop(caller.unique, None)
            raise TooMuch(f"{CONNECTIONS_EACH} programs of this user are talking to the service already.")
        caller.uid, caller.pid = uid, pid
        # Until now nobody knew to whom these calls belong.
        self._pending[uid] += caller.pending
        if caller.unique in self._known:
            self._connections[uid] += 1

    def left(self, unique: str) -> Caller | None:
        """Note that a name has left the bus; return its caller if it had called."""
        caller = self._known.pop(unique, None)
        if caller is not None:
            caller.gone = True
            if caller.uid is not None:
                self._connections[caller.uid] -= 1
                if self._connections[caller.uid] <= 0:
                    del self._connections[caller.uid]
        return caller

    def forget_grants(self) -> None:
        """Ask polkit anew from now on: its rules have changed. What was granted for a series is asked again too."""
        for caller in self._known.values():
            caller.may_watch = False
            caller.denied_until_s = 0.0
