"""A twin's graphics chips behind their vendor's management library, as its reference describes it.

The functions have the library's own names, units (mW, MHz, °C) and error numbers, so the same code of ours speaks to
this and to the real one. Every call that reaches a chip wakes it: ``GraphicsState.woken`` counts that.
"""

from collections.abc import Callable
from types import SimpleNamespace

from upright_bolt.simulator.graphics import Gpu
from upright_bolt.simulator.graphics_spec import GraphicsDriver
from upright_bolt.simulator.physics import Physics

INVALID_ARGUMENT, NOT_FOUND = 2, 6
FURTHEST_OFFSET_MHZ = 500
LEAST_TARGET_C = 65
IDLE_CLOCK_MHZ = 405
LOWEST, NOW, HIGHEST = 4, 5, 6
"""Kinds of the temperature that the driver aims at, see ``kernel.gpu.management_library``."""
REASONS = {"idle": 0x1, "power": 0x4, "heat": 0x20}
BY_SETTING = 0x2
"""nvmlClocksThrottleReasons: what holds the clock, by ``GraphicsState.held``; a range of clocks that was set."""


class LibraryError(Exception):
    """An error of the library.

    Attributes:
        value: its number in the reference.
    """

    def __init__(self, value: int) -> None:
        super().__init__(f"error {value} of the library")
        self.value = value


class ManagedChips:
    """The library's module.

    Args:
        physics: the twin.
        changed: called after something was set.
    """

    def __init__(self, physics: Physics, changed: Callable[[], None]) -> None:
        self._physics = physics
        self._changed = changed

    @property
    def any(self) -> bool:
        """Whether one of the twin's chips is behind the library."""
        return any(spec.driver is GraphicsDriver.LIBRARY for spec in self._physics.spec.graphics)

    def _mine(self) -> list[Gpu]:
        return [c for c in self._physics.graphics.chips if c.spec.driver is GraphicsDriver.LIBRARY]

    def _chip(self, place: str) -> Gpu:
        """Return a chip, awake. Raises LibraryError."""
        chip = next((each for each in self._mine() if each.spec.place == place), None)
        if chip is None:
            raise LibraryError(NOT_FOUND)
        chip.touch(self._physics.state.time_s)
        return chip

    def nvmlInit(self) -> None:  # noqa: N802 - the library's own names, here and below
        """Initialise, which wakes every chip."""
        for chip in self._mine():
            chip.touch(self._physics.state.time_s)

    def nvmlDeviceGetHandleByPciBusId(self, place: bytes) -> str:  # noqa: N802
        """Return the handle of the chip at a place. Raises LibraryError."""
        return self._chip(place.decode()).spec.place

    # what is set

    def nvmlDeviceGetPowerManagementLimit(self, handle: str) -> int:  # noqa: N802
        """Return the power limit in mW."""
        return round(1000.0 * self._chip(handle).state.limit_w)

    nvmlDeviceGetEnforcedPowerLimit = nvmlDeviceGetPowerManagementLimit  # noqa: N815

    def nvmlDeviceGetPowerManagementLimitConstraints(self, handle: str) -> list[int]:  # noqa: N802
        """Return the lowest and the highest power limit in mW."""
        return [round(1000.0 * watts) for watts in self._chip(handle).spec.limit_w[1:]]

    def nvmlDeviceSetPowerManagementLimit(self, handle: str, limit_mw: int) -> None:  # noqa: N802
        """Set the power limit. Raises LibraryError."""
        _check(limit_mw, *self.nvmlDeviceGetPowerManagementLimitConstraints(handle))
        self._chip(handle).state.limit_w = limit_mw / 1000.0
        self._changed()

    def nvmlDeviceGetGpcClkVfOffset(self, handle: str) -> int:  # noqa: N802
        """Return by how many MHz the clock of every voltage is raised."""
        return round(self._chip(handle).state.clock_offset_mhz)

    def nvmlDeviceGetGpcClkMinMaxVfOffset(self, handle: str) -> tuple[int, int]:  # noqa: N802
        """Return the range of that."""
        self._chip(handle)
        return -FURTHEST_OFFSET_MHZ, FURTHEST_OFFSET_MHZ

    def nvmlDeviceSetGpcClkVfOffset(self, handle: str, offset_mhz: int) -> None:  # noqa: N802
        """Raise the clock of every voltage. Raises LibraryError."""
        _check(offset_mhz, *self.nvmlDeviceGetGpcClkMinMaxVfOffset(handle))
        self._chip(handle).state.clock_offset_mhz = float(offset_mhz)
        self._changed()

    def nvmlDeviceGetMemClkVfOffset(self, handle: str) -> int:  # noqa: N802
        """Return by how many MHz the memory's clock is raised."""
        chip = self._chip(handle)
        return round(chip.state.memory_mhz - chip.spec.memory_mhz[0])

    def nvmlDeviceGetMemClkMinMaxVfOffset(self, handle: str) -> tuple[int, int]:  # noqa: N802
        """Return the range of that."""
        stock, low, high = self._chip(handle).spec.memory_mhz
        return round(low - stock), round(high - stock)

    def nvmlDeviceSetMemClkVfOffset(self, handle: str, offset_mhz: int) -> None:  # noqa: N802
        """Raise the memory's clock. Raises LibraryError."""
        _check(offset_mhz, *self.nvmlDeviceGetMemClkMinMaxVfOffset(handle))
        chip = self._chip(handle)
        chip.state.memory_mhz = chip.spec.memory_mhz[0] + offset_mhz
        self._changed()

    def nvmlDeviceGetTemperatureThreshold(self, handle: str, kind: int) -> int:  # noqa: N802
        """Return the temperature in °C that the driver aims at, or an end of its range. Raises LibraryError."""
        chip = self._chip(handle)
        known = {LOWEST: LEAST_TARGET_C, NOW: chip.ceiling_c, HIGHEST: chip.spec.ceiling_c}
        if kind not in known:
            raise LibraryError(INVALID_ARGUMENT)
        return round(known[kind])

    def nvmlDeviceSetTemperatureThreshold(self, handle: str, kind: int, celsius: int) -> None:  # noqa: N802
        """Let the driver aim at another temperature. Raises LibraryError."""
        chip = self._chip(handle)
        _check(kind, NOW, NOW)
        _check(celsius, LEAST_TARGET_C, round(chip.spec.ceiling_c))
        chip.state.heat_target_c = float(celsius)
        self._changed()

    def nvmlDeviceGetSupportedMemoryClocks(self, handle: str) -> list[int]:  # noqa: N802
        """Return the clocks in MHz that the memory knows."""
        return [round(self._chip(handle).spec.memory_mhz[0]), IDLE_CLOCK_MHZ]

    def nvmlDeviceGetSupportedGraphicsClocks(self, handle: str, _memory_mhz: int) -> list[int]:  # noqa: N802
        """Return the clocks in MHz that the chip knows beside a clock of its memory."""
        spec = self._chip(handle).spec
        return [round(spec.clock_top_mhz), round(spec.clock_max_mhz), round(spec.clock_min_mhz)]

    def nvmlDeviceSetGpuLockedClocks(self, handle: str, low_mhz: int, high_mhz: int) -> None:  # noqa: N802
        """Keep the clock within a range. Raises LibraryError."""
        chip = self._chip(handle)
        _check(low_mhz, round(chip.spec.clock_min_mhz), high_mhz)
        chip.state.clocks_mhz = [float(low_mhz), min(float(high_mhz), chip.spec.clock_top_mhz)]
        chip.state.locked = True
        self._changed()

    def nvmlDeviceResetGpuLockedClocks(self, handle: str) -> None:  # noqa: N802
        """Let the chip choose its clock again."""
        chip = self._chip(handle)
        chip.state.clocks_mhz, chip.state.locked = [chip.spec.clock_min_mhz, chip.spec.clock_max_mhz], False
        self._changed()

    # what is read

    def nvmlDeviceGetClockInfo(self, handle: str, _kind: int) -> int:  # noqa: N802
        """Return the clock in MHz."""
        return round(self._chip(handle).state.clock_mhz)

    def nvmlDeviceGetPowerUsage(self, handle: str) -> int:  # noqa: N802
        """Return what it draws, in mW."""
        return round(1000.0 * self._chip(handle).state.watts)

    def nvmlDeviceGetTemperature(self, handle: str, _kind: int) -> int:  # noqa: N802
        """Return its temperature in °C."""
        return round(self._chip(handle).state.die_c)

    def nvmlDeviceGetUtilizationRates(self, handle: str) -> SimpleNamespace:  # noqa: N802
        """Return the share of the time in percent for which it was busy, as ``gpu``."""
        return SimpleNamespace(gpu=round(100.0 * self._chip(handle).state.busy))

    def nvmlDeviceGetCurrentClocksThrottleReasons(self, handle: str) -> int:  # noqa: N802
        """Return what holds its clock, as bits."""
        state = self._chip(handle).state
        return REASONS.get(state.held, BY_SETTING if state.locked else 0)


def _check(value: int, low: int, high: int) -> None:
    if not low <= value <= high:
        raise LibraryError(INVALID_ARGUMENT)
