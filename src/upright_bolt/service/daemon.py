"""The service's life: taking its name, watching over trials, ending when no caller needs it."""

import asyncio
import signal
import time
from collections.abc import Callable
from contextlib import suppress

from jeepney import HeaderFields

from upright_bolt.errors import BoltError
from upright_bolt.service import log
from upright_bolt.service.bus_interface import MOST_BYTES, BusInterface
from upright_bolt.service.callers import Callers
from upright_bolt.service.connection import BUS, BusFault, Connection, Incoming
from upright_bolt.service.log import LOG
from upright_bolt.service.names import BUS_NAME, POLKIT
from upright_bolt.service.rights import Rights
from upright_bolt.service.shared_machine import SharedMachine
from upright_bolt.settings.engine import SettingsEngine

IDLE_S = 60.0
TEND_S = 0.5
BUS_EVERY_S = 20.0
BUS_ANSWER_S = 10.0
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
    try:
        bus.on_call = interface.take
        watch = _Watch(callers, interface, machine, rights)
        bus.on_signal = watch.heard
        await watch.begin(bus)
        if await bus.call(BUS, "RequestName", "su", BUS_NAME, DO_NOT_QUEUE) != (IS_OWNER,):
            raise BoltError(f"The name {BUS_NAME} is taken: another service is running.")
        LOG.info("ready; %s", machine.about.identity.name)
        await _live(bus, callers, interface, machine, idle_s)
    except BusFault as fault:
        raise BoltError(f"The name {BUS_NAME} cannot be had on the bus (root only). {fault}") from fault
    finally:
        trouble = interface.let_go()
        if trouble:
            LOG.error("%s", trouble)
        await bus.close()


class _Watch:
    """Hears of callers that leave, and of changed rules. Only the bus itself and polkit are believed."""

    def __init__(self, callers: Callers, interface: BusInterface, machine: SharedMachine, rights: Rights) -> None:
        self._callers = callers
        self._interface = interface
        self._machine = machine
        self._rights = rights
        self._polkit = ""
        self._tasks: set[asyncio.Task[None]] = set()

    async def begin(self, bus: Connection) -> None:
        """Ask the bus for what is to be heard."""
        await bus.listen(f"type='signal',sender='{BUS.bus_name}',member='NameOwnerChanged'")
        await bus.listen(f"type='signal',sender='{POLKIT.bus_name}',interface='{POLKIT.interface}',member='Changed'")
        with suppress(BusFault):  # it is not running yet; the bus tells when it is
            self._polkit = (await bus.call(BUS, "GetNameOwner", "s", POLKIT.bus_name))[0]

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

    def _owner_changed(self, name: str, _old: str, new: str) -> None:
        if name == POLKIT.bus_name:
            self._polkit = new
            self._rules_changed()
        caller = None if new else self._callers.left(name)
        if caller is not None:
            task = asyncio.get_running_loop().create_task(self._interface.do(lambda: self._machine.left(caller)))
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)

    def _rules_changed(self) -> None:
        self._rights.epoch += 1
        self._callers.forget_grants()


async def _live(
    bus: Connection, callers: Callers, interface: BusInterface, machine: SharedMachine, idle_s: float
) -> None:
    ended = asyncio.Event()
    loop = asyncio.get_running_loop()
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, ended.set)
    calls, active_s, asked_s = 0, time.monotonic(), time.monotonic()
    while not ended.is_set():
        with suppress(TimeoutError):
            await asyncio.wait_for(ended.wait(), TEND_S)
        now = time.monotonic()
        put_back = await interface.do(machine.end_orphaned)
        if put_back is not None:
            interface.tell_put_back(put_back.by)
        if callers.calls != calls or machine.holding:
            calls, active_s = callers.calls, now
        elif now - active_s >= idle_s:
            LOG.info("nobody has called for %.0f s and nothing is held; ending", idle_s)
            return
        if now - asked_s >= BUS_EVERY_S:
            asked_s = now
            with suppress(BoltError, TimeoutError):
                await bus.call(BUS, "GetId", patience_s=BUS_ANSWER_S)
                continue
            bus.over.set()
        if bus.over.is_set():
            LOG.warning("the bus has gone; ending")
            return
