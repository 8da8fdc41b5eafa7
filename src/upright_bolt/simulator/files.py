"""The kernel's files of a twin, served from memory: the same names, rounding and refusals as the real ones."""

import errno
import importlib
import pkgutil
from collections.abc import Callable
from functools import cache
from typing import Protocol, cast

from upright_bolt import simulator
from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.ports import VALUE_SIZE, Read
from upright_bolt.simulator.graphics_library import ManagedChips
from upright_bolt.simulator.physics import Physics

Get = Callable[[], str]
Put = Callable[[str], None]


class FilesPart(Protocol):
    """A module ``simulator.files_…``: the files of some interfaces."""

    def files_of(self, physics: Physics) -> tuple[dict[str, Get], dict[str, Put]]:
        """Return readers and writers by path."""
        ...


@cache
def all_parts() -> tuple[FilesPart, ...]:
    """Return the modules ``simulator.files_…``, found by themselves: a new one needs no entry anywhere."""
    names = sorted(
        module.name for module in pkgutil.iter_modules(simulator.__path__) if module.name.startswith("files_")
    )
    return tuple(cast(FilesPart, importlib.import_module(f"{simulator.__name__}.{name}")) for name in names)


class SimulatedFiles:
    """Port ``KernelFiles`` on a twin.

    Args:
        physics: the twin.
        on_write: called after every accepted write, so that the twin's state can be saved.

    Attributes:
        vendor_library: the library through which a chip of it is set; empty for none.
    """

    def __init__(self, physics: Physics, on_write: Callable[[], None]) -> None:
        self._physics = physics
        self._on_write = on_write
        self._get: dict[str, Get] = {}
        self._put: dict[str, Put] = {}
        for part in all_parts():
            readers, writers = part.files_of(physics)
            self._get.update(readers)
            self._put.update(writers)
        managed = ManagedChips(physics, self._changed)
        self.vendor_library: object = managed if managed.any else ""
        self._folders: dict[str, set[str]] = {}
        for path in self._get:
            self._add_to_folders(path)

    def _add_to_folders(self, path: str) -> None:
        above, _, name = path.rpartition("/")
        folder = above or "/"
        known = folder in self._folders
        self._folders.setdefault(folder, set()).add(name)
        if above and not known:
            self._add_to_folders(folder)

    def _check_online(self, path: str) -> None:
        """Raise FileFault for a file of cpufreq whose processor is offline."""
        for cpu in self._physics.state.offline:
            if path.startswith(f"{paths.CPUFREQ}/policy{cpu}/"):
                raise FileFault(path, errno.EBUSY)

    def read(self, path: str) -> bytes:
        """Return the content. Raises FileFault."""
        self._check_online(path)
        get = self._get.get(path)
        if get is None:
            raise FileFault(path, errno.EISDIR if path in self._folders else errno.ENOENT)
        return get().encode() + b"\n"

    def write(self, path: str, data: bytes) -> None:
        """Write as the kernel would: refused with its error numbers, clamped and rounded silently. Raises FileFault."""
        self._check_online(path)
        put = self._put.get(path)
        if put is None:
            raise FileFault(path, errno.EACCES if path in self._get else errno.ENOENT)
        try:
            put(data.decode("ascii").strip())
        except ValueError as fault:
            raise FileFault(path, errno.EINVAL) from fault
        except OSError as fault:
            raise FileFault(path, fault.errno or errno.EIO) from fault
        self._changed()

    def _changed(self) -> None:
        self._physics.settings_changed()
        self._on_write()

    def names(self, path: str) -> list[str]:
        """Return the sorted names in a folder."""
        return sorted(self._folders.get(path, ()))

    def exists(self, path: str) -> bool:
        """Tell whether the file or folder is there."""
        return path in self._get or path in self._folders

    def writable(self, path: str) -> bool:
        """Tell whether the file takes writes."""
        return path in self._put

    def closed_to_all(self, path: str) -> bool:
        """Tell whether the file is for reading only."""
        return path in self._get and path not in self._put

    def opener(self, path: str, size: int = VALUE_SIZE) -> Read:  # noqa: ARG002 - the port's signature
        """Return a reader of the file. Raises FileFault."""
        get = self._get.get(path)
        if get is None:
            raise FileFault(path, errno.ENOENT)
        return lambda: get().encode()

    def close(self) -> None:
        """Nothing is held open."""
