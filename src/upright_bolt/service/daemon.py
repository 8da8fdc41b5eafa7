"""The service's life: taking its name, watching over trials, ending when no caller needs it."""

import asyncio
import logging
import signal
import sys
import time
from collections.abc import Callable
from contextlib import suppress

from sdbus import SdBus, sd_bus_open_system
from sdbus.sd_bus_internals import SdBusMessage, SdBusSlot

from upright_bolt.errors import BoltError
from upright_bolt.service.bus_interface import BusInterface
from upright_bolt.service.callers import Callers
from upright_bolt.service.names import BUS_NAME, PATH
from upright_bolt.service.rights import PERSON_S, POLKIT, Rights
from upright_bolt.service.shared_machine import SharedMachine
from upright_bolt.settings.engine import SettingsEngine

IDLE_S = 60.0
TEND_S = 0.5
BUS_EVERY_S = 20.0
BUS_ANSWER_S = 10.0
DO_NOT_QUEUE = 4
LOG = logging.getLogger("upright-bolt")
BUS = ("org.freedesktop.DBus", "/org/freedesktop/DBus", "org.freedesktop.DBus")


def serve(open_engine: Callable[[], SettingsEngine], idle_s: float = IDLE_S) -> None:
    """Serve the machine on the system bus until nobody has needed it for ``idle_s``, or a signal ends it.

    Raises:
        BoltError: there is no bus, or another service has the name.
    """
    logging.basicConfig(stream=sys.stderr, level=logging.INFO, format="%(levelname)s: %(message)s")
    asyncio.run(_serve(open_engine, idle_s))


async def _serve(open_engine: Callable[[], SettingsEngine], idle_s: float) -> None:
    try:
        bus = sd_bus_open_system()
    except Exception as fault:
        raise BoltError(f"The system bus cannot be reached: {fault}.") from fault
    bus.method_call_timeout_usec = int((PERSON_S + 10.0) * 1e6)
    machine = SharedMachine(open_engine, time.monotonic)
    callers = Callers(bus)
    interface = BusInterface(machine, callers, Rights(bus))
    try:
        interface.export_to_dbus(PATH, bus)
        heard = await _watch(bus, callers, interface, machine)  # a match ends with its slot
        try:
            await bus.request_name_async(BUS_NAME, DO_NOT_QUEUE)
        except Exception as fault:
            raise BoltError(f"The name {BUS_NAME} cannot be had on the bus (root only, one service only).") from fault
        LOG.info("ready; %s", machine.about.identity.name)
        await _live(bus, callers, interface, machine, idle_s)
        del heard
    finally:
        trouble = interface.let_go()
        if trouble:
            LOG.error(trouble)
        bus.close()


async def _watch(bus: SdBus, callers: Callers, interface: BusInterface, machine: SharedMachine) -> list[SdBusSlot]:
    """Hear of callers that leave, and of changed rules, for as long as the slots returned live."""

    def owner_changed(message: SdBusMessage) -> None:
        name, _, new = message.get_contents()
        caller = None if new else callers.left(str(name))
        if caller is not None:
            asyncio.get_running_loop().create_task(interface.do(lambda: machine.left(caller)))

    def rules_changed(_message: SdBusMessage) -> None:
        callers.forget_grants()

    return [
        await bus.match_signal_async(*BUS, "NameOwnerChanged", owner_changed),
        await bus.match_signal_async(None, POLKIT[1], POLKIT[2], "Changed", rules_changed),
    ]


async def _live(bus: SdBus, callers: Callers, interface: BusInterface, machine: SharedMachine, idle_s: float) -> None:
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
            if not await _bus_lives(bus):
                LOG.warning("the bus has gone; ending")
                return


async def _bus_lives(bus: SdBus) -> bool:
    try:
        await asyncio.wait_for(bus.call_async(bus.new_method_call_message(*BUS, "GetId")), BUS_ANSWER_S)
    except Exception:  # noqa: BLE001 - whatever it is, nobody can access the service any more
        return False
    return True
