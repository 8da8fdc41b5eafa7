"""Voltage offsets per plane, through the register mailbox, where processor and firmware leave it open.

Every way in which the mailbox can be closed is told apart: no module, no rights, kernel lockdown, no such register,
refused by the processor, never answered. A firmware lock can also let a write pass and ignore it; that shows when it is
read back. Everything is gone after sleep and reboot. Core and cache share a rail on many chips: the weaker of the two
offsets is what counts.
"""

import errno

from upright_bolt.errors import FileFault
from upright_bolt.kernel import mailbox, paths, registers
from upright_bolt.kernel.driver import Facts, Found, Surroundings
from upright_bolt.kernel.file_control import FileControl, Number, within
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.control import ControlState
from upright_bolt.model.note import Diagnostic, DiagnosticCode, Subject, note

RANK = 120
LOWEST_MV = -250.0
SLACK_MV = 0.5
"""Half a step of 1/1024 V."""


class OffsetControl(FileControl):
    """The offset of one voltage plane, in mV; below zero is less voltage."""

    def __init__(self, probe: Probe, name: str, path: str) -> None:
        facts = Facts(ControlState.SETTABLE, minimum=LOWEST_MV, maximum=0.0)
        super().__init__(
            probe,
            name,
            (path,),
            Number(within(SLACK_MV), per_unit=1.0 / mailbox.STEP_MV, digits=2),
            lambda: facts,
            closed=lambda: registers.why_unwritable(probe, name),
            refused=lambda fault, name: _why(probe, fault, name),
        )

    def why_unreadable(self) -> Diagnostic | None:
        """Return why, or None if it can be read after all."""
        try:
            self._probe.files.read(self.files[0])
        except FileFault as fault:
            return _why(self._probe, fault, self.name)
        return None


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
