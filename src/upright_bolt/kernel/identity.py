"""Identity: ``/proc/cpuinfo``, topology, DMI and the kernel's version.

Everything is optional; a machine that says nothing is still a machine, with empty words.

The kernel's own pages: Documentation/admin-guide/cputopology and ABI/testing/sysfs-devices-system-cpu.
"""

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.ports import KernelFiles
from upright_bolt.kernel.probe import Probe, cpu_list
from upright_bolt.model.machine import Identity, Topology
from upright_bolt.model.note import DiagnosticCode, Subject


def read_topology(probe: Probe) -> Topology:
    """Return the online processors; without the kernel's list, those of ``/proc/cpuinfo`` or ``/proc/stat``."""
    cpus = cpu_list(probe.text(paths.CPU_ONLINE) or "")
    if not cpus:
        cpus = [int(value) for key, value in _cpuinfo(probe) if key == "processor" and value.isdecimal()]
    if not cpus:
        lines = probe.long_text(paths.STAT).splitlines()
        names = [line.split()[0][3:] for line in lines if line.startswith("cpu")]
        cpus = [int(name) for name in names if name.isdecimal()]
    core_of = {}
    for cpu in cpus:
        core = probe.number(paths.topology(cpu, "core_id"))
        package = probe.number(paths.topology(cpu, "physical_package_id"))
        if core is not None:
            core_of[cpu] = (package or 0, core)
    _note_offline(probe, cpus)
    return Topology(tuple(cpus), core_of, _kinds(probe, cpus))


def _kinds(probe: Probe, cpus: list[int]) -> tuple[tuple[str, tuple[int, ...]], ...]:
    kinds = []
    for name, words in (("core", "P-cores"), ("atom", "E-cores")):
        members = tuple(cpu for cpu in cpu_list(probe.text(paths.kind_cpus(name)) or "") if cpu in cpus)
        if members:
            kinds.append((words, members))
    return tuple(kinds) if len(kinds) > 1 else ()


def _note_offline(probe: Probe, cpus: list[int]) -> None:
    present = cpu_list(probe.text(f"{paths.CPU}/present") or "")
    off = [cpu for cpu in present if cpu not in cpus]
    if off and cpus:
        probe.note(f"processors {', '.join(map(str, off))}", DiagnosticCode.PROCESSORS_OFFLINE)


def read_identity(probe: Probe, name: str, topology: Topology) -> Identity:
    """Return who the machine is, its driver left empty. ``name`` stands in for a missing product name."""
    info: dict[str, str] = {}
    for key, value in _cpuinfo(probe):
        info.setdefault(key, value)
    if not info:
        probe.note(Subject.PROCESSOR_NAME, DiagnosticCode.NO_CPUINFO, path=paths.CPUINFO)
    version = probe.long_text(paths.VERSION).split()
    return Identity(
        name=probe.text(f"{paths.DMI}/product_name") or name,
        vendor=probe.text(f"{paths.DMI}/sys_vendor") or info.get("vendor_id", ""),
        processor=info.get("model name", ""),
        cores=topology.cores,
        threads=len(topology.cpus) or None,
        kernel=version[2] if len(version) > 2 else "",
        driver="",
        virtual="hypervisor" in info.get("flags", "").split(),
        chip_vendor=info.get("vendor_id", ""),
        microcode=info.get("microcode", ""),
        stepping=info.get("stepping", ""),
        board=" ".join(filter(None, (probe.text(f"{paths.DMI}/{name}") for name in ("board_vendor", "board_name")))),
        firmware=probe.text(f"{paths.DMI}/bios_version") or "",
    )


def _cpuinfo(probe: Probe) -> list[tuple[str, str]]:
    pairs = []
    for line in probe.long_text(paths.CPUINFO).splitlines():
        key, colon, value = line.partition(":")
        if colon:
            pairs.append((key.strip(), value.strip()))
    return pairs


def read_boot_id(files: KernelFiles) -> str:
    """Return the name of the present boot; empty if the kernel does not say."""
    try:
        return files.read(paths.BOOT_ID).decode("ascii", "replace").strip()
    except FileFault:
        return ""
