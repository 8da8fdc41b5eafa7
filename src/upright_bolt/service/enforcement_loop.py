"""What the service does by itself: it ends trials whose owner has left, and keeps profiles in force."""

import asyncio
from collections.abc import Callable
from time import monotonic

from upright_bolt.model.change import ChangeKind
from upright_bolt.service.bus_interface import BusInterface
from upright_bolt.service.log import LOG
from upright_bolt.service.shared_machine import GRACE_S, SharedMachine
from upright_bolt.settings.access import PROFILES
from upright_bolt.text.enforcement import entry_words

ORPHAN_S = GRACE_S / 6.0
AGAIN_S = 30.0
LEAST_BETWEEN_S = 0.5
"""From one waking by the machine to the next: a program that writes 20 times a second costs two looks a second."""


class EnforcementLoop:
    """Wakes when the machine tells of a change, when a caller has changed something, and when something is due.

    Args:
        interface: does work in the machine's thread.
        machine: the machine.
    """

    def __init__(self, interface: BusInterface, machine: SharedMachine) -> None:
        self._interface = interface
        self._machine = machine
        self._reading: tuple[int, ...] = ()
        self._due_s = self._woken_s = 0.0
        self._tasks: set[asyncio.Task[None]] = set()

    async def reconcile(self) -> float:
        """Do what is due; return in how many seconds to call again at the latest."""
        machine, interface = self._machine, self._interface
        now = monotonic()
        if not interface.changed_lately and now < self._due_s:
            return self._due_s - now
        interface.changed_lately = False
        self.deaf()  # what this process reads and writes itself is no news
        try:
            revert, due_s = await interface.do(machine.reconcile_all)
        except Exception:  # noqa: BLE001 - whatever it is, the service goes on
            LOG.exception("profiles could not be tended")
            revert, due_s = None, AGAIN_S
        if revert is not None:
            interface.tell_of_own("put back", revert.by)
        for entry in machine.news:
            LOG.info("%s", entry_words(entry))
        if machine.news:
            interface.tell_of_own(PROFILES, "the service")
        due_s = min(due_s, ORPHAN_S) if machine.orphaned else due_s
        deaf_s = self._woken_s + LEAST_BETWEEN_S - monotonic()
        if deaf_s > 0.0:
            due_s = min(due_s, deaf_s)
        else:
            self._listen()
        self._due_s = monotonic() + due_s
        return due_s

    def _listen(self) -> None:
        """Be woken by the machine's descriptors, once."""
        self.deaf()
        self._reading = self._machine.handles()
        for handle in self._reading:
            asyncio.get_running_loop().add_reader(handle, self._woken)

    def deaf(self) -> None:
        """Be woken by them no longer."""
        for handle in self._reading:
            asyncio.get_running_loop().remove_reader(handle)
        self._reading = ()

    def _woken(self) -> None:
        self._woken_s = monotonic()
        self.deaf()
        self._interface.wake()

    def notify(self, kind: ChangeKind) -> None:
        """Take up what the login manager tells."""
        self.later(lambda: self._machine.notify(kind))
        self._interface.wake()

    def later(self, work: Callable[[], None]) -> None:
        """Do something in the machine's thread, in its turn."""
        task = asyncio.get_running_loop().create_task(self._interface.do(work))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)
