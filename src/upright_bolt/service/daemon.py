"""The service's life: taking its name, watching over trials, ending when no caller needs it."""

import asyncio
import signal
import time
from collections.abc import Callable
from contextlib import suppress
from math import inf

from jeepney import DBusAddress, HeaderFields

from upright_bolt.errors import BoltError
from upright_bolt.model.change import ChangeKind
from upright_bolt.service import log
from upright_bolt.service.bus_interface import MOST_BYTES, BusInterface
from upright_bolt.service.callers import Callers
from upright_bolt.service.connection import BUS, BusFault, Connection, Incoming
from upright_bolt.service.enforcement_loop import EnforcementLoop
from upright_bolt.service.log import LOG
from upright_bolt.service.logind import LOGIN_MANAGER
from upright_bolt.service.names import BUS_NAME, POLKIT
from upright_bolt.service.rights import Rights
from upright_bolt.service.shared_machine import SharedMachine
from upright_bolt.settings.engine import SettingsEngine

IDLE_S = 60.0
BUS_EVERY_S, BUS_SELDOM_S = 20.0, 300.0
LEAST_S = 0.02
"""Between two looks, however many changes there are."""
BUS_ANSWER_S = 10.0
STOPS_S = 1.0
SYSTEMD = DBusAddress(
    "/org/freedesktop/systemd1", bus_name="org.freedesktop.systemd1", interface="org.freedesktop.DBus.Properties"
)
MANAGER = "org.freedesktop.systemd1.Manager"
DO_NOT_QUEUE = 4
IS_OWNER = 1


def serve(open_engine: Callable[[], SettingsEngine], idle_s: float = IDLE_S) -> None:
    """Serve the machine on the system bus until nobody has needed it for ``idle_s``, or a signal ends it.

    Raises:
        BoltError: there is no bus, or another service has the name.
    """
    log.start()
    asyncio.run(_serve(open_engine, idle_s))


async def _serve(open_engine: Callable[[], SettingsEngine], idle_s: float) -> None:
    bus = Connection(MOST_BYTES)
    await bus.open()
    machine = SharedMachine(open_engine, time.monotonic)
    callers, rights = Callers(bus), Rights(bus)
    interface = BusInterface(bus, machine, callers, rights)
    watch: _Watch | None = None
    try:
        bus.on_call = interface.take
        enforcement_loop = EnforcementLoop(interface, machine)
        watch = _Watch(callers, interface, machine, rights, enforcement_loop)
        bus.on_signal = watch.heard
        await watch.begin(bus)
        if await bus.call(BUS, "RequestName", "su", BUS_NAME, DO_NOT_QUEUE) != (IS_OWNER,):
            raise BoltError(f"The name {BUS_NAME} is taken: another service is running.")
        LOG.info("ready; %s", machine.about.identity.name)
        await _Life(bus, callers, interface, machine, idle_s).live(enforcement_loop)
    except BusFault as fault:
        raise BoltError(f"The name {BUS_NAME} cannot be had on the bus (root only). {fault}") from fault
    finally:
        if watch is not None and (watch.shutting_down or await _system_stops(bus)):
            with suppress(BoltError):
                await interface.do(machine.note_shutdown)
        trouble = interface.release()
        if trouble:
            LOG.error("%s", trouble)
        await bus.close()


class _Watch:
    """Hears of callers that leave, of changed rules, of sleep and of shutdown.

    Only the bus itself, polkit and the login manager are believed.

    Attributes:
        shutting_down: the login manager has told that the machine is about to shut down or restart.
    """

    def __init__(
        self,
        callers: Callers,
        interface: BusInterface,
        machine: SharedMachine,
        rights: Rights,
        enforcement_loop: EnforcementLoop,
    ) -> None:
        self._callers = callers
        self._interface = interface
        self._machine = machine
        self._rights = rights
        self._enforcement_loop = enforcement_loop
        self._polkit = self._login = ""
        self.shutting_down = False

    async def begin(self, bus: Connection) -> None:
        """Ask the bus for what is to be heard."""
        await bus.listen(f"type='signal',sender='{BUS.bus_name}',member='NameOwnerChanged'")
        await bus.listen(f"type='signal',sender='{POLKIT.bus_name}',interface='{POLKIT.interface}',member='Changed'")
        for member in ("PrepareForSleep", "PrepareForShutdown"):
            await bus.listen(f"type='signal',sender='{LOGIN_MANAGER.bus_name}',member='{member}'")
        self._polkit_is(await _owner(bus, str(POLKIT.bus_name)))
        self._login = await _owner(bus, str(LOGIN_MANAGER.bus_name))

    def heard(self, message: Incoming) -> None:
        """Take up a signal."""
        if message.sender == BUS.bus_name and message.member == "NameOwnerChanged" and message.signature == "sss":
            self._owner_changed(*message.contents())
        elif (
            message.sender == self._polkit
            and message.member == "Changed"
            and message.field(HeaderFields.interface) == POLKIT.interface
        ):
            self._rules_changed()
        elif message.sender == self._login and message.member == "PrepareForSleep" and message.signature == "b":
            (asleep,) = message.contents()
            self._enforcement_loop.notify(ChangeKind.SLEEP if asleep else ChangeKind.WAKE)
        elif message.sender == self._login and message.member == "PrepareForShutdown" and message.signature == "b":
            (self.shutting_down,) = message.contents()

    def _owner_changed(self, name: str, _old: str, new: str) -> None:
        if name == POLKIT.bus_name:
            self._polkit_is(new)
            self._rules_changed()
        if name == LOGIN_MANAGER.bus_name:
            self._login = new
        caller = None if new else self._callers.left(name)
        if caller is not None:
            self._enforcement_loop.later(lambda: self._machine.left(caller))
            self._interface.wake()

    def _polkit_is(self, owner: str) -> None:
        self._polkit, self._rights.polkit_runs = owner, bool(owner)

    def _rules_changed(self) -> None:
        self._rights.epoch += 1
        self._callers.forget_grants()


async def _system_stops(bus: Connection) -> bool:
    """Tell whether systemd is stopping the system, for a shutdown that the login manager did not announce."""
    with suppress(BoltError, TimeoutError, ValueError):
        answer = await bus.call(SYSTEMD, "Get", "ss", MANAGER, "SystemState", patience_s=STOPS_S)
        return bool(answer == (("s", "stopping"),))
    return False


async def _owner(bus: Connection, name: str) -> str:
    """Return who has a name on the bus; empty for nobody yet: the bus tells when somebody takes it."""
    with suppress(BusFault):
        return str((await bus.call(BUS, "GetNameOwner", "s", name))[0])
    return ""


class _Life:
    """The service from its start to its end. It wakes only when there is something to do."""

    def __init__(
        self, bus: Connection, callers: Callers, interface: BusInterface, machine: SharedMachine, idle_s: float
    ) -> None:
        self._bus = bus
        self._callers = callers
        self._interface = interface
        self._machine = machine
        self._idle_s = idle_s
        self._calls = self._asked_calls = 0
        self._active_s = self._asked_s = time.monotonic()

    async def live(self, enforcement_loop: EnforcementLoop) -> None:
        """Go on until a signal ends it, nobody needs it, or the bus has gone."""
        ended, changed = False, self._interface.changed
        loop = asyncio.get_running_loop()

        def end() -> None:
            nonlocal ended
            ended = True
            changed.set()

        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, end)
        while not ended:
            changed.clear()
            due_s = min(await enforcement_loop.reconcile(), self._idle_in_s(), self._bus_every_s)
            if due_s < 0.0 or await self._bus_gone():
                break
            with suppress(TimeoutError):
                await asyncio.wait_for(changed.wait(), max(due_s, LEAST_S))
        enforcement_loop.deaf()

    def _idle_in_s(self) -> float:
        """Return in how many seconds to see whether anybody needs the service; below 0 if nobody does."""
        now = time.monotonic()
        if self._callers.calls != self._calls or self._machine.holding:
            self._calls, self._active_s = self._callers.calls, now
        left_s = self._active_s + self._idle_s - now
        if left_s <= 0.0:
            LOG.info("nobody has called for %.0f s and nothing is held; ending", self._idle_s)
            return -1.0
        return inf if self._machine.holding else left_s

    @property
    def _bus_every_s(self) -> float:
        """How often to ask whether the bus is there: seldom while nobody calls, since that wakes the processor."""
        return BUS_EVERY_S if self._callers.calls != self._asked_calls else BUS_SELDOM_S

    async def _bus_gone(self) -> bool:
        now = time.monotonic()
        if now - self._asked_s >= self._bus_every_s:
            self._asked_s, self._asked_calls = now, self._callers.calls
            try:
                await self._bus.call(BUS, "GetId", patience_s=BUS_ANSWER_S)
            except (BoltError, TimeoutError):
                self._bus.over.set()
        if self._bus.over.is_set():
            LOG.warning("the bus has gone; ending")
            return True
        return False
