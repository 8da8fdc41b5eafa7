"""The survey: every interface looked at once, giving a machine's identity, controls, channels and gaps."""

from dataclasses import dataclass, replace

from upright_bolt.kernel import (
    arguments,
    ceiling,
    cpufreq,
    firmware,
    graphics,
    heat,
    idle,
    nvidia,
    package_bits,
    paths,
    platform,
    powercap,
    registers,
    supply,
    voltage,
)
from upright_bolt.kernel.channels import BusyTable, Channel
from upright_bolt.kernel.driver import ControlDriver, Found
from upright_bolt.kernel.identity import read_identity, read_topology
from upright_bolt.kernel.ports import KernelFiles, Registers
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.surfaces import Surfaces
from upright_bolt.model.machine import Identity, Missing, Topology
from upright_bolt.model.quantity import SHARE
from upright_bolt.model.sensor import Sensor

GAPS = {
    "window": powercap.GAP,
    "sustained": powercap.GAP,
    "burst": powercap.GAP,
    "limiter": powercap.GAP,
    "clamp": registers.GAP,
    "current": registers.GAP,
    "turbo-table": registers.GAP,
    "hot-signal": registers.GAP,
    "idle-off": idle.GAP,
    "platform-mode": platform.GAP,
    "heat-ceiling": ceiling.GAP,
}
"""The gap, as noted, that explains an absent control."""
DEFAULT_WHY = {
    "window": "the firmware of this machine keeps its averaging time to itself",
    "limiter": "the firmware of this machine always enforces its limits",
    "peak": "no interface of this machine offers a peak limit",
    "board": "this board does not count the watts of everything on it (no psys zone)",
    "current": "this processor keeps no current limit in a register",
    "turbo-table": "this processor keeps no turbo table in a register",
}


@dataclass(frozen=True, slots=True)
class Surveyed:
    """A machine as found.

    Attributes:
        controls: by name, in the order in which they are put in force (see ``WRITE_ORDER``).
        absent: why, for every control of ``WRITE_ORDER`` that no interface offers.
        ceiling_c: temperature at which the processor throttles; None if unknown.
        base_mhz, highest_mhz: base clock and highest turbo clock; None if unknown.
        turbo_table_mhz: highest clock by number of active cores; empty if unknown.
    """

    identity: Identity
    topology: Topology
    controls: dict[str, ControlDriver]
    channels: tuple[Channel, ...]
    missing: tuple[Missing, ...]
    absent: dict[str, str]
    ceiling_c: float | None
    base_mhz: float | None
    highest_mhz: float | None
    turbo_table_mhz: tuple[float, ...]


WRITE_ORDER = (
    "platform-mode", "governor", "turbo", "turbo-table", "clock-min", "clock-max", "epp", "limiter", "clamp", "window",
    "sustained", "burst", "peak", "board", "current", "idle-off", "heat-ceiling", "core-offset", "cache-offset",
    "gpu-offset", "agent-offset", "hot-signal",
)  # fmt: skip
"""The mode first, since it may rewrite limits. Governor before preference (the kernel refuses a preference under
``performance``), turbo before clocks (it moves their range)."""


def survey(files: KernelFiles, register_port: Registers, name: str) -> Surveyed:
    """Look at every interface of the machine behind the ports. ``name`` stands in for a missing product name."""
    probe = Probe(Surfaces(files, register_port), register_port)
    topology = read_topology(probe)
    identity = read_identity(probe, name, topology)
    virtual = identity.virtual
    clocks, clock_facts = cpufreq.find(probe, topology.kinds, virtual=virtual)
    warmth, chip_ceiling = heat.find(probe, topology, virtual=virtual)
    parts = [
        clocks,
        powercap.find(probe, virtual=virtual, elsewhere=firmware.present(probe)),
        firmware.find(probe),
        warmth,
        registers.find(probe, identity),
        Found(controls=package_bits.find(probe, topology.cores)),
        idle.find(probe, topology),
        supply.find(probe),
        graphics.find(probe),
        nvidia.find(probe),
        Found(controls=platform.find(probe)),
        Found(controls=ceiling.find(probe)),
        Found(controls=voltage.find(probe, identity)),
    ]
    channels: list[Channel] = [channel for part in parts for channel in part.channels]
    channels[:0] = _busy(probe, topology)
    arguments.find(probe)
    controls = {driver.name: driver for part in reversed(parts) for driver in part.controls}
    return Surveyed(
        identity=replace(identity, driver=clock_facts.driver),
        topology=topology,
        controls={word: controls[word] for word in WRITE_ORDER if word in controls},
        channels=tuple(channels),
        missing=tuple(probe.missing),
        absent={word: _why_absent(word, probe.missing) for word in WRITE_ORDER if word not in controls},
        ceiling_c=registers.ceiling_c(probe) or chip_ceiling,
        base_mhz=clock_facts.base_mhz,
        highest_mhz=clock_facts.highest_mhz,
        turbo_table_mhz=registers.turbo_table_mhz(probe, topology.cores),
    )


def refreshed(found: Surveyed, files: KernelFiles, register_port: Registers) -> Surveyed:
    """Return ``found`` with what settings can move read again: ceiling and turbo table."""
    probe = Probe(files, register_port)
    return replace(
        found,
        ceiling_c=registers.ceiling_c(probe) or found.ceiling_c,
        turbo_table_mhz=registers.turbo_table_mhz(probe, found.topology.cores) or found.turbo_table_mhz,
    )


def _why_absent(word: str, missing: list[Missing]) -> str:
    gap = voltage.GAP if word.endswith("-offset") else GAPS.get(word, cpufreq.GAP)
    why = next(
        (entry.why for entry in missing if entry.what == gap), DEFAULT_WHY.get(word, "this machine does not offer it")
    )
    return f"{why[0].upper()}{why[1:]}."


def _busy(probe: Probe, topology: Topology) -> list[Channel]:
    lines = probe.long_text(paths.STAT).splitlines()
    present = {line.split()[0][3:] for line in lines if line.startswith("cpu") and len(line.split()) >= 6}
    cpus = [cpu for cpu in topology.cpus if str(cpu) in present]
    if not cpus:
        probe.note("busy share", f"{paths.STAT} is missing or lists no processor")
        return []
    sensors = {cpu: Sensor(f"busy.cpu{cpu}", SHARE, f"Share of time processor {cpu} was active") for cpu in cpus}
    return [BusyTable(sensors, paths.STAT)]
