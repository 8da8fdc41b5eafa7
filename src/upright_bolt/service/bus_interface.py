"""The interface on the bus: checks what comes in, asks for rights, and hands over to the machine, one call at a time.

Each method is described to the bus with the names of its arguments; ``docs/service.md`` documents them one by one.
"""

import asyncio
import logging
from collections.abc import AsyncIterator, Callable, Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import asynccontextmanager
from math import nan
from typing import Any, TypeVar

from sdbus import (
    DbusFailedError,
    DbusInterfaceCommonAsync,
    DbusLimitsExceededError,
    DbusUnprivilegedFlag,
    dbus_method_async,
    dbus_signal_async,
    get_current_message,
)

from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model.catalogue import CATALOGUE, declaration_of
from upright_bolt.model.sample import Sample
from upright_bolt.model.settings import settings_from_data
from upright_bolt.service import wire
from upright_bolt.service.callers import Caller, Callers
from upright_bolt.service.names import INTERFACE, Action
from upright_bolt.service.rights import Rights
from upright_bolt.service.shared_machine import SharedMachine

LOG = logging.getLogger("upright-bolt")
REFUSALS_LOGGED = 20
"""Refused calls of one caller that are logged; a hostile one shall not fill the journal."""
MOST_SETTINGS = 4 * len(CATALOGUE)
"""Settings in one call: a machine with several graphics chips has more than the catalogue has entries."""
T = TypeVar("T")


class BusInterface(DbusInterfaceCommonAsync, interface_name=INTERFACE):
    """Methods and signals of the service.

    Args:
        machine: holds the machine.
        callers: everybody who calls.
        rights: decides who may do what.
    """

    def __init__(self, machine: SharedMachine, callers: Callers, rights: Rights) -> None:
        super().__init__()
        self._machine = machine
        self._callers = callers
        self._rights = rights
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="machine")

    @dbus_method_async(
        result_signature="s",
        result_args_names=("description",),
        flags=DbusUnprivilegedFlag,
        method_name="Describe",
    )
    async def describe(self) -> str:
        """Return what does not change about the machine, as JSON."""
        async with self._turn(Action.WATCH):
            return await self.do(lambda: wire.describe(self._machine.about, self._machine.recovered))

    @dbus_method_async(
        result_signature="s",
        result_args_names=("controls",),
        flags=DbusUnprivilegedFlag,
        method_name="Controls",
    )
    async def controls(self) -> str:
        """Return every control as it stands, as JSON."""
        async with self._turn(Action.WATCH):
            return await self.do(lambda: wire.controls(self._machine.controls()))

    @dbus_method_async(
        result_signature="dadsas",
        result_args_names=("time_s", "values", "held_by", "kinds_held_by"),
        flags=DbusUnprivilegedFlag,
        method_name="Sample",
    )
    async def sample(self) -> tuple[float, list[float], str, list[str]]:
        """Return time in s (monotonic), a number per sensor (NaN: not measured), and what holds the clock back.

        The last list tells what holds each kind of core, where there are several.
        """
        async with self._turn(Action.WATCH):
            taken: Sample = await self.do(self._machine.sample)
        numbers = [nan if value is None else value for value in taken.values]
        return taken.time_s, numbers, taken.constraint.value, [held.value for held in taken.kinds]

    @dbus_method_async(
        result_signature="s",
        result_args_names=("status",),
        flags=DbusUnprivilegedFlag,
        method_name="Status",
    )
    async def status(self) -> str:
        """Return the trial, what was kept and what no longer holds, as JSON."""
        async with self._turn(Action.WATCH):
            return await self.do(lambda: wire.status(self._machine.status()))

    @dbus_method_async(
        "a{sv}bb",
        "s",
        input_args_names=("settings", "standing", "may_ask"),
        result_args_names=("report",),
        flags=DbusUnprivilegedFlag,
        method_name="Apply",
    )
    async def apply(self, asked: dict[str, tuple[str, Any]], standing: bool, interactive: bool) -> str:  # noqa: FBT001
        """Put settings in force as a trial of the caller; return the report as JSON."""
        async with self._turn(None) as caller:
            settings = _settings(asked)
            await self._rights.need(caller, _action(settings), interactive=interactive)
            done = await self.do(lambda: self._machine.apply(caller, settings, standing=standing))
            if done.ok:
                self._tell("tried", caller)
            return wire.report(done)

    @dbus_method_async(
        "b",
        "s",
        input_args_names=("may_ask",),
        result_args_names=("trial",),
        flags=DbusUnprivilegedFlag,
        method_name="Keep",
    )
    async def keep(self, interactive: bool) -> str:  # noqa: FBT001
        """Keep what the caller's trial has put in force; return the trial as JSON."""
        async with self._turn(None) as caller:
            tried = await self.do(lambda: tuple(trial.settings) if (trial := self._machine.trial) is not None else ())
            await self._rights.need(caller, _action(tried), interactive=interactive)
            done = await self.do(lambda: self._machine.keep(caller))
            self._tell("kept", caller)
            return wire.trial(done)

    @dbus_method_async(
        "",
        "s",
        result_args_names=("trial",),
        flags=DbusUnprivilegedFlag,
        method_name="PutBack",
    )
    async def put_back(self) -> str:
        """Put back what was before the caller's trial; return the trial as JSON.

        Needs no more than the right to watch: the way back must never stand behind a password.
        """
        async with self._turn(Action.WATCH) as caller:
            done = await self.do(lambda: self._machine.put_back(caller))
            self._tell("put back", caller)
            return wire.trial(done)

    @dbus_method_async(
        "asb",
        input_args_names=("controls", "may_ask"),
        flags=DbusUnprivilegedFlag,
        method_name="BeginSeries",
    )
    async def begin_series(self, names: list[str], interactive: bool) -> None:  # noqa: FBT001
        """Announce several trials of some controls: the right to set them is asked for once, now.

        It lasts until ``EndSeries``, until the caller leaves the bus, or until polkit's rules change. A control of
        higher risk is asked for all the same.
        """
        async with self._turn(None) as caller:
            action = _action(_names(names))
            await self._rights.need(caller, action, interactive=interactive)
            caller.series = frozenset({action, Action.SET})
            LOG.info("%s begins a series of trials of %s", caller.words, ", ".join(names))

    @dbus_method_async("", flags=DbusUnprivilegedFlag, method_name="EndSeries")
    async def end_series(self) -> None:
        """End the series that the caller has begun; without one, nothing happens."""
        async with self._turn(None) as caller:
            caller.series = frozenset()

    @dbus_signal_async("ssu", signal_args_names=("what", "who", "process"), signal_name="Changed")
    def changed(self) -> tuple[str, str, int]:
        """Tell what has happened (tried, kept, put back), who did it, and that program's process (0: the service)."""
        raise NotImplementedError

    def _tell(self, what: str, caller: Caller) -> None:
        self.changed.emit((what, caller.words, caller.pid or 0))

    def tell_put_back(self, by: str) -> None:
        """Tell that the service itself has put back the trial of ``by``."""
        self.changed.emit(("put back", by, 0))

    async def do(self, work: Callable[[], T]) -> T:
        """Do ``work`` in the one thread that has the machine."""
        return await asyncio.get_running_loop().run_in_executor(self._thread, work)

    def let_go(self) -> str:
        """End the thread, then let the machine go; return what went wrong."""
        self._thread.shutdown(wait=True)
        return self._machine.close()

    @asynccontextmanager
    async def _turn(self, action: Action | None) -> AsyncIterator[Caller]:
        message = get_current_message()
        caller = self._callers.enter(message.sender)
        try:
            await self._callers.identify(caller)
            if action is not None:
                await self._rights.need(caller, action, interactive=False)
            yield caller
        except (BoltError, DbusLimitsExceededError) as fault:
            _log_refusal(caller, message.member, fault)
            raise
        except Exception as fault:
            LOG.exception("%s of %s failed", message.member, caller.words)
            raise DbusFailedError("The service failed at this call; its log says at what. Nothing was kept.") from fault
        finally:
            self._callers.leave(caller)


def _log_refusal(caller: Caller, member: str | None, fault: Exception) -> None:
    caller.refusals += 1
    if caller.refusals <= REFUSALS_LOGGED:
        LOG.info("%s was refused %s: %s", caller.words, member, str(fault)[:300])
    if caller.refusals == REFUSALS_LOGGED:
        LOG.warning("%s is refused again and again; its further refusals are not logged", caller.words)


def _settings(asked: Mapping[str, tuple[str, Any]]) -> dict[str, float | str]:
    """Return the settings of a call. Raises BadInput."""
    _names(asked)
    for name, (form, _) in asked.items():
        if form not in ("d", "s"):
            raise BadInput(f"{name[:64]}: a value is a number (d) or a word (s), not of the form “{form[:16]}”.")
    return settings_from_data({name: value for name, (_, value) in asked.items()})


def _names(asked: Iterable[str]) -> tuple[str, ...]:
    """Return the names of a call. Raises BadInput if there are too many, NotHere for one that does not exist."""
    names = tuple(asked)
    if len(names) > MOST_SETTINGS:
        raise BadInput(f"{len(names)} settings were given; at most {MOST_SETTINGS} can be set at once.")
    for name in names:
        declaration_of(name[:256])
    return names


def _action(names: Iterable[str]) -> Action:
    return Action.SET_RISKY if any(declaration_of(name).risky for name in names) else Action.SET
