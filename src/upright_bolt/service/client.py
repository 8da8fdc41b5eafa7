"""The client: the machine through the root service, for the command line and the window's session thread alike.

No wait is without end: every call has its time, and ``while_waiting`` is called meanwhile, so that sampling goes on
while a person types a password.
"""

import asyncio
import os
import time
from collections.abc import Callable, Coroutine, Sequence
from contextlib import suppress
from typing import Any

from upright_bolt.errors import BoltError, Refused
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.machine import About
from upright_bolt.model.sample import Sample
from upright_bolt.model.trial import ApplyReport, Trial
from upright_bolt.service.connection import BUS, MOST_REPLY_BYTES, BusFault, BusGone, Connection, Incoming
from upright_bolt.service.names import BUS_NAME, ERRORS, FAILED, INTERFACE, SERVICE
from upright_bolt.service.remote_access import RemoteAccess, profiles_through
from upright_bolt.service.rights import PERSON_S
from upright_bolt.service.shared_machine import FRESH_S
from upright_bolt.service.verbs import BEGIN_RUN, DESCRIBE, END_RUN, SAMPLE, Verb
from upright_bolt.settings.access import Change, ProfileAccess, nothing

ABSENT = ("org.freedesktop.DBus.Error.ServiceUnknown", "org.freedesktop.DBus.Error.NameHasNoOwner")
ANSWER_S = 120.0
"""On a slow and busy machine the first call of a kind takes many seconds, since the service loads what it needs for
it; and a call that meets a service which has just ended waits until the bus has started another."""
MAY_ASK = True
"""A person may be asked for a password."""
BEGIN_S = 300.0
"""For the bus to start the service: Python alone may take minutes on a machine that has much else to do."""
TIMED_OUT = "org.freedesktop.DBus.Error.TimedOut"
LOOK_UP_S = 0.1
"""How often ``while_waiting`` is called."""


class ServiceAbsent(BoltError):
    """There is no service on this computer."""


class StillBeginning(Refused):
    """The bus has waited long enough for the service to begin."""


class ServiceAccess(RemoteAccess):
    """Reading and setting the machine through the root service.

    Attributes:
        while_waiting: called every tenth of a second while an answer is out; a BoltError that it raises ends the wait.
        trouble: what is wrong with the service at the moment, as a sentence; empty if nothing.

    Raises:
        ServiceAbsent: no bus, or no program has the service's name.
        BoltError: it is there but does not let this caller in.
    """

    fastest_s = FRESH_S
    closed = ""
    """A client never knows of a reason beforehand: a machine held by root when the service began may be free by now."""

    def __init__(self) -> None:
        self._loop = asyncio.new_event_loop()
        self._trying = False
        self._running = ""
        self._heard: list[Change] = []
        self.trouble = ""
        self.while_waiting: Callable[[], None] = nothing
        self._bus = Connection(MOST_REPLY_BYTES, on_signal=self._hear)
        try:
            self._loop.run_until_complete(self._open())
            self._begin()
            about, self.recovered = self._ask(DESCRIBE)
        except BoltError:
            self._leave()
            raise
        self.about: About = about
        self.profiles: ProfileAccess | None = profiles_through(self._ask, tends=False)

    async def _open(self) -> None:
        try:
            await self._bus.open()
            await self._bus.listen(f"type='signal',sender='{BUS_NAME}',interface='{INTERFACE}',member='Changed'")
        except BoltError as fault:
            raise ServiceAbsent(str(fault)) from fault

    def _begin(self) -> None:
        """Have the bus start the service. Raises BoltError.

        The bus gives up after 25 s, and the service goes on beginning: on a slow machine it is there the next time.
        """
        until = time.monotonic() + BEGIN_S
        while True:
            try:
                self._finish(self._bus.call(BUS, "StartServiceByName", "su", BUS_NAME, 0, patience_s=BEGIN_S))
            except ServiceAbsent:  # one that somebody has started by hand has the name all the same
                return
            except StillBeginning:
                if time.monotonic() > until:
                    raise
            else:
                return

    def _leave(self) -> None:
        self._loop.run_until_complete(self._bus.close())
        self._loop.close()

    def _hear(self, message: Incoming) -> None:
        """Hear what others do to the machine. The bus lets only the service send this to those who have not asked."""
        if message.member == "Changed" and message.signature == "ssu":
            what, who, process = message.contents()
            if process != os.getpid():
                self._heard.append(Change(what, who))

    def changes_by_others(self) -> tuple[Change, ...]:
        """Return what others have done to the machine since the last call."""
        heard, self._heard = self._heard, []
        return tuple(heard)

    def sample(self) -> Sample:
        """Return the service's latest sample; "not measured" throughout while it does not answer."""
        try:
            taken: Sample = self._ask(SAMPLE)
        except BoltError as fault:
            self.trouble = str(fault)
            unknown = (Constraint.UNKNOWN,) * len(self.about.topology.kinds)
            return Sample(time.monotonic(), [None] * len(self.about.sensors), Constraint.UNKNOWN, unknown)
        if self.trouble and self._running:
            with suppress(BoltError):  # the service is a new one and knows of no run
                self._ask(BEGIN_RUN, self._running)
        self.trouble = ""
        return taken

    def _ask(self, verb: Verb, *given: Any, **named: Any) -> Any:  # noqa: ANN401 - whatever the verb answers
        answer = super()._ask(verb, *given, **named)
        if isinstance(answer, ApplyReport) and answer.ok and not named["standing"]:
            self._trying = True
        elif isinstance(answer, Trial):  # it was kept, or put back
            self._trying = False
        return answer

    def close(self) -> str:
        """Put back a trial of this caller that does not outlive it, and leave the bus."""
        if self._loop.is_closed():
            return ""
        trouble = ""
        self.while_waiting = nothing
        try:
            if self._trying:
                self.revert("closed")
        except BoltError as fault:
            trouble = str(fault)
        finally:
            self._leave()
        return trouble

    def begin_run(self, what: str) -> None:
        """Let no other run begin on this machine. Raises InUse, Denied or Refused."""
        self._ask(BEGIN_RUN, what)
        self._running = what

    def end_run(self) -> None:
        """The run is over. Raises Refused."""
        self._running = ""
        self._ask(END_RUN)

    def _carry(self, verb: Verb, data: Sequence[Any]) -> Sequence[Any]:
        data, patience_s = ((*data, MAY_ASK), PERSON_S + 5.0) if verb.asks else (data, ANSWER_S)
        return self._finish(self._bus.call(SERVICE, verb.name, verb.signature, *data, patience_s=patience_s))

    def _finish(self, call: Coroutine[Any, Any, tuple[Any, ...]]) -> tuple[Any, ...]:
        """Return what a call brings, looking up every now and then. Raises BoltError."""
        task = self._loop.create_task(call)
        while True:
            self._loop.run_until_complete(asyncio.wait({task}, timeout=LOOK_UP_S))
            if task.done():
                return _outcome(task)
            self._wait_on(task)

    def _wait_on(self, task: "asyncio.Task[tuple[Any, ...]]") -> None:
        try:
            self.while_waiting()
        except BoltError:
            task.cancel()
            self._loop.run_until_complete(asyncio.wait({task}))
            raise


def _outcome(task: "asyncio.Task[tuple[Any, ...]]") -> tuple[Any, ...]:
    """Return what a call brought. Raises what the service said, as its own error where it has one."""
    try:
        return task.result()
    except TimeoutError as fault:
        raise Refused("The root service does not answer in time.") from fault
    except BusFault as fault:
        if fault.name in ABSENT:
            raise ServiceAbsent("The root service is not installed, or has ended and is not started again.") from fault
        known = ERRORS.get(fault.name, BoltError if fault.name == FAILED else None)
        if known is not None:
            raise known(str(fault)) from fault
        error = StillBeginning if fault.name == TIMED_OUT else Refused
        raise error(f"The root service could not be asked: {str(fault).rstrip('.')}.") from fault
    except BusGone as fault:
        raise Refused(f"The root service could not be asked. {fault}") from fault
