"""What this program reads from model-specific registers, and only when readable.

Layouts after the Intel 64 and IA-32 Architectures Software Developer's Manual: volume 4, “Model-Specific Registers”,
for all; volume 3B, “Power and Thermal Management”, sections on RAPL interfaces for 0x606, 0x610 and 0x614 and on
package level thermal management for 0x1B1.

0x1A2 temperature target, bits 23:16 °C, offset 29:24; 0x1AD turbo ratio by active cores, 8 bits each,
in 100 MHz; 0x198 core volts in 47:32, V·2^13; 0x606 power unit in 3:0; 0x610 bit 63 lock of the package limits;
0x614 lowest watts in 30:16 and highest in 46:32; 0x64F what limits the clock now, one bit per reason.
"""

import errno

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.note import Diagnostic, DiagnosticCode, note

CORE_VOLTS = 0x198
TEMP_TARGET = 0x1A2
TURBO_TABLE = 0x1AD
POWER_UNIT = 0x606
PACKAGE_LIMIT = 0x610
POWER_INFO = 0x614
LIMIT_REASONS = 0x64F

OTHER_VENDORS = ("AuthenticAMD", "HygonGenuine", "CentaurHauls", "Shanghai")
"""Vendors whose processors keep other things in registers of the same numbers: nothing in them is believed."""
PACKAGE_STATUS = 0x1B1
PLATFORM_INFO = 0xCE
CURRENT_LIMIT = 0x601

REASON_BITS = (
    (Constraint.HOT_SIGNAL, 1 << 0),
    (Constraint.HEAT, 1 << 1 | 1 << 5 | 1 << 6),
    (Constraint.CURRENT, 1 << 7 | 1 << 8),
    (Constraint.SUSTAINED, 1 << 10),
    (Constraint.BURST, 1 << 11),
    (Constraint.TURBO_TABLE, 1 << 12 | 1 << 13),
)
"""Bits in 0x64F of each constraint this program tells apart: heat is that of the die, its running average and its
regulator. The same bits, 16 places higher, stay set once a reason has occurred."""
STATUS_BITS = ((Constraint.HEAT, 1 << 0), (Constraint.HOT_SIGNAL, 1 << 2), (Constraint.CURRENT, 1 << 12))
"""Live bits in 0x1B1; each is followed by one that stays set."""


def bits(value: int, high: int, low: int) -> int:
    """Return bits ``high:low`` of ``value``."""
    return (value >> low) & ((1 << (high - low + 1)) - 1)


def limits_locked(probe: Probe) -> bool:
    """Tell whether the firmware's lock bit of the package limits is known to be set."""
    value = probe.register(0, PACKAGE_LIMIT)
    return value is not None and bool(value >> 63 & 1)


def power_range_w(probe: Probe) -> tuple[float | None, float | None]:
    """Return the lowest and highest package limit the processor declares, None where it does not."""
    info = probe.register(0, POWER_INFO)
    unit = probe.register(0, POWER_UNIT)
    if info is None or unit is None:
        return None, None
    # The unit is 1/2^n W, 1/8 W on nearly all; both numbers below are 0 where nothing is declared.
    watt = 1.0 / (1 << bits(unit, 3, 0))
    return bits(info, 30, 16) * watt or None, bits(info, 46, 32) * watt or None


def ceiling_c(probe: Probe) -> float | None:
    """Return the temperature at which the processor throttles, from its target and offset."""
    value = probe.register(0, TEMP_TARGET)
    if value is None or not bits(value, 23, 16):
        return None
    # The offset lowers the ceiling, and is what “throttle temperature” sets.
    return float(bits(value, 23, 16) - bits(value, 29, 24))


def turbo_table_mhz(probe: Probe, cores: int | None) -> tuple[float, ...]:
    """Return the highest clock by number of active cores (index 0 is one core); empty if unknown."""
    value = probe.register(0, TURBO_TABLE)
    if not value or not cores:
        return ()
    # Eight bytes: with more cores, the last one holds for all beyond the eighth.
    ratios = [bits(value, 8 * i + 7, 8 * i) for i in range(min(cores, 8))]
    return tuple(ratio * 100.0 for ratio in ratios if ratio)


def why_unwritable(probe: Probe, about: str) -> Diagnostic | None:
    """Return why registers cannot be written though they may be read; None if the kernel lets them be written."""
    lockdown = probe.text(paths.LOCKDOWN) or ""
    # The file lists every mode with the active one in brackets; a kernel without lockdown has no such file.
    if lockdown and "[none]" not in lockdown:
        return note(DiagnosticCode.LOCKDOWN, about)
    if (probe.text(paths.ALLOW_WRITES) or "") == "off":
        return note(DiagnosticCode.REGISTER_WRITES_OFF, about)
    return None


def why_closed(probe: Probe, fault: FileFault | None, about: str) -> Diagnostic:
    """Return why a register could not be read or written: by whom, and what a person can do.

    Args:
        probe: looks at what else is closed.
        fault: what happened; None if it could be read and held nothing.
        about: what the note concerns.
    """
    if fault is None:
        return note(DiagnosticCode.REGISTER_EMPTY, about)
    if fault.errno == errno.EPERM and (why := why_unwritable(probe, about)) is not None:
        return why
    return note(_CLOSED.get(fault.errno, DiagnosticCode.REGISTER_FAULT), about, what=fault.what)


_CLOSED = {
    errno.ENOENT: DiagnosticCode.NO_REGISTER_MODULE,
    errno.ENXIO: DiagnosticCode.NO_REGISTER_DEVICE,
    errno.ENODEV: DiagnosticCode.NO_REGISTER_DEVICE,
    errno.EACCES: DiagnosticCode.REGISTERS_NEED_ROOT,
    errno.EIO: DiagnosticCode.NO_SUCH_REGISTER,
    errno.ETIMEDOUT: DiagnosticCode.REGISTER_SILENT,
    errno.EPERM: DiagnosticCode.REGISTERS_FORBIDDEN,
}
