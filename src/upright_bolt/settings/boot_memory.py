"""What is remembered of a machine for one boot: its stock values and what was kept.

Registers and kernel files are back at firmware values after a reboot, so what was remembered under another boot's
name does not count.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from upright_bolt.disk import Document, Typed
from upright_bolt.errors import Damaged
from upright_bolt.model.control import Value


@dataclass(frozen=True, slots=True)
class Remembered:
    """Values by control name: before this program changed them for the first time, and kept by the person since."""

    boot_id: str
    stock: dict[str, Value] = field(default_factory=dict)
    kept: dict[str, Value] = field(default_factory=dict)


class BootMemory:
    """The memory of the present boot, and its file.

    Args:
        path: the file.
        boot_id: the present boot; what the file holds of another one, or damaged, counts as nothing.
    """

    def __init__(self, path: Path, boot_id: str) -> None:
        self._document: Document[Remembered] = Document(path, "upright-bolt boot memory", 1, Typed(Remembered))
        self.boot_id = boot_id
        try:
            found = self._document.load()
        except Damaged:
            found = None
        self._now = found if found is not None and found.boot_id == boot_id else Remembered(boot_id)

    @property
    def stock(self) -> Mapping[str, Value]:
        """Values from before this program changed them for the first time in this boot."""
        return self._now.stock

    @property
    def kept(self) -> Mapping[str, Value]:
        """What the person has kept in this boot."""
        return self._now.kept

    def remember_stock(self, values: Mapping[str, Value]) -> None:
        """Remember values that are about to be changed for the first time. Raises BoltError."""
        fresh = {name: value for name, value in values.items() if name not in self._now.stock}
        if fresh:
            self._save(Remembered(self.boot_id, {**self._now.stock, **fresh}, self._now.kept))

    def remember_kept(self, values: Mapping[str, Value]) -> None:
        """Remember what is kept from now on. Raises BoltError."""
        self._save(Remembered(self.boot_id, self._now.stock, {**self._now.kept, **values}))

    def _save(self, now: Remembered) -> None:
        self._document.save(now)
        self._now = now
