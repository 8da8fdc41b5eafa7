"""A twin's registers: the few that this program reads, in the layout of the vendors' manuals."""

import errno
from collections.abc import Callable

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths, registers
from upright_bolt.twin.files_power import STEP_W
from upright_bolt.twin.physics import Physics

POWER_UNIT_BITS = 3  # watts in 1/2^3
ENERGY_UNIT_BITS = 14
TIME_UNIT_BITS = 10


class TwinRegisters:
    """Port ``Registers`` on a twin. Unknown registers and all writes are refused with EIO, as on a real chip."""

    def __init__(self, physics: Physics) -> None:
        self._physics = physics
        self._known: dict[int, Callable[[], int]] = {
            registers.CORE_VOLTS: lambda: round(physics.state.volts * 8192) << 32,
            registers.TEMP_TARGET: lambda: int(physics.spec.chip.ceiling_c) << 16,
            registers.TURBO_TABLE: self._turbo_table,
            registers.POWER_UNIT: lambda: TIME_UNIT_BITS << 16 | ENERGY_UNIT_BITS << 8 | POWER_UNIT_BITS,
            registers.PACKAGE_LIMIT: self._package_limit,
            registers.POWER_INFO: self._power_info,
            registers.LIMIT_REASONS: lambda: physics.state.reasons,
        }

    def read(self, cpu: int, register: int) -> int:
        """Return the register."""
        known = self._known.get(register)
        if known is None or not 0 <= cpu < self._physics.spec.chip.cores * 2:
            raise FileFault(f"{paths.msr_device(cpu)} register {register:#x}", errno.EIO)
        return known()

    def write(self, cpu: int, register: int, value: int) -> None:  # noqa: ARG002 - the port's signature
        """Refuse."""
        raise FileFault(f"{paths.msr_device(cpu)} register {register:#x}", errno.EIO)

    def close(self) -> None:
        """Nothing is held open."""

    def _turbo_table(self) -> int:
        table = self._physics.spec.chip.turbo_table_mhz
        return sum(int(mhz / 100) << (8 * i) for i, mhz in enumerate(table))

    def _package_limit(self) -> int:
        sustained, burst, _ = self._physics.state.limits[0]
        enabled = 1 << 15
        return int(sustained / STEP_W) | enabled | (int(burst / STEP_W) | enabled) << 32

    def _power_info(self) -> int:
        low, high = self._physics.spec.limit_range_w
        return int(low / STEP_W) << 16 | int(high / STEP_W) << 32
