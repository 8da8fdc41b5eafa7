"""Announcements: how the state behind the window tells views that a part of it has changed. No Qt."""

from collections.abc import Callable
from typing import Generic, TypeVar

T = TypeVar("T")


class Observable(Generic[T]):
    """One topic. Whoever is connected is called with what is announced."""

    def __init__(self) -> None:
        self._listeners: list[Callable[[T], object]] = []

    def connect(self, listener: Callable[[T], object]) -> None:
        """Call ``listener`` at every announcement."""
        self._listeners.append(listener)

    def silence(self) -> None:
        """Call nobody any more."""
        self._listeners.clear()

    def __call__(self, value: T) -> None:
        """Announce ``value``."""
        for listener in self._listeners:
            listener(value)
