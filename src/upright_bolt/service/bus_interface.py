"""The interface on the bus: checks what comes in, asks for rights, and hands over to the machine, one call at a time.

``docs/service.md`` documents the methods one by one.
"""

import asyncio
from collections.abc import Callable, Mapping
from time import monotonic
from typing import Any, TypeVar

from jeepney import HeaderFields

from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model.trial import ApplyReport
from upright_bolt.service.callers import Caller, Callers
from upright_bolt.service.connection import Connection, Incoming
from upright_bolt.service.log import LOG, RefusalLog
from upright_bolt.service.machine_thread import FIRST, IN_TURN, MachineThread
from upright_bolt.service.names import FAILED, INTERFACE, PATH, Action, name_of
from upright_bolt.service.rights import ROUNDS, Grant, Rights
from upright_bolt.service.shared_machine import SharedMachine
from upright_bolt.service.verbs import (
    BEGIN_RUN,
    BEGIN_SERIES,
    BY_NAME,
    END_RUN,
    END_SERIES,
    Need,
    Open,
    Verb,
    description,
    to_set,
)

MOST_BYTES = 16 << 10
"""Of one call: setting every control of a large machine takes a tenth of that."""
UNKNOWN_METHOD = "org.freedesktop.DBus.Error.UnknownMethod"
INVALID_ARGS = "org.freedesktop.DBus.Error.InvalidArgs"
T = TypeVar("T")
Arguments = Mapping[str, Any]


class _Stale(Exception):
    """What a right was granted for has changed before it was done."""


class BusInterface:
    """Verbs and signals of the service on the bus.

    Args:
        bus: the service's connection.
        machine: holds the machine.
        callers: everybody who calls.
        rights: decides who may do what.

    Attributes:
        machine: as given.
        changed: set when something has happened that may call for a profile, or when the service is to end.
        changed_lately: the same, until somebody has seen to it.
    """

    def __init__(self, bus: Connection, machine: SharedMachine, callers: Callers, rights: Rights) -> None:
        self._bus = bus
        self.machine = machine
        self._callers = callers
        self._rights = rights
        self._thread = MachineThread()
        self._refusals = RefusalLog()
        self.changed = asyncio.Event()
        self.changed_lately = True
        self._tasks: set[asyncio.Task[None]] = set()
        self._of_caller = {
            BEGIN_SERIES: self._begin_series, END_SERIES: self._end_series,
            BEGIN_RUN: self._begin_run, END_RUN: self._end_run,
        }  # fmt: skip
        """What is about the caller more than about the machine."""

    def take(self, call: Incoming) -> None:
        """Take up a call that has come in."""
        interface = call.field(HeaderFields.interface)
        if interface.startswith("org.freedesktop.DBus."):
            self._take_common(call, interface.rpartition(".")[2])
            return
        found = BY_NAME.get(call.member) if interface in ("", INTERFACE) else None
        if found is None or not found.on_bus or call.field(HeaderFields.path) != PATH:
            self._bus.refuse(call, UNKNOWN_METHOD, f"{INTERFACE} at {PATH} has no such method.")
            return
        # Before anything is decoded: what does not have the form of a call is not looked into.
        if call.signature != found.signature:
            self._bus.refuse(call, INVALID_ARGS, f"{found.name} takes arguments of the form “{found.signature}”.")
            return
        try:
            caller = self._callers.enter(call.sender, ends=found.ends)
        except BoltError as fault:
            self._bus.refuse(call, name_of(fault), str(fault))
            return
        task = asyncio.get_running_loop().create_task(self._serve(found, call, caller))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    def _take_common(self, call: Incoming, what: str) -> None:
        if (what, call.member) == ("Introspectable", "Introspect"):
            self._bus.answer(call, "s", description())
        elif (what, call.member) == ("Peer", "Ping"):
            self._bus.answer(call, "")
        else:
            self._bus.refuse(call, UNKNOWN_METHOD, "There is no such method.")

    async def _serve(self, found: Verb, call: Incoming, caller: Caller) -> None:
        try:
            # Who calls is what the bus says, never what the call says.
            await self._callers.identify(caller)
            if not (found.open_to is Open.EVERYBODY or (found.open_to is Open.OWNER and self.machine.is_owner(caller))):
                await self._rights.need(caller, Action.WATCH, interactive=False)
            answer = await self._answer(found, caller, call.contents())
            self._bus.answer(call, found.gives.signature, *answer)
        except BoltError as fault:
            self._refusals.note(caller.uid, monotonic(), f"{caller.words} was refused {found.name}: {fault}")
            self._bus.refuse(call, name_of(fault), str(fault))
        except Exception:  # noqa: BLE001 - whatever it is, the service goes on
            LOG.exception("%s of %s failed", found.name, caller.words)
            self._bus.refuse(
                call, FAILED, "The service failed at this call; its log says at what. “status” tells what is in force."
            )
        finally:
            self._callers.leave(caller)

    async def _answer(self, verb: Verb, caller: Caller, data: tuple[Any, ...]) -> tuple[Any, ...]:
        may_ask = verb.asks and bool(data[-1])
        arguments = verb.unpacked(data[: len(verb.takes)])
        own = self._of_caller.get(verb)
        if own is not None:
            await own(caller, arguments, may_ask)
            return ()

        def work() -> tuple[Any, tuple[Any, ...]]:
            done = self.machine.perform(verb, caller, arguments)
            return done, verb.gives.pack(done)

        # What ends something goes before what waits, so that reverting is never stuck behind a queue of other calls.
        if verb.need is None:
            done, answer = await self.do(work, FIRST if verb.ends else IN_TURN)
        else:
            done, answer = await self._with_right(caller, verb.need, arguments, work, interactive=may_ask)
        if verb.tells and not (isinstance(done, ApplyReport) and not done.ok):
            self.tell(verb.tells, caller)
        return answer

    async def _begin_series(self, caller: Caller, arguments: Arguments, may_ask: bool) -> None:  # noqa: FBT001
        """Let the right to set some controls be asked for once, now.

        It lasts until ``EndSeries``, until the caller leaves the bus, or until the right is withdrawn. A control of
        higher risk is asked for all the same.
        """
        action, names = to_set(self.machine, arguments)
        await self._rights.begin_series(caller, action, interactive=may_ask)
        LOG.info("%s begins a series of trials of %s", caller.words, ", ".join(names))

    async def _end_series(self, caller: Caller, _: Arguments, _may_ask: bool) -> None:  # noqa: FBT001
        caller.series = {}

    async def _begin_run(self, caller: Caller, arguments: Arguments, _may_ask: bool) -> None:  # noqa: FBT001
        """Let nobody else begin a run on this machine until it ends, or the caller leaves the bus.

        Enforcement waits for the end of the run if the caller may change settings; otherwise it goes on.
        """
        may_set = await self._rights.has(caller, Action.SET)
        await self.do(lambda: self.machine.begin_run(caller, arguments["what"], may_set=may_set))

    async def _end_run(self, caller: Caller, _: Arguments, _may_ask: bool) -> None:  # noqa: FBT001
        await self.do(lambda: self.machine.end_run(caller), FIRST)
        self.wake()

    async def _with_right(
        self, caller: Caller, need: Need, arguments: Arguments, work: Callable[[], T], *, interactive: bool
    ) -> T:
        """Do something in the machine's thread for which a right is needed that still holds at that moment.

        Raises Denied, TooMuch, BadInput if what it is about has changed meanwhile, or what ``work`` raises.
        """
        wanted = await self.do(lambda: need(self.machine, arguments))

        def work_if_granted(epoch: int) -> T:
            """Do the work if it is still what was granted. Raises BadInput if not."""
            # Looked at in the machine's thread, right before the work: nothing can come in between any more.
            if epoch != self._rights.epoch or caller.gone:
                raise _Stale
            if need(self.machine, arguments) != wanted:
                raise BadInput(
                    "The trial has ended, or was widened, while the right was asked for. Nothing was changed."
                )
            return work()

        grant: Grant | None = None
        for _ in range(ROUNDS):
            grant = await self._rights.need(caller, wanted[0], interactive=interactive, earlier=grant)
            try:
                return await self.do(lambda epoch=grant.epoch: work_if_granted(epoch))  # type: ignore[misc]
            except _Stale:
                continue
        raise BoltError("The rules about rights change again and again; nothing was changed. Try again.")

    def wake(self) -> None:
        """Let it be seen to at once what has happened."""
        self.changed_lately = True
        self.changed.set()

    def tell_of_own(self, what: str, who: str) -> None:
        """Tell of something that the service has done by itself: ``put back`` the trial of ``who``, or ``profiles``."""
        self._bus.signal(PATH, INTERFACE, "Changed", "ssu", what, who, 0)

    def tell(self, what: str, caller: Caller) -> None:
        """Tell everybody who listens that a caller has done something."""
        self.wake()
        self._bus.signal(PATH, INTERFACE, "Changed", "ssu", what, caller.words, caller.pid or 0)

    async def do(self, work: Callable[[], T], order: int = IN_TURN) -> T:
        """Do ``work`` in the one thread that has the machine."""
        return await self._thread.do(work, order)

    def release(self) -> str:
        """End the thread, then let the machine go; return what went wrong."""
        self._thread.end()
        return self.machine.close()
