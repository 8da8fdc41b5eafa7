"""What is remembered of a machine for one boot: its stock values and what was kept.

Registers and kernel files are back at firmware values after a reboot, so what was remembered under another boot's
name does not count.
"""

import json
import os
from dataclasses import asdict, dataclass, field
from pathlib import Path

from upright_bolt.model.control import Value


@dataclass(slots=True)
class BootMemory:
    """Values by control name: before this program changed anything, and kept by the person since."""

    boot_id: str
    stock: dict[str, Value] = field(default_factory=dict)
    kept: dict[str, Value] = field(default_factory=dict)


class BootStore:
    """The file that holds the memory of the present boot."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def load(self, boot_id: str) -> BootMemory:
        """Return what is remembered for this boot; nothing if the file is of another boot, missing or damaged."""
        try:
            data = json.loads(self._path.read_text())
            memory = BootMemory(**data)
        except (OSError, ValueError, TypeError):
            return BootMemory(boot_id)
        return memory if memory.boot_id == boot_id else BootMemory(boot_id)

    def save(self, memory: BootMemory) -> None:
        """Write it so that a crash leaves either the old or the new one."""
        self._path.parent.mkdir(parents=True, exist_ok=True)
        part = self._path.with_suffix(".part")
        with part.open("w") as file:
            json.dump(asdict(memory), file)
            file.flush()
            os.fsync(file.fileno())
        os.replace(part, self._path)  # noqa: PTH105 - atomic by definition
