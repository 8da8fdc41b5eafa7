"""Voltage offsets per plane, through the register mailbox, where processor and firmware leave it open.

Every way in which the mailbox can be closed is told apart: no module, no rights, kernel lockdown, no such register,
refused by the processor, never answered. A firmware lock can also let a write pass and ignore it; that shows when it is
read back. Everything is gone after sleep and reboot. Core and cache share a rail on many chips: the weaker of the two
offsets is what counts.
"""

import errno

from upright_bolt.errors import FileFault
from upright_bolt.kernel import mailbox, paths, registers
from upright_bolt.kernel.driver import Facts, Found, Surroundings, Write
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.control import ControlState, Value
from upright_bolt.model.note import Diagnostic, DiagnosticCode, Subject, note

RANK = 120
LOWEST_MV = -250.0
SLACK_MV = 0.5
"""Half a step of 1/1024 V."""


class OffsetControl:
    """The offset of one voltage plane, in mV; below zero is less voltage."""

    def __init__(self, probe: Probe, name: str, path: str) -> None:
        self.name = name
        self._probe = probe
        self.files: tuple[str, ...] = (path,)

    def facts(self) -> Facts:
        why = registers.why_unwritable(self._probe, self.name)
        state = ControlState.SETTABLE if why is None else ControlState.READ_ONLY
        return Facts(state, why, minimum=LOWEST_MV, maximum=0.0)

    def why_unreadable(self) -> Diagnostic | None:
        try:
            self._probe.files.read(self.files[0])
        except FileFault as fault:
            return _why(self._probe, fault, self.name)
        return None

    def read(self) -> Value | None:
        steps = self._probe.number(self.files[0])
        # + 0.0 turns −0.0 into 0.0, which people would wonder about.
        return None if steps is None else round(steps * mailbox.STEP_MV, 2) + 0.0

    def plan(self, value: Value) -> list[Write]:
        return [Write(self.files[0], str(round(float(value) / mailbox.STEP_MV)))]

    def same(self, asked: Value, got: Value) -> bool:
        return abs(float(asked) - float(got)) <= SLACK_MV

    def refusal(self, fault: FileFault) -> Diagnostic:
        return _why(self._probe, fault, self.name)


def find(probe: Probe, machine: Surroundings) -> Found:
    """Return the offsets of all planes, or note why there are none.

    The mailbox is asked for the core plane's offset; on a processor that cannot have one it is left alone.
    """
    why: Diagnostic | None = None
    if machine.identity.virtual:
        why = note(DiagnosticCode.VIRTUAL_VOLTAGES, Subject.VOLTAGE_OFFSETS)
    elif machine.identity.chip_vendor in registers.OTHER_VENDORS:
        why = note(DiagnosticCode.NO_OFFSETS_OF_VENDOR, Subject.VOLTAGE_OFFSETS)
    else:
        # The core plane stands for all: a processor that answers for it answers for the others, or refuses them by
        # itself.
        try:
            probe.files.read(paths.CORE_OFFSET)
        except FileFault as fault:
            why = _why(probe, fault, Subject.VOLTAGE_OFFSETS)
    if why is not None:
        probe.add(why)
        return Found()
    names = ("core-offset", "cache-offset", "gpu-offset", "agent-offset")
    return Found([OffsetControl(probe, name, path) for name, path in zip(names, paths.OFFSETS, strict=True)])


_MAILBOX_FAULTS = {
    errno.EIO: DiagnosticCode.NO_MAILBOX,
    errno.ETIMEDOUT: DiagnosticCode.MAILBOX_SILENT,
    errno.EOPNOTSUPP: DiagnosticCode.MAILBOX_COPIED,
    0: DiagnosticCode.OFFSETS_CLOSED,
}


def _why(probe: Probe, fault: FileFault, about: str) -> Diagnostic:
    code = _MAILBOX_FAULTS.get(fault.errno)
    return registers.why_closed(probe, fault, about) if code is None else note(code, about, what=fault.what)
