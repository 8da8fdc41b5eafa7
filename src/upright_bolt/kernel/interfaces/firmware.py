"""Power limits through firmware: ``ppt_*`` under ``/sys/class/firmware-attributes``, or the older platform files.

Other vendors' processors have no limits in powercap; their boards offer them here, in whole watts, with lowest and
highest value declared. The firmware may refuse a value or take it only in its own steps.

The kernel's own pages: Documentation/ABI/testing/sysfs-class-firmware-attributes and
ABI/testing/sysfs-platform-asus-wmi.
"""

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import Facts, Found, Surroundings, Write, facts_of, write_fault
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.sensors.channels import Gauge
from upright_bolt.model.catalogue import title_of
from upright_bolt.model.control import ControlState, Value
from upright_bolt.model.note import Diagnostic
from upright_bolt.model.quantity import POWER
from upright_bolt.model.sensor import Sensor, SensorKind

ATTRIBUTES = {"sustained": "ppt_pl1_spl", "burst": "ppt_pl2_sppt", "peak": "ppt_pl3_fppt"}
RANK = 30
FLOOR_W = 3.0
"""Least limit offered where none is declared: less leaves no chip its idle watts and a slow core."""
SLACK_W = 0.5
"""Half a step of one watt."""


class AttributeLimit:
    """A package limit as a firmware attribute: a folder with its value and range, or one file of the older form."""

    def __init__(self, probe: Probe, name: str, path: str, *, folder: bool) -> None:
        self.name = name
        self._probe = probe
        self._folder = path if folder else None
        self.files: tuple[str, ...] = (f"{path}/current_value" if folder else path,)

    def _declared(self, name: str) -> float | None:
        number = self._probe.number(f"{self._folder}/{name}") if self._folder else None
        return None if number is None else float(number)

    def facts(self) -> Facts:
        low, high = self._declared("min_value"), self._declared("max_value")
        least = low if low is not None else FLOOR_W
        spans = () if high is not None else (self.name, "sustained", "burst")  # what is declared is not widened
        return facts_of(self._probe.files, self.files, Facts(ControlState.SETTABLE, None, least, high, spans=spans))

    def read(self) -> Value | None:
        number = self._probe.number(self.files[0])
        return None if number is None else float(number)

    def plan(self, value: Value) -> list[Write]:
        return [Write(self.files[0], str(round(float(value))))]

    def same(self, asked: Value, got: Value) -> bool:
        return abs(float(asked) - float(got)) <= SLACK_W

    def refusal(self, fault: FileFault) -> Diagnostic:
        return write_fault(fault, self.name)


def _locations(probe: Probe) -> dict[str, tuple[str, bool]]:
    """Return, by control name, where its attribute lies, and whether that is a folder."""
    found: dict[str, tuple[str, bool]] = {}
    for board in probe.files.names(paths.FIRMWARE_ATTRIBUTES):
        for name, attribute in ATTRIBUTES.items():
            path = f"{paths.FIRMWARE_ATTRIBUTES}/{board}/attributes/{attribute}"
            if probe.files.exists(f"{path}/current_value"):
                # The first board wins; a second one would be a second driver for the same firmware.
                found.setdefault(name, (path, True))
    for device in probe.files.names(paths.PLATFORM_DEVICES):
        for name, attribute in ATTRIBUTES.items():
            path = f"{paths.PLATFORM_DEVICES}/{device}/{attribute}"
            if name not in found and probe.files.exists(path):
                found[name] = (path, False)
    return found


def present(probe: Probe) -> bool:
    """Tell whether there are limits here."""
    return bool(_locations(probe))


def find(probe: Probe, machine: Surroundings) -> Found:  # noqa: ARG001 - the form of every interface
    """Return the limits as controls and sensors."""
    found = Found()
    for name, (path, folder) in _locations(probe).items():
        control = AttributeLimit(probe, name, path, folder=folder)
        found.controls.append(control)
        if control.read() is not None:
            sensor = Sensor(f"limit.{name}", POWER, title_of(name), SensorKind.LIMIT)
            found.channels.append(Gauge(sensor, control.files[0]))
    return found
