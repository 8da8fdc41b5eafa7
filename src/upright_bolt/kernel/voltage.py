"""Voltage offsets per plane, through the register mailbox, where processor and firmware leave it open.

Every way in which the mailbox can be closed is told apart: no module, no rights, kernel lockdown, no such register,
refused by the processor, never answered. A firmware lock can also let a write pass and ignore it; that shows when it is
read back. Everything is gone after sleep and reboot. Core and cache share a rail on many chips: the weaker of the two
offsets is what counts.
"""

import errno

from upright_bolt.errors import FileFault
from upright_bolt.kernel import mailbox, paths, registers
from upright_bolt.kernel.driver import ControlDriver, Facts, Write
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.control import ControlState, Value, declaration_of
from upright_bolt.model.machine import Identity

GAP = "voltage offsets"
LOWEST_MV = -250.0
SLACK_MV = 0.5
"""Half a step of 1/1024 V."""


class OffsetControl:
    """The offset of one voltage plane, in mV; below zero is less voltage."""

    coupled: tuple[str, ...] = ()

    def __init__(self, probe: Probe, name: str, path: str) -> None:
        self.name = name
        self._probe = probe
        self.files: tuple[str, ...] = (path,)

    def facts(self) -> Facts:
        return Facts(ControlState.SETTABLE, minimum=LOWEST_MV, maximum=0.0)

    def read(self) -> Value | None:
        steps = self._probe.number(self.files[0])
        return None if steps is None else round(steps * mailbox.STEP_MV, 2) + 0.0

    def plan(self, value: Value) -> list[Write]:
        return [Write(self.files[0], str(round(float(value) / mailbox.STEP_MV)))]

    def same(self, asked: Value, got: Value) -> bool:
        return abs(float(asked) - float(got)) <= SLACK_MV

    def refusal(self, fault: FileFault) -> str:
        return f"{declaration_of(self.name).title}: {_reason(self._probe, fault)}"


def find(probe: Probe, identity: Identity) -> list[ControlDriver]:
    """Return the offsets of all planes, or note why there are none.

    The mailbox is asked for the core plane's offset; on a processor that cannot have one it is left alone.
    """
    why = ""
    if identity.virtual:
        why = "this is a virtual machine: voltages belong to the machine it runs on"
    elif identity.chip_vendor in registers.OTHER_VENDORS:
        why = "no interface in the kernel offers voltage offsets on this vendor's processors"
    else:
        try:
            probe.files.read(paths.CORE_OFFSET)
        except FileFault as fault:
            why = _reason(probe, fault)
    if why:
        probe.note(GAP, why.rstrip("."))
        return []
    names = ("core-offset", "cache-offset", "gpu-offset", "agent-offset")
    return [OffsetControl(probe, name, path) for name, path in zip(names, paths.OFFSETS, strict=True)]


def _reason(probe: Probe, fault: FileFault) -> str:
    of_its_own = {
        errno.EIO: "this processor has no voltage mailbox",
        errno.ETIMEDOUT: "the voltage mailbox did not answer",
        0: f"{fault.what}: the firmware keeps the offsets closed. Look for undervolt protection in the firmware setup",
    }
    return of_its_own.get(fault.errno) or registers.why_closed(probe, fault)
