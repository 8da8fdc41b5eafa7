"""Tells, unasked and once, that something which was set no longer holds."""

from collections.abc import Callable

from upright_bolt.model.trial import Status
from upright_bolt.presentation.observable import Observable
from upright_bolt.text.trials import drift


class DriftWatch:
    """Watches the status for what was in force and is not any more.

    Args:
        say: says it in the window.

    Attributes:
        told: the same sentence, for whoever does not look at the window.
    """

    def __init__(self, say: Callable[[str], None]) -> None:
        self._say = say
        self._known: frozenset[str] = frozenset()
        self.told: Observable[str] = Observable()

    def take(self, status: Status) -> None:
        """Take over a newer status."""
        now = frozenset(entry.name for entry in status.drift)
        fresh = [drift(entry, status) for entry in status.drift if entry.name not in self._known]
        self._known = now
        if fresh:
            self._say(f"▽ {fresh[0]}" + (f" And {len(fresh) - 1} more." if len(fresh) > 1 else ""))
            self.told(fresh[0])
