"""The one thread that has the machine. What ends a trial goes ahead of everything that waits."""

import asyncio
import itertools
import queue
import threading
from collections.abc import Callable
from typing import Any, TypeVar

T = TypeVar("T")
FIRST, IN_TURN, LAST = 0, 1, 2
_Job = tuple[int, int, Callable[[], Any] | None, "asyncio.Future[Any] | None"]


class MachineThread:
    """Does one piece of work after another."""

    def __init__(self) -> None:
        self._jobs: queue.PriorityQueue[_Job] = queue.PriorityQueue()
        self._numbers = itertools.count()
        self._thread = threading.Thread(target=self._live, name="machine")
        self._thread.start()

    async def do(self, work: Callable[[], T], order: int = IN_TURN) -> T:
        """Do ``work`` in the thread, and return what it returns or raise what it raises.

        Args:
            work: what is done.
            order: ``FIRST`` lets it go ahead of all that waits.
        """
        done: asyncio.Future[T] = asyncio.get_running_loop().create_future()
        self._jobs.put((order, next(self._numbers), work, done))
        return await done

    def end(self) -> None:
        """Do what was asked for, and end the thread."""
        self._jobs.put((LAST, next(self._numbers), None, None))
        self._thread.join()

    def _live(self) -> None:
        while True:
            _, _, work, done = self._jobs.get()
            if work is None or done is None:
                return
            try:
                result, fault = work(), None
            except Exception as raised:  # noqa: BLE001 - whoever waits for it gets it
                result, fault = None, raised
            try:
                done.get_loop().call_soon_threadsafe(_tell, done, result, fault)
            except RuntimeError:
                continue  # nobody waits any more: the loop has ended


def _tell(done: "asyncio.Future[Any]", result: Any, fault: Exception | None) -> None:  # noqa: ANN401
    if done.done():
        return
    if fault is None:
        done.set_result(result)
    else:
        done.set_exception(fault)
