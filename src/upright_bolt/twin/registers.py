"""A twin's registers: the few that this program reads, in the layout of the vendors' manuals."""

import errno
from collections.abc import Callable

from upright_bolt.errors import FileFault
from upright_bolt.kernel import mailbox, paths, registers
from upright_bolt.twin.chip import Face
from upright_bolt.twin.files_power import STEP_W
from upright_bolt.twin.physics import Physics

POWER_UNIT_BITS = 3  # watts in 1/2^3
ENERGY_UNIT_BITS = 14
TIME_UNIT_BITS = 10
REFUSED = 0x02


class TwinRegisters:
    """Port ``Registers`` on a twin. Unknown registers and most writes are refused with EIO, as on a real chip.

    Attributes:
        mailbox_lock: how firmware treats the voltage mailbox: "" open, "refuse" with a code, "ignore" silently.
    """

    def __init__(self, physics: Physics, on_write: Callable[[], None]) -> None:
        self._physics = physics
        self._on_write = on_write
        self.mailbox_lock = "refuse" if physics.spec.locked else ""
        self._answer = 0
        self._known: dict[int, Callable[[], int]] = {
            registers.CORE_VOLTS: lambda: round(physics.state.volts * 8192) << 32,
            registers.TEMP_TARGET: self._temperature_target,
            registers.TURBO_TABLE: self._turbo_table,
            registers.POWER_UNIT: lambda: TIME_UNIT_BITS << 16 | ENERGY_UNIT_BITS << 8 | POWER_UNIT_BITS,
            registers.PACKAGE_LIMIT: self._package_limit,
            registers.POWER_INFO: self._power_info,
            registers.LIMIT_REASONS: lambda: physics.state.reasons,
            mailbox.MAILBOX: lambda: self._answer,
        }

    def read(self, cpu: int, register: int) -> int:
        """Return the register."""
        known = self._known.get(register) if self._physics.spec.face is Face.POWERCAP else None
        if known is None or not 0 <= cpu < self._physics.spec.chip.cores * 2:
            raise FileFault(f"{paths.msr_device(cpu)} register {register:#x}", errno.EIO)
        return known()

    def write(self, cpu: int, register: int, value: int) -> None:
        """Execute a mailbox command; refuse any other register."""
        if register != mailbox.MAILBOX or self._physics.spec.face is not Face.POWERCAP:
            raise FileFault(f"{paths.msr_device(cpu)} register {register:#x}", errno.EIO)
        plane, command = registers.bits(value, 42, 40), registers.bits(value, 39, 32)
        offsets = self._physics.state.offsets_mv
        if self.mailbox_lock == "refuse" or plane >= len(offsets):
            self._answer = REFUSED << 32
            return
        if command == mailbox.WRITE and self.mailbox_lock != "ignore":
            raw = registers.bits(value, 31, 21)
            steps = raw - 0x800 if raw & 0x400 else raw
            offsets[plane] = steps * mailbox.STEP_MV
            self._physics.settings_changed()
            self._on_write()
        self._answer = (round(offsets[plane] / mailbox.STEP_MV) & 0x7FF) << 21

    def close(self) -> None:
        """Nothing is held open."""

    def _temperature_target(self) -> int:
        return int(self._physics.spec.chip.ceiling_c) << 16 | self._physics.state.ceiling_offset_c << 24

    def _turbo_table(self) -> int:
        table = self._physics.spec.chip.turbo_table_mhz
        return sum(int(mhz / 100) << (8 * i) for i, mhz in enumerate(table))

    def _package_limit(self) -> int:
        sustained, burst, _ = self._physics.state.limits[0]
        enabled = 1 << 15
        lock = int(self._physics.spec.locked) << 63
        return lock | int(sustained / STEP_W) | enabled | (int(burst / STEP_W) | enabled) << 32

    def _power_info(self) -> int:
        low, high = self._physics.spec.limit_range_w
        return int(low / STEP_W) << 16 | int(high / STEP_W) << 32
