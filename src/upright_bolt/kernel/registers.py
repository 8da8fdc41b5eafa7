"""What this program reads from model-specific registers (vendor's public manuals), and only when readable.

Layouts: 0x1A2 temperature target, bits 23:16 °C, offset 29:24; 0x1AD turbo ratio by active cores, 8 bits each,
in 100 MHz; 0x198 core volts in 47:32, V·2^13; 0x606 power unit in 3:0; 0x610 bit 63 lock of the package limits;
0x614 lowest watts in 30:16 and highest in 46:32; 0x64F what limits the clock now, one bit per reason.
"""

import errno

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.channels import RegisterField
from upright_bolt.kernel.driver import NEEDS_ROOT, Found
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.machine import Identity
from upright_bolt.model.quantity import COUNT, VOLTAGE
from upright_bolt.model.sensor import Sensor

CORE_VOLTS = 0x198
TEMP_TARGET = 0x1A2
TURBO_TABLE = 0x1AD
POWER_UNIT = 0x606
PACKAGE_LIMIT = 0x610
POWER_INFO = 0x614
LIMIT_REASONS = 0x64F

OTHER_VENDORS = ("AuthenticAMD", "HygonGenuine")
GAP = "core voltage and live limit reasons"
PACKAGE_STATUS = 0x1B1
PLATFORM_INFO = 0xCE
CURRENT_LIMIT = 0x601

REASON_BITS = {
    "hot signal": 1 << 0,
    "heat": 1 << 1 | 1 << 5 | 1 << 6,
    "current limit": 1 << 7 | 1 << 8,
    "sustained limit": 1 << 10,
    "burst limit": 1 << 11,
    "turbo table": 1 << 12 | 1 << 13,
}
"""Bits in 0x64F of each constraint this program tells apart: heat is that of the die, its running average and its
regulator. The same bits, 16 places higher, stay set once a reason has occurred."""
STATUS_BITS = {"heat": 1 << 0, "hot signal": 1 << 2, "current limit": 1 << 12}
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
    watt = 1.0 / (1 << bits(unit, 3, 0))
    return bits(info, 30, 16) * watt or None, bits(info, 46, 32) * watt or None


def ceiling_c(probe: Probe) -> float | None:
    """Return the temperature at which the processor throttles, from its target and offset."""
    value = probe.register(0, TEMP_TARGET)
    if value is None or not bits(value, 23, 16):
        return None
    return float(bits(value, 23, 16) - bits(value, 29, 24))


def turbo_table_mhz(probe: Probe, cores: int | None) -> tuple[float, ...]:
    """Return the highest clock by number of active cores (index 0 is one core); empty if unknown."""
    value = probe.register(0, TURBO_TABLE)
    if not value or not cores:
        return ()
    ratios = [bits(value, 8 * i + 7, 8 * i) for i in range(min(cores, 8))]
    return tuple(ratio * 100.0 for ratio in ratios if ratio)


def find(probe: Probe, identity: Identity) -> Found:
    """Return core voltage and limit reasons, where the registers can be read."""
    found = Found()
    if probe.register(0, CORE_VOLTS) is not None:
        sensor = Sensor("voltage.core", VOLTAGE, "Core voltage")
        found.channels.append(RegisterField(sensor, 0, CORE_VOLTS, 47, 32, 2.0**-13))
    else:
        why = why_closed(probe, probe.register_fault(0, CORE_VOLTS))
        if identity.virtual:
            why = "this is a virtual machine: registers belong to the machine it runs on"
        elif identity.chip_vendor in OTHER_VENDORS:
            why = "this vendor's processors keep none of it in registers that this program knows"
        probe.note(GAP, why)
    if probe.register(0, LIMIT_REASONS) is not None:
        sensor = Sensor("limit.reasons", COUNT, "Live limit reasons (bits of 0x64F)")
        log = Sensor("limit.log", COUNT, "Limit reasons since the start (bits of 0x64F)")
        found.channels.append(RegisterField(sensor, 0, LIMIT_REASONS, 15, 0))
        found.channels.append(RegisterField(log, 0, LIMIT_REASONS, 31, 16))
    if probe.register(0, PACKAGE_STATUS) is not None:
        sensor = Sensor("limit.status", COUNT, "Package status (bits of 0x1B1)")
        found.channels.append(RegisterField(sensor, 0, PACKAGE_STATUS, 15, 0))
    return found


def why_closed(probe: Probe, fault: FileFault | None) -> str:
    """Return why a register could not be read or written: by whom, and what a person can do."""
    if fault is None:
        return "it holds nothing"
    lockdown = probe.text(paths.LOCKDOWN) or ""
    if fault.errno == errno.EPERM and lockdown and "[none]" not in lockdown:
        return "kernel lockdown forbids registers; it is switched on by secure boot in most cases"
    if fault.errno == errno.EPERM and (probe.text(paths.ALLOW_WRITES) or "") == "off":
        return "the kernel does not let registers be written (the module msr was loaded with allow_writes=off)"
    reasons = {
        errno.ENOENT: "the kernel module msr is not loaded (sudo modprobe msr)",
        errno.ENXIO: "the kernel offers no register device for this processor (sudo modprobe msr)",
        errno.ENODEV: "the kernel offers no register device for this processor (sudo modprobe msr)",
        errno.EACCES: f"the register device is for root only. {NEEDS_ROOT}",
        errno.EIO: "this processor has no such register",
        errno.ETIMEDOUT: "the processor did not answer",
        errno.EPERM: "the kernel forbids it: to whoever lacks the right to use registers (run the command with sudo), "
        "or to everybody (the module msr with allow_writes=off)",
    }
    return reasons.get(fault.errno, fault.what)
