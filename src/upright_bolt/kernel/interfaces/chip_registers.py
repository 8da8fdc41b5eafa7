"""Core voltage and the processor's own limit bits, from registers (layouts in ``kernel.registers``)."""

from upright_bolt.analysis.limits.judge import LIVE_BITS, LOGGED_BITS, STATUS_BITS
from upright_bolt.kernel import registers
from upright_bolt.kernel.driver import Found, Surroundings
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.sensors.channels import RegisterField
from upright_bolt.model.note import DiagnosticCode, Subject, note
from upright_bolt.model.quantity import COUNT, VOLTAGE
from upright_bolt.model.sensor import Sensor, SensorKind

RANK = 50


def find(probe: Probe, machine: Surroundings) -> Found:
    """Return core voltage and limit bits, where the registers can be read."""
    found = Found()
    if probe.register(0, registers.CORE_VOLTS) is not None:
        sensor = Sensor("voltage.core", VOLTAGE, "Core voltage", SensorKind.VOLTAGE)
        found.channels.append(RegisterField(sensor, 0, registers.CORE_VOLTS, 47, 32, 2.0**-13))
    else:
        _note_absence(probe, machine)
    if probe.register(0, registers.LIMIT_REASONS) is not None:
        live = Sensor(LIVE_BITS, COUNT, "Live limit bits (register 0x64F)", SensorKind.LIMIT_BITS)
        log = Sensor(LOGGED_BITS, COUNT, "Limit bits since the start (register 0x64F)", SensorKind.LIMIT_BITS)
        found.channels.append(RegisterField(live, 0, registers.LIMIT_REASONS, 15, 0))
        found.channels.append(RegisterField(log, 0, registers.LIMIT_REASONS, 31, 16))
    if probe.register(0, registers.PACKAGE_STATUS) is not None:
        status = Sensor(STATUS_BITS, COUNT, "Package status bits (register 0x1B1)", SensorKind.LIMIT_BITS)
        found.channels.append(RegisterField(status, 0, registers.PACKAGE_STATUS, 15, 0))
    return found


def _note_absence(probe: Probe, machine: Surroundings) -> None:
    subject = Subject.CHIP_REGISTERS
    if machine.identity.virtual:
        probe.add(note(DiagnosticCode.VIRTUAL_REGISTERS, subject))
    elif machine.identity.chip_vendor in registers.OTHER_VENDORS:
        probe.add(note(DiagnosticCode.NO_REGISTERS_OF_VENDOR, subject))
    else:
        probe.add(registers.why_closed(probe, probe.register_fault(0, registers.CORE_VOLTS), subject))
