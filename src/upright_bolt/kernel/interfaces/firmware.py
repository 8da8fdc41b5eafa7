"""Power limits through firmware: ``ppt_*`` under ``/sys/class/firmware-attributes``, or the older platform files.

Other vendors' processors have no limits in powercap; their boards offer them here, in whole watts, with lowest and
highest value declared. The firmware may refuse a value or take it only in its own steps.

The kernel's own pages: Documentation/ABI/testing/sysfs-class-firmware-attributes and
ABI/testing/sysfs-platform-asus-wmi.
"""

from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import Facts, Found, Surroundings
from upright_bolt.kernel.file_control import FileControl, Number, within
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.sensors.channels import Gauge
from upright_bolt.model.catalogue import title_of
from upright_bolt.model.control import ControlState
from upright_bolt.model.quantity import POWER
from upright_bolt.model.sensor import Sensor, SensorKind

ATTRIBUTES = {"sustained": "ppt_pl1_spl", "burst": "ppt_pl2_sppt", "peak": "ppt_pl3_fppt"}
RANK = 30
FLOOR_W = 3.0
"""Least limit offered where none is declared: less leaves no chip its idle watts and a slow core."""
SLACK_W = 0.5
"""Half a step of one watt."""


def _limit(probe: Probe, name: str, path: str, *, folder: bool) -> FileControl:
    """Return a package limit: an attribute's folder with its value and range, or one file of the older form."""

    def declared(file: str) -> float | None:
        number = probe.number(f"{path}/{file}") if folder else None
        return None if number is None else float(number)

    def allowed() -> Facts:
        low, high = declared("min_value"), declared("max_value")
        spans = () if high is not None else (name, "sustained", "burst")  # what is declared is not widened
        return Facts(ControlState.SETTABLE, None, FLOOR_W if low is None else low, high, spans=spans)

    file = f"{path}/current_value" if folder else path
    return FileControl(probe, name, (file,), Number(within(SLACK_W)), allowed)


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
        control = _limit(probe, name, path, folder=folder)
        found.controls.append(control)
        if control.read() is not None:
            sensor = Sensor(f"limit.{name}", POWER, title_of(name), SensorKind.LIMIT)
            found.channels.append(Gauge(sensor, control.files[0]))
    return found
