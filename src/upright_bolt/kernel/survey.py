"""The survey: every interface looked at once, giving a machine's identity, controls, channels and gaps.

Interfaces are the modules of ``kernel.interfaces``, found by themselves: a new one needs no entry anywhere.
"""

import importlib
import pkgutil
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from functools import cache
from typing import cast

from upright_bolt.analysis.limits.judge import FixedLimits
from upright_bolt.kernel import interfaces, registers
from upright_bolt.kernel.driver import ControlDriver, Found, Interface, Surroundings
from upright_bolt.kernel.gpu.gpus import Card, SleepGuard, find_cards
from upright_bolt.kernel.gpu.management_library import LibraryFiles
from upright_bolt.kernel.gpu.memory import GpuMemory
from upright_bolt.kernel.gpu.overdrive import OverdriveFiles
from upright_bolt.kernel.identity import read_identity, read_topology
from upright_bolt.kernel.ports import KernelFiles, NoRegisters, Registers
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.register_files import RegisterFiles
from upright_bolt.kernel.sensors.channels import Channel
from upright_bolt.model.catalogue import CATALOGUE, declaration_of
from upright_bolt.model.graphics import Gpu
from upright_bolt.model.machine import Identity, Topology
from upright_bolt.model.note import Diagnostic, note


@dataclass(frozen=True, slots=True)
class Surveyed:
    """A machine as found.

    Attributes:
        controls: drivers by full name, in the order in which they are written.
        absent: why, for every control of the whole machine that no interface offers.
        base_mhz: base clock; None if unknown.
        limits: what tells what holds the clock back, as far as it does not change from sample to sample.
        chips: graphics chips.
        files: the port through which controls are read and written.
        registers: the port through which its registers are believed.
    """

    identity: Identity
    topology: Topology
    controls: dict[str, ControlDriver]
    channels: tuple[Channel, ...]
    gaps: tuple[Diagnostic, ...]
    absent: dict[str, Diagnostic]
    base_mhz: float | None
    limits: FixedLimits
    files: KernelFiles
    chips: tuple[Gpu, ...] = ()
    registers: Registers = field(default_factory=NoRegisters)


@cache
def all_interfaces() -> tuple[Interface, ...]:
    """Return the modules of ``kernel.interfaces``, the lowest rank first."""
    names = sorted(module.name for module in pkgutil.iter_modules(interfaces.__path__))
    found = [cast(Interface, importlib.import_module(f"{interfaces.__name__}.{name}")) for name in names]
    return tuple(sorted(found, key=lambda module: module.RANK))


def survey(
    files: KernelFiles, register_port: Registers, name: str, memories: dict[str, GpuMemory] | None = None
) -> Surveyed:
    """Look at every interface of a machine.

    Args:
        files: its files.
        register_port: its registers.
        name: stands in for a missing product name.
        memories: of GPUs found earlier, see ``find_cards``.
    """
    probe = Probe(files, register_port)
    topology = read_topology(probe)
    identity = read_identity(probe, name, topology)
    # Another vendor keeps other things under the same numbers, so nothing is read there at all.
    if identity.chip_vendor.strip() in registers.OTHER_VENDORS:
        register_port = NoRegisters()
    cards = find_cards(files, memories)
    probe = probe.over(machine_files(files, register_port, cards), register_port)
    surroundings = Surroundings(identity, topology, cards)
    parts = [interface.find(probe, surroundings) for interface in all_interfaces()]
    # Two interfaces may offer the same control; the one with the lower rank wins.
    drivers = {driver.name: driver for part in reversed(parts) for driver in part.controls}
    order = sorted(drivers, key=lambda full: (declaration_of(full).write_order, full))
    gaps = tuple(probe.gaps)
    return Surveyed(
        identity=replace(identity, driver=next((part.driver for part in parts if part.driver), "")),
        topology=topology,
        controls={full: drivers[full] for full in order},
        channels=tuple(channel for part in parts for channel in part.channels),
        gaps=gaps,
        absent={
            word: _why_absent(word, gaps)
            for word, declared in CATALOGUE.items()
            if word not in drivers and not declared.of_part
        },
        base_mhz=_first(part.base_mhz for part in parts),
        limits=_limits(probe, topology, parts),
        registers=register_port,
        files=probe.files,
        chips=tuple(chip for part in parts for chip in part.chips),
    )


def _limits(probe: Probe, topology: Topology, parts: list[Found]) -> FixedLimits:
    return FixedLimits(
        ceiling_c=registers.ceiling_c(probe) or _first(part.ceiling_c for part in parts),
        turbo_table_mhz=registers.turbo_table_mhz(probe, topology.cores),
        highest_mhz=_first(part.highest_mhz for part in parts),
        lowest_mhz=_first(part.lowest_mhz for part in parts),
        kind_highest_mhz=next(
            (part.kind_highest_mhz for part in parts if part.kind_highest_mhz), (None,) * len(topology.kinds)
        ),
        live_bits=registers.REASON_BITS,
        status_bits=registers.STATUS_BITS,
    )


def refreshed(limits: FixedLimits, topology: Topology, files: KernelFiles, register_port: Registers) -> FixedLimits:
    """Return ``limits`` with what settings can move read again: ceiling and turbo table."""
    probe = Probe(files, register_port)
    return replace(
        limits,
        ceiling_c=registers.ceiling_c(probe) or limits.ceiling_c,
        turbo_table_mhz=registers.turbo_table_mhz(probe, topology.cores) or limits.turbo_table_mhz,
    )


def _why_absent(word: str, gaps: tuple[Diagnostic, ...]) -> Diagnostic:
    declared = CATALOGUE[word]
    gap = next((gap for gap in gaps if gap.about == declared.interface), None)
    return gap if gap is not None else note(declared.absent)


def _first(values: Iterable[float | None]) -> float | None:
    return next((value for value in values if value is not None), None)


def machine_files(files: KernelFiles, registers: Registers, cards: Sequence[Card]) -> KernelFiles:
    """Return ``files`` with everything that controls write; as they are if they have it already.

    Args:
        files: the kernel's.
        registers: the machine's.
        cards: its graphics chips.
    """
    if getattr(files, "register_backed", False):
        return files
    return RegisterFiles(files, registers, OverdriveFiles(SleepGuard(LibraryFiles(files, cards), cards)))
