"""Graphics chips under NVIDIA's own driver, read only, through its management library (``nvidia-ml-py``), if present.

The library wakes a sleeping chip, so it is not even loaded while any of these chips sleeps, and is not asked while one
does: the kernel's ``runtime_status`` is read before every call.
"""

import importlib
from typing import Any

from upright_bolt.kernel import paths
from upright_bolt.kernel.channels import Asked
from upright_bolt.kernel.driver import Found
from upright_bolt.kernel.graphics import ASLEEP
from upright_bolt.kernel.ports import KernelFiles
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.quantity import CLOCK, COUNT, POWER, SHARE, TEMPERATURE, Quantity
from upright_bolt.model.sensor import Sensor

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


def find(probe: Probe) -> Found:
    """Return what the library tells of every such chip, or note why it is not asked."""
    found = Found()
    guards = [
        f"{paths.DRM}/{card}/device/power/runtime_status"
        for card in probe.files.names(paths.DRM)
        if card.removeprefix("card").isdecimal() and _is_of_vendor(probe, card)
    ]
    if not guards or any(probe.text(guard) == ASLEEP for guard in guards):
        return found
    try:
        library = importlib.import_module(LIBRARY)
        library.nvmlInit()
        chips = Chips(probe.files, guards, library)
    except Exception as fault:  # noqa: BLE001 - the library's own errors, or its absence: the rest of the machine goes on
        probe.note("graphics chip of the vendor's driver", f"its management library cannot be used ({fault})")
        return found
    found.channels.append(Asked(chips.sensors, chips.ask))
    return found


def _is_of_vendor(probe: Probe, card: str) -> bool:
    device = f"{paths.DRM}/{card}/device"
    asleep = probe.text(f"{device}/power/runtime_status") == ASLEEP
    return not asleep and probe.text(f"{device}/vendor") == VENDOR


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
            Sensor(f"nv{i}.{name}", quantity, f"Graphics chip NV{i}: {words}")
            for i in range(len(self._handles))
            for name, words, quantity in _READINGS
        )

    def ask(self) -> list[float | None]:
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
