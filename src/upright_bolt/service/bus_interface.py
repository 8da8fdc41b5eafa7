"""The interface on the bus: checks what comes in, asks for rights, and hands over to the machine, one call at a time.

``docs/service.md`` documents the methods one by one.
"""

import asyncio
from collections.abc import Callable, Iterable, Mapping
from math import nan
from time import monotonic
from typing import Any, TypeVar

from jeepney import HeaderFields

from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model.catalogue import CATALOGUE, declaration_of
from upright_bolt.model.settings import settings_from_data
from upright_bolt.service import profile_methods as _profile_methods  # noqa: F401 - offers its methods
from upright_bolt.service import wire
from upright_bolt.service.callers import Caller, Callers
from upright_bolt.service.connection import Connection, Incoming
from upright_bolt.service.log import LOG, RefusalLog
from upright_bolt.service.machine_thread import FIRST, IN_TURN, MachineThread
from upright_bolt.service.methods import METHODS, Method, description, method
from upright_bolt.service.names import FAILED, INTERFACE, PATH, Action, name_of
from upright_bolt.service.rights import ROUNDS, Grant, Rights
from upright_bolt.service.shared_machine import SharedMachine

MOST_BYTES = 16 << 10
"""Of one call: setting every control of a large machine takes a tenth of that."""
MOST_SETTINGS = 4 * len(CATALOGUE)
"""Settings in one call: a machine with several graphics chips has more than the catalogue has entries."""
LONGEST_NAME = 128
UNKNOWN_METHOD = "org.freedesktop.DBus.Error.UnknownMethod"
INVALID_ARGS = "org.freedesktop.DBus.Error.InvalidArgs"
T = TypeVar("T")
Result = tuple[Any, ...]


class _Stale(Exception):
    """What a right was granted for has changed before it was done."""


class BusInterface:
    """Methods and signals of the service; those about profiles are in ``profile_methods``.

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

    def take(self, call: Incoming) -> None:
        """Take up a call that has come in."""
        interface = call.field(HeaderFields.interface)
        if interface.startswith("org.freedesktop.DBus."):
            self._take_common(call, interface.rpartition(".")[2])
            return
        found = METHODS.get(call.member) if interface in ("", INTERFACE) else None
        if found is None or call.field(HeaderFields.path) != PATH:
            self._bus.refuse(call, UNKNOWN_METHOD, f"{INTERFACE} at {PATH} has no such method.")
            return
        if call.signature != found.takes:
            self._bus.refuse(call, INVALID_ARGS, f"{found.name} takes arguments of the form “{found.takes}”.")
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

    async def _serve(self, found: Method, call: Incoming, caller: Caller) -> None:
        try:
            await self._callers.identify(caller)
            if not found.free:
                await self._rights.need(caller, Action.WATCH, interactive=False)
            answer = await found.run(self, caller, *call.contents())
            self._bus.answer(call, found.gives, *answer)
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

    @method("Describe", gives=("s", "description"))
    async def describe(self, _caller: Caller) -> Result:
        """Return what does not change about the machine, as JSON."""
        return (await self.do(lambda: wire.describe(self.machine.about, self.machine.recovered)),)

    @method("Controls", gives=("s", "controls"))
    async def controls(self, _caller: Caller) -> Result:
        """Return every control as it stands, as JSON."""
        return (await self.do(lambda: wire.controls(self.machine.controls())),)

    @method("Sample", gives=("dadsas", "time_s values held_by kinds_held_by"))
    async def sample(self, _caller: Caller) -> Result:
        """Return time in s (monotonic), a number per sensor (NaN: not measured), and what holds the clock back.

        The last list tells what holds each kind of core, where there are several.
        """
        taken = await self.do(self.machine.sample)
        numbers = [nan if value is None else value for value in taken.values]
        return taken.time_s, numbers, taken.constraint.value, [held.value for held in taken.kinds]

    @method("Status", gives=("s", "status"))
    async def status(self, _caller: Caller) -> Result:
        """Return the trial, what was kept and what no longer holds, as JSON."""
        return (await self.do(lambda: wire.status(self.machine.status(), self.machine.about.survey)),)

    @method("Apply", ("a{sv}bb", "settings standing may_ask"), ("s", "report"))
    async def apply(
        self,
        caller: Caller,
        asked: dict[str, tuple[str, Any]],
        standing: bool,  # noqa: FBT001
        interactive: bool,  # noqa: FBT001
    ) -> Result:
        """Put settings in force as a trial of the caller; return the report as JSON."""
        settings = _settings(asked)
        done = await self.with_right(
            caller,
            _action(settings),
            lambda: self.machine.apply(caller, settings, standing=standing),
            interactive=interactive,
        )
        if done.ok:
            self.tell("tried", caller)
        return (wire.report(done),)

    @method("Keep", ("b", "may_ask"), ("s", "trial"))
    async def keep(self, caller: Caller, interactive: bool) -> Result:  # noqa: FBT001
        """Keep what the caller's trial has put in force; return the trial as JSON."""
        tried = await self.do(lambda: self.machine.tried)

        def kept() -> str:
            """Keep what was asked about. Raises BadInput if that has changed."""
            if self.machine.tried != tried:
                raise BadInput("The trial has ended, or was widened, while the right to keep it was asked for.")
            return wire.trial(self.machine.keep(caller))

        answer = await self.with_right(caller, _action(tried), kept, interactive=interactive)
        self.tell("kept", caller)
        return (answer,)

    @method("PutBack", gives=("s", "trial"), ends=True, free=True)
    async def put_back(self, caller: Caller) -> Result:
        """Put back what was before the caller's trial; return the trial as JSON.

        Whoever has begun the trial may end it, whatever polkit says or whether it answers.
        """
        if not self.machine.is_owner(caller):
            await self._rights.need(caller, Action.WATCH, interactive=False)
        done = await self.do(lambda: self.machine.put_back(caller), FIRST)
        self.tell("put back", caller)
        return (wire.trial(done),)

    @method("ToStock", ("asb", "controls may_ask"), ("s", "trial"))
    async def to_stock(self, caller: Caller, names: list[str], interactive: bool) -> Result:  # noqa: FBT001
        """Put the machine's own values in force, of all controls if none is named; return what holds now as JSON.

        It needs the right to set what it changes.
        """
        wanted = _names(names)
        touched = wanted or await self.do(lambda: self.machine.changed)
        done = await self.with_right(
            caller, _action(touched), lambda: self.machine.to_stock(caller, wanted), interactive=interactive
        )
        self.tell("put back", caller)
        return (wire.trial(done),)

    @method("BeginSeries", ("asb", "controls may_ask"))
    async def begin_series(self, caller: Caller, names: list[str], interactive: bool) -> Result:  # noqa: FBT001
        """Announce several trials of some controls: the right to set them is asked for once, now.

        It lasts until ``EndSeries``, until the caller leaves the bus, or until the right is withdrawn. A control of
        higher risk is asked for all the same.
        """
        await self._rights.begin_series(caller, _action(_names(names)), interactive=interactive)
        LOG.info("%s begins a series of trials of %s", caller.words, ", ".join(names))
        return ()

    @method("EndSeries", ends=True, free=True)
    async def end_series(self, caller: Caller) -> Result:
        """End the series that the caller has begun; without one, nothing happens."""
        caller.series = {}
        return ()

    @method("BeginRun", ("s", "what"))
    async def begin_run(self, caller: Caller, what: str) -> Result:
        """Announce a run: until it ends, or the caller leaves the bus, nobody else can begin one on this machine.

        Enforcement waits for the end of the run if the caller may change settings; otherwise it goes on.
        Raises BadInput or InUse.
        """
        if not 0 < len(what) <= LONGEST_NAME or not what.isprintable():
            raise BadInput(f"A run is announced by a word of up to {LONGEST_NAME} characters.")
        may_set = await self._rights.has(caller, Action.SET)
        await self.do(lambda: self.machine.begin_run(caller, what, may_set=may_set))
        return ()

    @method("EndRun", ends=True, free=True)
    async def end_run(self, caller: Caller) -> Result:
        """End the run that the caller has begun; without one, nothing happens."""
        await self.do(lambda: self.machine.end_run(caller), FIRST)
        self.wake()
        return ()

    async def with_right(self, caller: Caller, action: Action, work: Callable[[], T], *, interactive: bool) -> T:
        """Do something in the machine's thread for which a right is needed that still holds at that moment.

        Raises Denied, TooMuch, or what ``work`` raises.
        """

        def done(epoch: int) -> T:
            if epoch != self._rights.epoch or caller.gone:
                raise _Stale
            return work()

        grant: Grant | None = None
        for _ in range(ROUNDS):
            grant = await self._rights.need(caller, action, interactive=interactive, earlier=grant)
            try:
                return await self.do(lambda epoch=grant.epoch: done(epoch))  # type: ignore[misc]
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

    def let_go(self) -> str:
        """End the thread, then let the machine go; return what went wrong."""
        self._thread.end()
        return self.machine.close()


def _settings(asked: Mapping[str, tuple[str, Any]]) -> dict[str, float | str]:
    """Return the settings of a call. Raises BadInput."""
    _names(asked)
    for name, (form, _) in asked.items():
        if form not in ("d", "s"):
            raise BadInput(f"{name}: a value is a number (d) or a word (s), not of the form “{form[:16]}”.")
    return settings_from_data({name: value for name, (_, value) in asked.items()})


def _names(asked: Iterable[str]) -> tuple[str, ...]:
    """Return the names of a call. Raises BadInput if there are too many, NotHere for one that does not exist."""
    names = tuple(asked)
    if len(names) > MOST_SETTINGS:
        raise BadInput(f"{len(names)} settings were given; at most {MOST_SETTINGS} can be set at once.")
    for name in names:
        if len(name) > LONGEST_NAME:
            raise BadInput(f"A name of {len(name)} characters is none of a control; “{name[:32]}…” was given.")
        declaration_of(name)
    return names


def _action(names: Iterable[str]) -> Action:
    return Action.SET_RISKY if any(declaration_of(name).risky for name in names) else Action.SET
