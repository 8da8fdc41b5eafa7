"""A machine's spec, and the ports behind it: this computer, a simulated one, or a copy of kernel files."""

import hashlib
import os
import shutil
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from upright_bolt.errors import BoltError
from upright_bolt.kernel.changes.port import MachineChanges, NoChanges
from upright_bolt.kernel.clock import RealClock
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.ports import COPY_STRIDE, CopiedFiles, DeviceRegisters, RealFiles
from upright_bolt.privileges import check_own, is_root

if TYPE_CHECKING:
    from upright_bolt.kernel.changes.writers import Writers
    from upright_bolt.simulator.machine import SimulatedMachine


@dataclass(frozen=True, slots=True)
class MachineSpec:
    """A machine as typed: ``host``, ``twin:NAME``, ``tree:DIR`` or ``tree:FILE.tar.gz``."""

    kind: str
    rest: str

    @property
    def text(self) -> str:
        """The spec in one form."""
        return f"{self.kind}:{self.rest}" if self.rest else self.kind

    @property
    def folder(self) -> str:
        """A folder name for what is remembered of it."""
        if self.kind != "tree":
            return self.text.replace(":", "-")
        return "tree-" + hashlib.sha256(self.rest.encode()).hexdigest()[:12]


def open_ports(
    spec: MachineSpec, folder: Path, *, saved: bool, served: bool, writers: "Writers | None" = None
) -> "tuple[MachinePorts, SimulatedMachine | None]":
    """Return a machine's ports; ``saved`` lets a twin's state last, ``served`` its time pass as real time does."""
    if spec.kind == "host":
        return host_ports(writers), None
    if spec.kind == "tree":
        root = _unpacked(Path(spec.rest), folder)
        registers = DeviceRegisters(root, COPY_STRIDE)
        changes: MachineChanges = NoChanges()
        if served:
            from upright_bolt.kernel.changes.real import RealChanges

            changes = RealChanges(root, writers, lambda: registers.writes)
        return MachinePorts(spec.text, CopiedFiles(root), registers, RealClock(), settle_s=0.0, changes=changes), None
    from upright_bolt.simulator.machine import SimulatedClock, open_simulated
    from upright_bolt.simulator.outside import Outside

    twin = open_simulated(spec.rest, folder / "twin.json")
    if not saved:
        twin.keep_in_memory()
    clock = SimulatedClock(twin)
    outside = Outside(twin, folder, power_cut=lambda: os._exit(0)) if served else Outside(twin)
    ports = MachinePorts(
        spec.text, twin.files, twin.registers, clock, save=twin.save, changes=outside, programs=outside.programs
    )
    if served:
        ports.keep_up = clock.keep_up
    return ports, twin


def host_ports(writers: "Writers | None" = None) -> MachinePorts:
    """Return this computer's ports."""
    from upright_bolt.kernel.changes.programs import DeskUsers, ProgramScan
    from upright_bolt.kernel.changes.real import RealChanges

    root = Path("/")
    files = RealFiles(root)
    scan = ProgramScan(files, DeskUsers())
    registers = DeviceRegisters(root)
    changes = RealChanges(root, writers, lambda: registers.writes)
    return MachinePorts("host", files, registers, RealClock(), changes=changes, programs=scan.running)


def _unpacked(path: Path, folder: Path) -> Path:
    """Return the folder of a tree; a capture is unpacked anew each time, so that it stays what it was.

    Raises:
        BoltError: it is no capture, or root is to open one that somebody else could have written.
    """
    if is_root():
        check_own(path)
    if path.is_dir():
        return path

    from upright_bolt.captures.archive import unpack

    root = folder / "unpacked"
    shutil.rmtree(root, ignore_errors=True)
    root.mkdir(parents=True)
    try:
        unpack(path, root)
    except BoltError:
        shutil.rmtree(root, ignore_errors=True)
        raise
    return root
