"""The temperature at which the processor throttles, lowered by an offset of its thermal device.

The file (``tcc_offset_degree_celsius``, or the state of a cooling device) counts degrees below the highest die
temperature, which a register tells. The ceiling can only be lowered from there; thermal protection is never touched.

The kernel's own page: Documentation/driver-api/thermal/sysfs-api.
"""

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths, registers
from upright_bolt.kernel.driver import Facts, Found, Surroundings, Write, facts_of, write_fault
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.control import ControlState, Value
from upright_bolt.model.note import Diagnostic, DiagnosticCode, Subject

RANK = 110
TCC_DEVICE = "TCC Offset"
"""The same setting as a thermal cooling device, on other kernels."""
FILE = "tcc_offset_degree_celsius"
MOST_C = 63
"""The offset has six bits (register 0x1A2, bits 29:24)."""
LOWEST_C = 60.0
"""Below this the clock falls so far that the machine is hardly usable."""


class HeatCeiling:
    """The ceiling in °C."""

    name = "heat-ceiling"

    def __init__(self, probe: Probe, path: str, highest_c: float) -> None:
        self._probe = probe
        self._highest_c = highest_c
        self.files: tuple[str, ...] = (path,)

    def facts(self) -> Facts:
        low = max(LOWEST_C, self._highest_c - MOST_C)
        return facts_of(
            self._probe.files, self.files, Facts(ControlState.SETTABLE, minimum=low, maximum=self._highest_c)
        )

    def read(self) -> Value | None:
        offset = self._probe.number(self.files[0])
        return None if offset is None else self._highest_c - offset

    def plan(self, value: Value) -> list[Write]:
        return [Write(self.files[0], str(round(self._highest_c - float(value))))]

    def same(self, asked: Value, got: Value) -> bool:
        return abs(float(asked) - float(got)) <= 0.5

    def refusal(self, fault: FileFault) -> Diagnostic:
        return write_fault(fault, self.name)


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
        return Found([HeatCeiling(probe, path, float(registers.bits(target, 23, 16)))])
    for device in probe.files.names(paths.THERMAL):
        folder = f"{paths.THERMAL}/{device}"
        if target is not None and device.startswith("cooling_device") and probe.text(f"{folder}/type") == TCC_DEVICE:
            return Found([HeatCeiling(probe, f"{folder}/cur_state", float(registers.bits(target, 23, 16)))])
    probe.note(Subject.HEAT_CEILING, DiagnosticCode.NO_CEILING_DEVICE)
    return Found()
