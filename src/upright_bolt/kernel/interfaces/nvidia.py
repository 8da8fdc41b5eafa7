"""Graphics chips under NVIDIA's own driver, read only, through its management library (``nvidia-ml-py``), if present.

The library wakes a sleeping chip, so it is not even loaded while any graphics chip sleeps: whose chip that is cannot be
looked up without reading below it. Afterwards the kernel's ``runtime_status`` is read before every call.
"""

import importlib
from typing import Any

from upright_bolt.kernel import paths
from upright_bolt.kernel.channels import LibraryReadings
from upright_bolt.kernel.driver import Found, Surroundings
from upright_bolt.kernel.interfaces.graphics import ASLEEP
from upright_bolt.kernel.ports import KernelFiles
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.note import NoteCode, Subject
from upright_bolt.model.quantity import CLOCK, COUNT, POWER, SHARE, TEMPERATURE, Quantity
from upright_bolt.model.sensor import Sensor, SensorKind

RANK = 90
VENDOR = "0x10de"
LIBRARY = "pynvml"
GRAPHICS_CLOCK, TEMPERATURE_OF_CHIP = 0, 0
_READINGS: tuple[tuple[str, str, Quantity], ...] = (
    ("clock", "clock", CLOCK),
    ("power", "power", POWER),
    ("limit", "power limit", POWER),
    ("temperature", "temperature", TEMPERATURE),
    ("busy", "busy share", SHARE),
    ("reasons", "throttle reasons (bits)", COUNT),
)


def find(probe: Probe, machine: Surroundings) -> Found:  # noqa: ARG001 - the form of every interface
    """Return what the library tells of every such chip, or note why it is not asked."""
    found = Found()
    cards = [f"{paths.DRM}/{name}/device" for name in probe.files.names(paths.DRM) if _is_card(name)]
    if any(probe.text(_guard(card)) == ASLEEP for card in cards):
        return found
    guards = [_guard(card) for card in cards if probe.text(f"{card}/vendor") == VENDOR]
    if not guards:
        return found
    try:
        library = importlib.import_module(LIBRARY)
        library.nvmlInit()
        chips = Chips(probe.files, guards, library)
    except Exception as fault:  # noqa: BLE001 - the library's own errors, or its absence: the rest of the machine goes on
        probe.note(Subject.GRAPHICS_LIBRARY, NoteCode.LIBRARY_UNUSABLE, fault=str(fault))
        return found
    found.channels.append(LibraryReadings(chips.sensors, chips.read))
    return found


def _is_card(name: str) -> bool:
    return name.startswith("card") and name.removeprefix("card").isdecimal()


def _guard(card: str) -> str:
    """Return the file that says whether a card sleeps."""
    return f"{card}/power/runtime_status"


class Chips:
    """All chips that the library knows.

    Args:
        files: the port, for the guards.
        guards: files that say whether a chip sleeps.
        library: the management library, ready for use.
    """

    def __init__(self, files: KernelFiles, guards: list[str], library: Any) -> None:  # noqa: ANN401 - it has no types
        self._guards = [files.opener(guard, 32) for guard in guards]
        self._library = library
        self._handles = [library.nvmlDeviceGetHandleByIndex(i) for i in range(library.nvmlDeviceGetCount())]
        self.sensors = tuple(
            Sensor(f"nv{i}.{name}", quantity, f"Graphics chip NV{i}: {words}", SensorKind.GRAPHICS)
            for i in range(len(self._handles))
            for name, words, quantity in _READINGS
        )

    def read(self) -> list[float | None]:
        """Return every reading in the order of ``sensors``; all None while a chip sleeps."""
        try:
            asleep = any(guard().strip() == ASLEEP.encode() for guard in self._guards)
        except OSError:
            asleep = True
        if asleep:
            return [None] * len(self.sensors)
        return [value for handle in self._handles for value in self._of(handle)]

    def _of(self, handle: object) -> list[float | None]:
        lib = self._library
        return [
            self._or_none(lambda: float(lib.nvmlDeviceGetClockInfo(handle, GRAPHICS_CLOCK))),
            self._or_none(lambda: lib.nvmlDeviceGetPowerUsage(handle) / 1000.0),
            self._or_none(lambda: lib.nvmlDeviceGetEnforcedPowerLimit(handle) / 1000.0),
            self._or_none(lambda: float(lib.nvmlDeviceGetTemperature(handle, TEMPERATURE_OF_CHIP))),
            self._or_none(lambda: float(lib.nvmlDeviceGetUtilizationRates(handle).gpu)),
            self._or_none(lambda: float(lib.nvmlDeviceGetCurrentClocksThrottleReasons(handle))),
        ]

    def _or_none(self, read: Any) -> float | None:  # noqa: ANN401
        try:
            return float(read())
        except self._library.NVMLError:
            return None
