"""Work in the background: reading and writing the run store, and long computations."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from upright_bolt.errors import BoltError
from upright_bolt.presentation.ports import Answer, Failure


class BackgroundWorker(QObject):
    """One thread for all work that must not hold up the window; outcomes come back in the window's thread."""

    _answered = pyqtSignal(object, object)

    def __init__(self) -> None:
        super().__init__()
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="store")
        self._open = True
        self._answered.connect(self._deliver)

    def run(self, work: Callable[[], Any], on_result: Answer, on_error: Failure) -> None:
        """Do ``work`` in the background and hand its outcome over in the window's thread."""

        def job() -> None:
            try:
                self._answered.emit(on_result, work())
            except BoltError as fault:
                self._answered.emit(on_error, str(fault))

        self._pool.submit(job)

    def _deliver(self, callback: Callable[[Any], None], value: object) -> None:
        if self._open:
            callback(value)

    def close(self) -> None:
        """Wait for what is under way; its outcome goes nowhere, since the window is going."""
        self._open = False
        self._pool.shutdown(wait=True)
