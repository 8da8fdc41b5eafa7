"""Graphics chips under NVIDIA's own driver, read only, through its management library (``nvidia-ml-py``), if present.

The library wakes a sleeping chip, so it is not even loaded while any graphics chip sleeps: whose chip that is cannot be
looked up without reading below it. Afterwards the kernel's ``runtime_status`` is read before every call.
"""

import importlib
from typing import Any

from upright_bolt.kernel.channels import LibraryReadings
from upright_bolt.kernel.driver import Found, Surroundings
from upright_bolt.kernel.graphics_chips import ASLEEP, Card
from upright_bolt.kernel.ports import KernelFiles
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.note import NoteCode, Subject
from upright_bolt.model.quantity import CLOCK, COUNT, POWER, SHARE, TEMPERATURE, Quantity
from upright_bolt.model.sensor import Sensor, SensorKind

RANK = 90
VENDOR = "10de"
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


def find(probe: Probe, machine: Surroundings) -> Found:
    """Return what the library tells of every such chip, or note why it is not asked."""
    found = Found()
    cards = machine.cards
    own = [card for card in cards if card.chip.ids.split(":")[0] == VENDOR]
    if not own or any(card.asleep(probe.files) for card in cards):
        return found
    try:
        library = importlib.import_module(LIBRARY)
        library.nvmlInit()
        chips = Chips(probe.files, own, library)
    except Exception as fault:  # noqa: BLE001 - the library's own errors, or its absence: the rest of the machine goes on
        probe.note(Subject.GRAPHICS_LIBRARY, NoteCode.LIBRARY_UNUSABLE, fault=str(fault))
        return found
    found.channels.append(LibraryReadings(chips.sensors, chips.read))
    return found


class Chips:
    """Chips that the library knows.

    Args:
        files: the port, for the guards.
        cards: the chips.
        library: the management library, ready for use.
    """

    def __init__(self, files: KernelFiles, cards: list[Card], library: Any) -> None:  # noqa: ANN401 - it has no types
        self._guards = [files.opener(card.status, 32) for card in cards]
        self._library = library
        self._handles = [library.nvmlDeviceGetHandleByPciBusId(card.chip.place.encode()) for card in cards]
        self.sensors = tuple(
            Sensor(f"{card.chip.part}.{name}", quantity, f"{card.chip.part}: {words}", SensorKind.GRAPHICS)
            for card in cards
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
