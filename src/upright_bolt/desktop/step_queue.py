"""Work for the window that is done bit by bit, so that it answers in between."""

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QObject, QTimer

PAUSE_MS = 5
"""Between two steps, so that whatever else waits has its turn: keys, the mouse, what the step has left to paint."""


class StepQueue(QObject):
    """Does steps one after another, each in its own turn of the event loop; new ones take the place of the rest."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._steps: list[Callable[[], None]] = []
        self._timer = QTimer(self)
        self._timer.setInterval(PAUSE_MS)
        self._timer.timeout.connect(self._next)

    @property
    def busy(self) -> bool:
        """Whether steps are left to do."""
        return bool(self._steps)

    def begin(self, steps: Sequence[Callable[[], None]]) -> None:
        """Forget what is left to do, and do these."""
        self._steps = list(steps)
        self._timer.start()

    def _next(self) -> None:
        if not self._steps:
            self._timer.stop()
            return
        self._steps.pop(0)()
