"""The temperature at which the processor throttles, lowered by an offset of its thermal device.

The file (``tcc_offset_degree_celsius``, or the state of a cooling device) counts degrees below the highest die
temperature, which a register tells. The ceiling can only be lowered from there; thermal protection is never touched.

The kernel's own page: Documentation/driver-api/thermal/sysfs-api.
"""

from upright_bolt.kernel import paths, registers
from upright_bolt.kernel.driver import Facts, Found, Surroundings
from upright_bolt.kernel.file_control import FileControl, Number, within
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.control import ControlState
from upright_bolt.model.note import DiagnosticCode, Subject

RANK = 110
TCC_DEVICE = "TCC Offset"
"""The same setting as a thermal cooling device, on other kernels."""
FILE = "tcc_offset_degree_celsius"
MOST_C = 63
"""The offset has six bits (register 0x1A2, bits 29:24)."""
LOWEST_C = 60.0
"""Below this the clock falls so far that the machine is hardly usable."""


def _ceiling(probe: Probe, path: str, highest_c: float) -> FileControl:
    """Return the ceiling in °C."""
    facts = Facts(ControlState.SETTABLE, minimum=max(LOWEST_C, highest_c - MOST_C), maximum=highest_c)
    degrees_below = Number(within(0.5), per_unit=-1.0, base=highest_c)
    return FileControl(probe, "heat-ceiling", (path,), degrees_below, lambda: facts)


def find(probe: Probe, machine: Surroundings) -> Found:  # noqa: ARG001 - the form of every interface
    """Return the ceiling, or note why there is none."""
    target = probe.register(0, registers.TEMP_TARGET)
    for device in probe.files.names(paths.PCI_DEVICES):
        path = f"{paths.PCI_DEVICES}/{device}/{FILE}"
        if not probe.files.exists(path):
            continue
        # The file holds an offset from a target in a register. Without that, no temperature can be told.
        if target is None:
            probe.note(Subject.HEAT_CEILING, DiagnosticCode.CEILING_UNREADABLE)
            return Found()
        return Found([_ceiling(probe, path, float(registers.bits(target, 23, 16)))])
    for device in probe.files.names(paths.THERMAL):
        folder = f"{paths.THERMAL}/{device}"
        if target is not None and device.startswith("cooling_device") and probe.text(f"{folder}/type") == TCC_DEVICE:
            return Found([_ceiling(probe, f"{folder}/cur_state", float(registers.bits(target, 23, 16)))])
    probe.note(Subject.HEAT_CEILING, DiagnosticCode.NO_CEILING_DEVICE)
    return Found()
