"""Graphics chips under NVIDIA's own driver, through its management library, if the Python package is there.

Initialising the library wakes every chip of the vendor, so that is left until all of them are awake; afterwards the
kernel's ``runtime_status`` is read before every call. What it sets goes by ``kernel.gpu.management_library``.
"""

import errno
from collections.abc import Callable
from dataclasses import dataclass, replace

from upright_bolt.errors import FileFault
from upright_bolt.kernel.driver import ControlDriver, Facts, Found, Surroundings
from upright_bolt.kernel.file_control import FileControl, Number, refused_as, within
from upright_bolt.kernel.gpu.controls import name_on, on_gpu
from upright_bolt.kernel.gpu.gpus import ASLEEP, Card
from upright_bolt.kernel.gpu.management_library import (
    LOCKED,
    RANGE,
    UNLOCKED,
    ManagementLibrary,
    of_vendor,
    path_of,
)
from upright_bolt.kernel.ports import KernelFiles, Read
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.sensors.channels import LibraryReadings
from upright_bolt.model.control import ControlState, Value
from upright_bolt.model.note import DiagnosticCode, Subject, note
from upright_bolt.model.quantity import CLOCK, COUNT, POWER, SHARE, TEMPERATURE, Quantity
from upright_bolt.model.sensor import Sensor, SensorKind

RANK = 90
GRAPHICS_CLOCK, TEMPERATURE_OF_CHIP = 0, 0
_READINGS: tuple[tuple[str, str, Quantity], ...] = (
    ("clock", "clock", CLOCK),
    ("power", "power", POWER),
    ("limit", "power limit", POWER),
    ("temperature", "temperature", TEMPERATURE),
    ("busy", "busy share", SHARE),
    ("reasons", "throttle reasons (bits)", COUNT),
)
NUMBERS = (("power-limit", 1000.0), ("clock-offset", 1.0), ("memory-offset", 1.0), ("heat-target", 1.0))
"""What the library sets as one number, and what that is for one of the control's unit."""
_REFUSALS = {errno.EOPNOTSUPP: DiagnosticCode.NOT_ON_THIS_MODEL, errno.ENOSYS: DiagnosticCode.LIBRARY_TOO_OLD}


def find(probe: Probe, machine: Surroundings) -> Found:
    """Return what the library tells and sets of every such chip, or note why it is not asked."""
    found = Found()
    own = of_vendor(machine.cards)
    library = ManagementLibrary.of(getattr(probe.files, "vendor_library", ""))
    if not own or not library.here:
        return found
    asleep = any(card.asleep(probe.files) for card in own)
    try:
        library.find() if asleep else library.open()
        chips = Chips(probe.files, own, library)
    except Exception as fault:  # noqa: BLE001 - the library's own errors, or its absence: the rest of the machine goes on
        probe.note(Subject.GRAPHICS_LIBRARY, DiagnosticCode.LIBRARY_UNUSABLE, fault=str(fault))
        return found
    found.channels.append(LibraryReadings(chips.sensors, chips.read))
    found.controls += [control for card in own for control in _controls(probe, card)]
    return found


def _controls(probe: Probe, card: Card) -> list[ControlDriver]:
    return [
        *(_number(probe, card, own, per_unit) for own, per_unit in NUMBERS),
        LockedClock(probe, card, "lowest-clock", 0),
        LockedClock(probe, card, "highest-clock", 1),
    ]


def bounds_of(probe: Probe, card: Card, name: str) -> tuple[int, int]:
    """Return the lowest and the highest value of what the library sets, in its unit. Raises FileFault."""
    low, high = (int(word) for word in probe.files.read(path_of(card, f"{name}{RANGE}")).split())
    return low, high


def library_facts(probe: Probe, card: Card, name: str, per_unit: float = 1.0) -> Facts:
    """Return what the library allows of what it sets, or why nothing."""
    try:
        low, high = bounds_of(probe, card, name)
    except FileFault as fault:
        if fault.errno in _REFUSALS:
            return Facts(ControlState.ABSENT, note(_REFUSALS[fault.errno]))
        code = DiagnosticCode.NEEDS_ROOT if fault.errno == errno.EPERM else DiagnosticCode.NO_RANGE
        return Facts(ControlState.READ_ONLY, note(code))
    # The library answers with an empty range for what a model does not have.
    if high <= low:
        return Facts(ControlState.ABSENT, note(DiagnosticCode.NOT_ON_THIS_MODEL))
    return Facts(ControlState.SETTABLE, minimum=low / per_unit, maximum=high / per_unit)


def _number(probe: Probe, card: Card, own: str, per_unit: float) -> FileControl:
    """Return one number, in the library's steps of one of its unit."""
    form = Number(within(1.0 / per_unit), per_unit)

    def allowed() -> Facts:
        return library_facts(probe, card, own, per_unit)

    return on_gpu(probe, card, own, (path_of(card, own),), form, allowed, refused=refused_as(_REFUSALS))


@dataclass(frozen=True, slots=True)
class _LockedEnd:
    """One end of the range of clocks that was locked last: 0 for the lowest, 1 for the highest."""

    probe: Probe
    card: Card
    end: int

    def _held(self) -> list[int] | None:
        """Return both ends; the chip's own if none was locked, None if that is unknown."""
        try:
            text = self.probe.files.read(path_of(self.card, LOCKED)).decode()
            own = list(bounds_of(self.probe, self.card, LOCKED)) if text == UNLOCKED else []
            return own or [int(word) for word in text.split()]
        except (FileFault, ValueError):
            return None

    def read(self, _probe: Probe, _path: str) -> float | None:
        held = self._held()
        return None if held is None else float(held[self.end])

    def text(self, value: Value) -> str:
        # Both ends are set at once, and unlocked at once.
        held = self._held() or [0, 0]
        held[self.end] = round(float(value))
        own = held == list(bounds_of(self.probe, self.card, LOCKED))
        return UNLOCKED if own else f"{held[0]} {held[1]}"

    def same(self, asked: Value, held: Value) -> bool:
        return abs(float(asked) - float(held)) <= 1.0


class LockedClock(FileControl):
    """One end of the range of clocks that is locked, as it was set last: the library does not tell it.

    Args:
        probe, card, own: as for every control of a chip.
        end: 0 for the lowest clock, 1 for the highest.
    """

    def __init__(self, probe: Probe, card: Card, own: str, end: int) -> None:
        self._card = card
        self._end = end
        super().__init__(
            probe,
            name_on(card, own),
            (path_of(card, LOCKED),),
            _LockedEnd(probe, card, end),
            self._as_set_last,
            refused=refused_as(_REFUSALS),
            asleep=lambda: card.asleep(probe.files),
        )

    def _as_set_last(self) -> Facts:
        facts = library_facts(self._probe, self._card, LOCKED)
        settable = facts.state is ControlState.SETTABLE
        return replace(facts, note=note(DiagnosticCode.AS_SET_LAST)) if settable else facts

    def recall(self, value: Value) -> None:
        """Take a value for locked, as a process before this one has left it."""
        self._card.memory.writes.restored_writes.setdefault(self.files[0], {})[self._end] = round(float(value))


class Chips:
    """Chips that the library knows.

    Args:
        files: the port, for the guards.
        cards: the chips.
        library: the management library.
    """

    def __init__(self, files: KernelFiles, cards: list[Card], library: ManagementLibrary) -> None:
        self._files = files
        self._states = [card.status for card in cards]
        self._guards: list[Read] = []
        self._library = library
        self._places = [card.chip.place for card in cards]
        self.sensors = tuple(
            Sensor(f"{card.chip.part}.{name}", quantity, f"{card.chip.part}: {words}", SensorKind.GRAPHICS)
            for card in cards
            for name, words, quantity in _READINGS
        )

    def read(self) -> list[float | None]:
        """Return every reading in the order of ``sensors``; all None while a chip sleeps."""
        # Any call into the library wakes every GPU of its vendor, not only the one that is asked.
        if self._any_sleeps():
            return [None] * len(self.sensors)
        return [value for place in self._places for value in self._of(place)]

    def _any_sleeps(self) -> bool:
        try:
            if not self._guards:
                self._guards = [self._files.opener(path, 32) for path in self._states]
            return any(guard().strip() == ASLEEP.encode() for guard in self._guards)
        except (OSError, FileFault):
            return True

    def _of(self, place: str) -> list[float | None]:
        try:
            lib, handle = self._library.open(), self._library.handle(place)
        except Exception:  # noqa: BLE001 - the library's own errors: nothing is measured
            return [None] * len(_READINGS)
        return [
            self._or_none(lambda: float(lib.nvmlDeviceGetClockInfo(handle, GRAPHICS_CLOCK))),
            self._or_none(lambda: lib.nvmlDeviceGetPowerUsage(handle) / 1000.0),
            self._or_none(lambda: lib.nvmlDeviceGetEnforcedPowerLimit(handle) / 1000.0),
            self._or_none(lambda: float(lib.nvmlDeviceGetTemperature(handle, TEMPERATURE_OF_CHIP))),
            self._or_none(lambda: float(lib.nvmlDeviceGetUtilizationRates(handle).gpu)),
            self._or_none(lambda: float(lib.nvmlDeviceGetCurrentClocksThrottleReasons(handle))),
        ]

    def _or_none(self, read: Callable[[], float]) -> float | None:
        try:
            return float(read())
        except Exception:  # noqa: BLE001 - the library's own errors, or a library that is too old
            return None
