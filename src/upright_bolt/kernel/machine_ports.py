"""Everything through which one machine is reached: files, registers, clock, and what a simulated one needs besides."""

from collections.abc import Callable
from dataclasses import dataclass, field

from upright_bolt.kernel.changes.port import MachineChanges, NoChanges
from upright_bolt.kernel.clock import Clock
from upright_bolt.kernel.ports import KernelFiles, Registers

SETTLE_S = 0.5
"""How long a machine may take until what was written shows. The kernel hands clock bounds to a work queue, which took
up to 117 ms under full load where it was measured."""


def _nothing() -> None:
    return


def _none_running(_names: frozenset[str]) -> frozenset[str]:
    return frozenset()


@dataclass(slots=True)
class MachinePorts:
    """The ports of one machine.

    Attributes:
        spec: as typed: ``host``, ``twin:tern``, ``tree:DIR``.
        settle_s: how long it may take until a value that was written can be read back; 0 for a copy of files.
        save: makes what has happened last, where the machine is not real.
        keep_up: lets a simulated machine's time pass as real time has; does nothing on a real one.
        changes: tells what happens to it from outside.
        programs: returns which of the programs named are running.
    """

    spec: str
    files: KernelFiles
    registers: Registers
    clock: Clock
    settle_s: float = SETTLE_S
    save: Callable[[], None] = _nothing
    keep_up: Callable[[], None] = _nothing
    changes: MachineChanges = field(default_factory=NoChanges)
    programs: Callable[[frozenset[str]], frozenset[str]] = _none_running
