"""The port through which a machine tells of changes from outside, so that nobody has to look for them."""

from collections.abc import Collection
from typing import Protocol

from upright_bolt.model.change import MachineChange


class MachineChanges(Protocol):
    """Changes of one machine."""

    def watch(self, files: Collection[str]) -> None:
        """From now on tell of writes to these kernel files, and no others."""
        ...

    def handles(self) -> tuple[int, ...]:
        """Return file descriptors; when one can be read there is something to take."""
        ...

    def take(self) -> list[MachineChange]:
        """Return what has happened since the last call, oldest first. Never waits."""
        ...

    def replaced(self) -> bool:
        """Tell whether watched files have vanished, returned or become others since the last call; watch the new ones.

        A driver that is loaded anew makes new files under the old names, and the kernel need not tell of it.
        """
        ...

    def close(self) -> None:
        """Watch no longer."""
        ...


class NoChanges:
    """A machine that tells of nothing: a copy of kernel files, or one that nobody watches."""

    def watch(self, files: Collection[str]) -> None:
        """Do nothing."""

    def handles(self) -> tuple[int, ...]:
        """Return none."""
        return ()

    def take(self) -> list[MachineChange]:
        """Return nothing."""
        return []

    def replaced(self) -> bool:
        """Return that nothing was."""
        return False

    def close(self) -> None:
        """Do nothing."""
