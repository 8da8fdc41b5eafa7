"""Every kernel path this program uses, as the kernel names them. The ports decide where they lie."""

import re

CPUINFO = "/proc/cpuinfo"
VERSION = "/proc/version"
PROC = "/proc"
STAT = "/proc/stat"
COMMAND_LINE = "/proc/cmdline"
LOADAVG = "/proc/loadavg"
PCI_DEVICES = "/sys/bus/pci/devices"
BOOT_ID = "/proc/sys/kernel/random/boot_id"

CPU = "/sys/devices/system/cpu"
CPU_ONLINE = f"{CPU}/online"
CPUFREQ = f"{CPU}/cpufreq"
PSTATE = f"{CPU}/intel_pstate"
NO_TURBO = f"{PSTATE}/no_turbo"
BOOST = f"{CPUFREQ}/boost"
DRIVER_SWITCHES = (f"{PSTATE}/status", f"{CPU}/amd_pstate/status")
"""Whoever writes one of these changes how the scaling driver works: the files of every policy are made anew."""

POWERCAP = "/sys/class/powercap"
HWMON = "/sys/class/hwmon"
THERMAL = "/sys/class/thermal"
DRM = "/sys/class/drm"
OF_GRAPHICS = (f"{DRM}/", f"{PCI_DEVICES}/")
"""Where files of graphics chips lie, among others."""
SUPPLY = "/sys/class/power_supply"
LID = "/proc/acpi/button/lid"
DMI = "/sys/class/dmi/id"
PLATFORM_PROFILE = "/sys/firmware/acpi/platform_profile"
PLATFORM_CLASS = "/sys/class/platform-profile"
FIRMWARE_ATTRIBUTES = "/sys/class/firmware-attributes"
PLATFORM_DEVICES = "/sys/devices/platform"
MSR_DEVICES = "/dev/cpu"
LOCKDOWN = "/sys/kernel/security/lockdown"

CORE_OFFSET = f"{MSR_DEVICES}/0/msr:offset-core"
OFFSETS = {
    CORE_OFFSET: 0,
    f"{MSR_DEVICES}/0/msr:offset-cache": 2,
    f"{MSR_DEVICES}/0/msr:offset-graphics": 1,
    f"{MSR_DEVICES}/0/msr:offset-agent": 3,
}
"""Names of our own for values that stand behind a register, and the mailbox plane of each."""

CURRENT_LIMIT = f"{MSR_DEVICES}/0/msr:current-limit"
CLAMP = f"{MSR_DEVICES}/0/msr:clamp"
HOT_SIGNAL = f"{MSR_DEVICES}/0/msr:hot-signal"
TURBO_TABLE = f"{MSR_DEVICES}/0/msr:turbo-table"
LIMIT_SWITCHES = (f"{MSR_DEVICES}/0/msr:sustained-switches", f"{MSR_DEVICES}/0/msr:burst-switches")
"""Of the sustained and of the burst limit: bit 0 whether it is enforced, bit 1 whether it may clamp."""
REGISTER_BITS = {
    LIMIT_SWITCHES[0]: (0x610, 16, 15),
    LIMIT_SWITCHES[1]: (0x610, 48, 47),
    CURRENT_LIMIT: (0x601, 12, 0),
    CLAMP: (0x610, 16, 16),
    HOT_SIGNAL: (0x1FC, 0, 0),
    TURBO_TABLE: (0x1AD, 63, 0),
}
"""Names of our own for bits of a register that can be written: register, highest and lowest bit."""

ZONES_OF_REGISTERS = f"{POWERCAP}/intel-rapl:"
"""Their limits lie in registers, which programs write through the register devices just as well."""
TOLD = (f"{CPU}/", PLATFORM_PROFILE, f"{DRM}/")
"""Where nothing changes without a word from the kernel: clocks, governor, preference, mode, and settings of GPUs."""

AMDGPU_FEATURES = "/sys/module/amdgpu/parameters/ppfeaturemask"
ALLOW_WRITES = "/sys/module/msr/parameters/allow_writes"


def is_register(path: str) -> bool:
    """Tell whether a path is our own name for what stands behind a register, so that no file has it."""
    return path in OFFSETS or path in REGISTER_BITS


_NUMBER = re.compile(r"\d+")
_PROCESSOR = re.compile(rf"{CPU}/(?:cpu|cpufreq/policy)(\d+)/")


def processor_of(path: str) -> int | None:
    """Return to which processor a kernel file belongs; None if to none."""
    found = _PROCESSOR.match(path)
    return int(found[1]) if found is not None else None


def without_numbers(path: str) -> str:
    """Return a path without its numbers, so that the same file of two processors is one."""
    return _NUMBER.sub("", path)


def process_stat(number: int) -> str:
    """Return what the kernel tells of process ``number``."""
    return f"{PROC}/{number}/stat"


def policy(number: int, name: str) -> str:
    """Return a file of cpufreq policy ``number``."""
    return f"{CPUFREQ}/policy{number}/{name}"


def topology(cpu: int, name: str) -> str:
    """Return a topology file of logical processor ``cpu``."""
    return f"{CPU}/cpu{cpu}/topology/{name}"


def bias(cpu: int) -> str:
    """Return the energy bias of logical processor ``cpu``."""
    return f"{CPU}/cpu{cpu}/power/energy_perf_bias"


def throttle(cpu: int, name: str) -> str:
    """Return a throttle counter of logical processor ``cpu``."""
    return f"{CPU}/cpu{cpu}/thermal_throttle/{name}"


def idle(cpu: int) -> str:
    """Return the folder of idle states of logical processor ``cpu``."""
    return f"{CPU}/cpu{cpu}/cpuidle"


def kind_cpus(kind: str) -> str:
    """Return the list of processors of one kind of core, ``core`` or ``atom``."""
    return f"/sys/devices/cpu_{kind}/cpus"


def msr_device(cpu: int) -> str:
    """Return the register device of logical processor ``cpu``."""
    return f"{MSR_DEVICES}/{cpu}/msr"


LOCKS = "/proc/locks"
"""Who holds which lock on a file."""


def process_file(pid: int, name: str) -> str:
    """Return the path of a file that the kernel keeps for a process."""
    return f"/proc/{pid}/{name}"


def own_open_file(number: int) -> str:
    """Return the path by which this process reaches what it has open as descriptor ``number``."""
    return f"/proc/self/fd/{number}"
