"""A twin's registers: the few that this program reads, in the layout of the vendors' manuals."""

import errno
from collections.abc import Callable

from upright_bolt.errors import FileFault
from upright_bolt.kernel import mailbox, paths, registers
from upright_bolt.simulator.chip import KernelInterfaces
from upright_bolt.simulator.files_power import STEP_W
from upright_bolt.simulator.physics import Physics

POWER_UNIT_BITS = 3  # watts in 1/2^3
ENERGY_UNIT_BITS = 14
TIME_UNIT_BITS = 10
REFUSED = 0x02
HOT_SIGNAL = 0x1FC
WRITABLE = (registers.CURRENT_LIMIT, registers.PACKAGE_LIMIT, registers.TURBO_TABLE, HOT_SIGNAL)


class SimulatedRegisters:
    """Port ``Registers`` on a twin. Unknown registers and most writes are refused with EIO, as on a real chip.

    Attributes:
        mailbox_lock: how firmware treats the voltage mailbox: "" open, "refuse" with a code, "ignore" silently.
    """

    copied = False

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
            registers.LIMIT_REASONS: lambda: physics.state.reasons | physics.state.log << 16,
            registers.PACKAGE_STATUS: lambda: int(physics.state.throttling) | bool(physics.state.throttle_events) << 1,
            registers.PLATFORM_INFO: lambda: (not physics.spec.locked) << 28,
            registers.CURRENT_LIMIT: lambda: round(physics.state.current_a * 8) | int(physics.spec.locked) << 31,
            HOT_SIGNAL: lambda: int(physics.state.hot_signal),
            mailbox.MAILBOX: lambda: self._answer,
        }

    def read(self, cpu: int, register: int) -> int:
        """Return the register. Raises FileFault."""
        known = self._known.get(register) if self._physics.spec.interfaces is KernelInterfaces.POWERCAP else None
        if known is None or not 0 <= cpu < self._physics.spec.chip.cores * 2:
            raise FileFault(f"{paths.msr_device(cpu)} register {register:#x}", errno.EIO)
        return known()

    def write(self, cpu: int, register: int, value: int) -> None:
        """Take over a register that can be written, or execute a mailbox command. Raises FileFault for any other."""
        state, spec = self._physics.state, self._physics.spec
        if register == mailbox.MAILBOX and spec.interfaces is KernelInterfaces.POWERCAP:
            self._command(value)
            return
        if (
            register not in WRITABLE
            or spec.interfaces is not KernelInterfaces.POWERCAP
            or (spec.locked and register != HOT_SIGNAL)
        ):
            raise FileFault(f"{paths.msr_device(cpu)} register {register:#x}", errno.EIO)
        if register == registers.CURRENT_LIMIT:
            state.current_a = registers.bits(value, 12, 0) / 8.0
        elif register == registers.PACKAGE_LIMIT:
            state.limits_on[0], state.clamp = bool(value >> 15 & 1), bool(value >> 16 & 1)
            state.burst_on[0], state.burst_clamp = bool(value >> 47 & 1), bool(value >> 48 & 1)
        elif register == registers.TURBO_TABLE:
            state.turbo_ratios = [registers.bits(value, 8 * i + 7, 8 * i) for i in range(spec.chip.cores)]
        else:
            state.hot_signal = bool(value & 1)
        self._physics.settings_changed()
        self._on_write()

    def _command(self, value: int) -> None:
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
        return sum(ratio << (8 * i) for i, ratio in enumerate(self._physics.state.turbo_ratios))

    def _package_limit(self) -> int:
        state = self._physics.state
        sustained, burst, _ = state.limits[0]
        lock = int(self._physics.spec.locked) << 63
        low = int(sustained / STEP_W) | int(state.limits_on[0]) << 15 | int(state.clamp) << 16
        high = int(burst / STEP_W) | int(state.burst_on[0]) << 15 | int(state.burst_clamp) << 16
        return lock | low | high << 32

    def _power_info(self) -> int:
        low, high = self._physics.spec.limit_range_w
        return int(low / STEP_W) << 16 | int(high / STEP_W) << 32
