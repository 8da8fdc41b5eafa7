"""The face on the bus: checks what comes in, asks for rights, and hands over to the keeper, one call at a time."""

import asyncio
import logging
from collections.abc import AsyncIterator, Callable, Mapping
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
from upright_bolt.model.control import CATALOGUE
from upright_bolt.model.settings import Settings, settings_from_data
from upright_bolt.service import wire
from upright_bolt.service.callers import Caller, Callers
from upright_bolt.service.keeper import Keeper
from upright_bolt.service.names import INTERFACE, Action
from upright_bolt.service.rights import Rights
from upright_bolt.session.sampler import Sample

LOG = logging.getLogger("upright-bolt")
REFUSALS_LOGGED = 20
"""Refused calls of one caller that are logged; a hostile one shall not fill the journal."""
T = TypeVar("T")


class Face(DbusInterfaceCommonAsync, interface_name=INTERFACE):
    """Methods and signals of the service.

    Args:
        keeper: holds the machine.
        callers: everybody who calls.
        rights: decides who may do what.
    """

    def __init__(self, keeper: Keeper, callers: Callers, rights: Rights) -> None:
        super().__init__()
        self._keeper = keeper
        self._callers = callers
        self._rights = rights
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="machine")

    @dbus_method_async(result_signature="s", flags=DbusUnprivilegedFlag, method_name="Describe")
    async def describe(self) -> str:
        """Return what does not change about the machine, as JSON."""
        async with self._turn(Action.WATCH):
            return await self.do(self._described)

    @dbus_method_async(result_signature="s", flags=DbusUnprivilegedFlag, method_name="Controls")
    async def controls(self) -> str:
        """Return every control as it stands, as JSON."""
        async with self._turn(Action.WATCH):
            return await self.do(lambda: wire.controls(self._keeper.reach.controls()))

    @dbus_method_async(result_signature="dadsas", flags=DbusUnprivilegedFlag, method_name="Sample")
    async def sample(self) -> tuple[float, list[float], str, list[str]]:
        """Return time in s (monotonic), a number per sensor (NaN: not measured), and what holds the clock back.

        The last list tells what holds each kind of core, where there are several.
        """
        async with self._turn(Action.WATCH):
            taken: Sample = await self.do(self._keeper.sample)
        numbers = [nan if value is None else value for value in taken.values]
        return taken.time_s, numbers, taken.constraint.value, [held.value for held in taken.kinds]

    @dbus_method_async(result_signature="s", flags=DbusUnprivilegedFlag, method_name="Status")
    async def status(self) -> str:
        """Return the trial, what was kept and what no longer holds, as JSON."""
        async with self._turn(Action.WATCH):
            return await self.do(lambda: wire.status(self._keeper.reach.status()))

    @dbus_method_async("a{sv}bb", "s", flags=DbusUnprivilegedFlag, method_name="Apply")
    async def apply(self, asked: dict[str, tuple[str, Any]], standing: bool, interactive: bool) -> str:  # noqa: FBT001
        """Put settings in force as a trial of the caller; return the report as JSON."""
        async with self._turn(None) as caller:
            settings = _settings(asked)
            await self._rights.need(caller, _action(settings), interactive=interactive)
            done = await self.do(lambda: self._keeper.apply(caller, settings, standing=standing))
            if done.ok:
                self.changed.emit(("tried", caller.words))
            return wire.report(done)

    @dbus_method_async("b", "s", flags=DbusUnprivilegedFlag, method_name="Keep")
    async def keep(self, interactive: bool) -> str:  # noqa: FBT001
        """Keep what the caller's trial has put in force; return the trial as JSON."""
        async with self._turn(None) as caller:
            trial = self._keeper.reach.trials.current
            await self._rights.need(caller, _action(trial.settings if trial else {}), interactive=interactive)
            done = await self.do(lambda: self._keeper.keep(caller))
            self.changed.emit(("kept", caller.words))
            return wire.trial(done)

    @dbus_method_async("", "s", flags=DbusUnprivilegedFlag, method_name="PutBack")
    async def put_back(self) -> str:
        """Put back what was before the caller's trial; return the trial as JSON.

        Needs no more than the right to watch: the way back must never stand behind a password.
        """
        async with self._turn(Action.WATCH) as caller:
            done = await self.do(lambda: self._keeper.put_back(caller))
            self.changed.emit(("put back", caller.words))
            return wire.trial(done)

    @dbus_signal_async("ss")
    def changed(self) -> tuple[str, str]:
        """Tell what has happened (tried, kept, put back), and who did it."""
        raise NotImplementedError

    def _described(self) -> str:
        reach = self._keeper.reach
        return wire.describe(reach.about, reach.recovered)

    async def do(self, work: Callable[[], T]) -> T:
        """Do ``work`` in the one thread that has the machine."""
        return await asyncio.get_running_loop().run_in_executor(self._thread, work)

    def let_go(self) -> str:
        """End the thread, then the machine's session."""
        self._thread.shutdown(wait=True)
        return self._keeper.close()

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
    if len(asked) > len(CATALOGUE):
        raise BadInput(f"{len(asked)} settings were given; there are {len(CATALOGUE)} controls.")
    for name, (form, _) in asked.items():
        if form not in ("d", "s"):
            raise BadInput(f"{name[:64]}: a value is a number (d) or a word (s), not of the form “{form[:16]}”.")
    return settings_from_data({name: value for name, (_, value) in asked.items()})


def _action(settings: Settings) -> Action:
    return Action.SET_RISKY if any(CATALOGUE[name].risky for name in settings) else Action.SET
