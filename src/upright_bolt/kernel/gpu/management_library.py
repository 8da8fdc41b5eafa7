"""NVIDIA's management library (Python package ``nvidia-ml-py``) behind the port of kernel files.

What the library sets has no file of the kernel's, so each thing has a path of its own here, in the folder of its
device (``nvml:power-limit``), with a text that can be written back, as registers have theirs. So it is checked,
written, read back, journalled and undone like everything else, and kept shut while its chip sleeps (``SleepGuard``
stands before it).

Traps handled here: the library wakes every chip of its vendor as it is initialised, so that waits for the first use;
it belongs to this computer alone, never to a copy of another machine; which clocks are locked it does not tell, so
what was written last counts (``WriteOnlyValues``); what a model, the rights or the driver's age forbid are different
errors.

The vendor's own page: NVML API reference, "Device Queries" and "Device Commands".
"""

import errno
import importlib
from collections.abc import Callable, Sequence
from typing import Any

from upright_bolt.errors import FileFault
from upright_bolt.kernel.gpu.gpus import Card
from upright_bolt.kernel.ports import ForwardingFiles, KernelFiles

DRIVER = "nvidia"
"""The vendor's own driver: under any other the library knows nothing of a chip."""
MARK = "nvml:"
RANGE = "-range"
"""Behind a name: its lowest and highest value."""
LOCKED = "locked-clocks"
UNLOCKED = "reset"
OPENS_FOR_ROOT = "power/control"
"""A file of the device that root alone may write, as root alone may set anything by the library."""
ACOUSTIC_MIN, ACOUSTIC_NOW, ACOUSTIC_MAX = 4, 5, 6
"""nvmlTemperatureThresholds_t: bounds and value of the temperature that the chip's driver aims at."""
_ERRORS = {
    2: errno.EINVAL,  # NVML_ERROR_INVALID_ARGUMENT
    3: errno.EOPNOTSUPP,  # NVML_ERROR_NOT_SUPPORTED
    4: errno.EPERM,  # NVML_ERROR_NO_PERMISSION
    13: errno.ENOSYS,  # NVML_ERROR_FUNCTION_NOT_FOUND
    15: errno.ENODEV,  # NVML_ERROR_GPU_IS_LOST
}
Library = Any
_Get = Callable[[Library, object], str]
_Put = Callable[[Library, object, int], object]


def _pair(numbers: Sequence[int]) -> str:
    low, high = numbers[-2:]
    return f"{low} {high}"


def _clocks(lib: Library, handle: object) -> str:
    """Return the lowest and the highest clock that the chip knows, in MHz."""
    memory = max(lib.nvmlDeviceGetSupportedMemoryClocks(handle))
    known = lib.nvmlDeviceGetSupportedGraphicsClocks(handle, memory)
    return f"{min(known)} {max(known)}"


def _threshold(lib: Library, handle: object, kind: int) -> int:
    return int(lib.nvmlDeviceGetTemperatureThreshold(handle, kind))


_GET: dict[str, _Get] = {
    "power-limit": lambda lib, chip: str(lib.nvmlDeviceGetPowerManagementLimit(chip)),
    "power-limit-range": lambda lib, chip: _pair(lib.nvmlDeviceGetPowerManagementLimitConstraints(chip)),
    "clock-offset": lambda lib, chip: str(lib.nvmlDeviceGetGpcClkVfOffset(chip)),
    "clock-offset-range": lambda lib, chip: _pair(lib.nvmlDeviceGetGpcClkMinMaxVfOffset(chip)),
    "memory-offset": lambda lib, chip: str(lib.nvmlDeviceGetMemClkVfOffset(chip)),
    "memory-offset-range": lambda lib, chip: _pair(lib.nvmlDeviceGetMemClkMinMaxVfOffset(chip)),
    "heat-target": lambda lib, chip: str(_threshold(lib, chip, ACOUSTIC_NOW)),
    "heat-target-range": lambda lib, chip: (
        f"{_threshold(lib, chip, ACOUSTIC_MIN)} {_threshold(lib, chip, ACOUSTIC_MAX)}"
    ),
    f"{LOCKED}-range": _clocks,
}
_PUT: dict[str, _Put] = {
    "power-limit": lambda lib, chip, mw: lib.nvmlDeviceSetPowerManagementLimit(chip, mw),
    "clock-offset": lambda lib, chip, mhz: lib.nvmlDeviceSetGpcClkVfOffset(chip, mhz),
    "memory-offset": lambda lib, chip, mhz: lib.nvmlDeviceSetMemClkVfOffset(chip, mhz),
    "heat-target": lambda lib, chip, celsius: lib.nvmlDeviceSetTemperatureThreshold(chip, ACOUSTIC_NOW, celsius),
}


def path_of(card: Card, name: str) -> str:
    """Return the path that stands for something the library sets."""
    return f"{card.device}/{MARK}{name}"


def of_vendor(cards: Sequence[Card]) -> list[Card]:
    """Return the chips that the library is for."""
    return [card for card in cards if card.chip.driver == DRIVER]


class ManagementLibrary:
    """The library, loaded and initialised as it is first used.

    Args:
        given: the name of its Python module, or a twin's library itself; empty for a machine of which it knows nothing.
    """

    def __init__(self, given: object) -> None:
        self._given = given
        self._module: Library = None
        self._handles: dict[str, object] = {}

    @classmethod
    def of(cls, given: object) -> "ManagementLibrary":
        """Return the library, or ``given`` itself where that is one: settings and readings share what is opened."""
        return given if isinstance(given, cls) else cls(given)

    @property
    def here(self) -> bool:
        """Whether it may be used for this machine at all."""
        return bool(self._given)

    def find(self) -> Library:
        """Return the library, loaded but not yet initialised: that wakes nothing. Raises ImportError."""
        return importlib.import_module(self._given) if isinstance(self._given, str) else self._given

    def open(self) -> Library:
        """Return the library, ready for use. Raises whatever it raises itself, or ImportError."""
        if self._module is None:
            module = self.find()
            module.nvmlInit()
            self._module = module
        return self._module

    def handle(self, place: str) -> object:
        """Return the library's handle of the chip at a place on the bus. Raises whatever the library raises."""
        if place not in self._handles:
            self._handles[place] = self.open().nvmlDeviceGetHandleByPciBusId(place.encode())
        return self._handles[place]

    def ask(self, path: str, act: Callable[[Library], Any]) -> Any:  # noqa: ANN401 - the library has no types
        """Return what ``act`` returns. Raises FileFault, which tells apart what the library tells apart."""
        try:
            return act(self.open())
        except (AttributeError, ImportError) as fault:  # an older library, or none
            raise FileFault(path, errno.ENOSYS) from fault
        except Exception as fault:
            raise FileFault(path, _ERRORS.get(getattr(fault, "value", 0), errno.EIO)) from fault


class LibraryFiles(ForwardingFiles):
    """Port ``KernelFiles`` with what the library sets as files.

    Args:
        files: the files behind it.
        cards: the machine's graphics chips.
    """

    def __init__(self, files: KernelFiles, cards: Sequence[Card]) -> None:
        super().__init__(files)
        self._library = ManagementLibrary.of(super().vendor_library)
        self._cards = {f"{card.device}/{MARK}": card for card in of_vendor(cards)} if self._library.here else {}

    @property
    def vendor_library(self) -> object:
        """The library, opened once for whoever reads or sets something through these files."""
        return self._library

    def _of(self, path: str) -> tuple[Card, str] | None:
        head, mark, name = path.rpartition(MARK)
        card = self._cards.get(head + mark) if mark else None
        return None if card is None else (card, name)

    def read(self, path: str) -> bytes:
        """Return the content. Raises FileFault."""
        found = self._of(path)
        if found is None:
            return self._files.read(path)
        card, name = found
        if name == LOCKED:
            return self._locked(card, path).encode()
        get = _GET.get(name)
        if get is None:
            raise FileFault(path, errno.ENOENT)
        text: str = self._library.ask(path, lambda lib: get(lib, self._library.handle(card.chip.place)))
        return text.encode()

    def write(self, path: str, data: bytes) -> None:
        """Write the content. Raises FileFault; EINVAL for what is no number of the library's."""
        found = self._of(path)
        if found is None:
            self._files.write(path, data)
            return
        card, name = found
        words = data.decode("ascii", "replace").split()
        if name == LOCKED:
            self._lock(card, path, words)
            return
        put = _PUT.get(name)
        if put is None:
            raise FileFault(path, errno.EACCES)
        (number,) = _numbers(path, words, 1)
        self._library.ask(path, lambda lib: put(lib, self._library.handle(card.chip.place), number))

    def _locked(self, card: Card, path: str) -> str:
        """Return the range of clocks that was locked last, by this process or one before it. Raises FileFault."""
        said, restored_writes = card.memory.writes.last_written.get(path), card.memory.writes.restored_writes.get(path)
        if said is not None or not restored_writes:
            return said or UNLOCKED
        ends = self.read(f"{path}{RANGE}").decode().split()
        for end, number in restored_writes.items():
            ends[end] = str(number)
        return " ".join(ends)

    def _lock(self, card: Card, path: str, words: list[str]) -> None:
        handle = self._library.ask(path, lambda _: self._library.handle(card.chip.place))
        if words == [UNLOCKED]:
            self._library.ask(path, lambda lib: lib.nvmlDeviceResetGpuLockedClocks(handle))
        else:
            ends = _numbers(path, words, 2)
            self._library.ask(path, lambda lib: lib.nvmlDeviceSetGpuLockedClocks(handle, *ends))
        card.memory.writes.last_written[path] = " ".join(words)

    def exists(self, path: str) -> bool:
        """Tell whether the file or folder is there."""
        return self._of(path) is not None or self._files.exists(path)

    def writable(self, path: str) -> bool:
        """Tell whether this process may write the file."""
        found = self._of(path)
        return self._files.writable(path if found is None else f"{found[0].device}/{OPENS_FOR_ROOT}")

    def closed_to_all(self, path: str) -> bool:
        """Tell whether nobody may write the file, not even root."""
        return self._of(path) is None and self._files.closed_to_all(path)


def _numbers(path: str, words: Sequence[str], count: int) -> list[int]:
    """Return whole numbers. Raises FileFault."""
    try:
        found = [int(word) for word in words]
    except ValueError as fault:
        raise FileFault(path, errno.EINVAL) from fault
    if len(found) != count:
        raise FileFault(path, errno.EINVAL)
    return found
