"""The draft: settings being edited, with the way back and forth through its changes."""

import time
from collections.abc import Callable, Mapping

from upright_bolt.model.control import Value

TOGETHER_S = 1.0
"""Changes of one control in quicker succession are one step: a drag, a held key."""


class Draft:
    """Settings that are not in force.

    Attributes:
        values: control to its drafted value.
    """

    def __init__(self, now_s: Callable[[], float] = time.monotonic) -> None:
        self.values: dict[str, Value] = {}
        self._now_s = now_s
        self._before: list[dict[str, Value]] = []
        self._after: list[dict[str, Value]] = []
        self._last: tuple[frozenset[str], float] = frozenset(), float("-inf")

    def change(self, values: Mapping[str, Value | None]) -> None:
        """Draft values of some controls, None to drop one; a step that ``undo`` takes back."""
        after = {**self.values, **values}
        wanted = {name: value for name, value in after.items() if value is not None}
        if wanted == self.values:
            return
        names, now_s = frozenset(values), self._now_s()
        last_names, last_s = self._last
        if names != last_names or now_s - last_s > TOGETHER_S:
            self._before.append(self.values)
        self._last = names, now_s
        self._after = []
        self.values = wanted

    def drop(self) -> None:
        """Drop the whole draft; ``undo`` brings it back."""
        self.change(dict.fromkeys(self.values))
        self._last = frozenset(), float("-inf")

    def forget(self) -> None:
        """Drop the whole draft for good: it is in force now."""
        self.values, self._before, self._after = {}, [], []
        self._last = frozenset(), float("-inf")

    def undo(self) -> bool:
        """Take the last step back. Returns False if there is none."""
        return self._go(self._before, self._after)

    def redo(self) -> bool:
        """Take a step that was taken back again. Returns False if there is none."""
        return self._go(self._after, self._before)

    def _go(self, way: list[dict[str, Value]], back: list[dict[str, Value]]) -> bool:
        if not way:
            return False
        back.append(self.values)
        self.values = way.pop()
        self._last = frozenset(), float("-inf")
        return True
