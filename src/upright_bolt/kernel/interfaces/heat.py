"""Heat, fans and throttling: ``/sys/class/hwmon`` by name, ``/sys/class/thermal`` as fallback, throttle counters.

Chips are found by ``name``, never by number; the order differs from boot to boot. A fan that reads 65535 or
gives an error does not exist.

The kernel's own pages: Documentation/hwmon/sysfs-interface and driver-api/thermal/sysfs-api.
"""

import re

from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import Found, Surroundings
from upright_bolt.kernel.interfaces import graphics
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.sensors.channels import Gauge
from upright_bolt.model.machine import Topology
from upright_bolt.model.note import DiagnosticCode, Subject
from upright_bolt.model.quantity import COUNT, SPEED, TEMPERATURE
from upright_bolt.model.sensor import Sensor, SensorKind

RANK = 40
PROCESSOR_CHIPS = ("coretemp", "k10temp")
PACKAGE_LABELS = ("Package id 0", "Tctl", "Tdie")
NO_FAN = 65535
PACKAGE = "temperature.package"


def find(probe: Probe, machine: Surroundings) -> Found:
    """Return temperature, fan and throttle channels, and the ceiling in °C that the sensor chip declares."""
    found = Found()
    for folder in probe.files.names(paths.HWMON):
        path = f"{paths.HWMON}/{folder}"
        chip = probe.text(f"{path}/name")
        if chip is None or chip in graphics.CHIPS:  # a graphics chip may sleep: its own module sees to that
            continue
        critical = _add_chip(probe, found, path, chip)
        if chip in PROCESSOR_CHIPS and critical is not None:
            found.ceiling_c = critical
    _add_zones(probe, found)
    _add_throttle(probe, found, machine.topology)
    sensors = [channel.sensor for channel in found.channels if isinstance(channel, Gauge)]
    if not any(sensor.name == PACKAGE for sensor in sensors):
        code = DiagnosticCode.VIRTUAL_SENSORS if machine.identity.virtual else DiagnosticCode.NO_PROCESSOR_SENSOR
        probe.note(Subject.PROCESSOR_TEMPERATURE, code)
    if not any(sensor.kind is SensorKind.FAN for sensor in sensors):
        probe.note(Subject.FAN_SPEED, DiagnosticCode.NO_FAN)
    return found


def _add_chip(probe: Probe, found: Found, path: str, chip: str) -> float | None:
    critical = None
    for file in probe.files.names(path):
        match = re.fullmatch(r"(temp|fan)(\d+)_input", file)
        if match is None or probe.number(f"{path}/{file}") is None:
            continue
        kind, number = match[1], match[2]
        label = probe.text(f"{path}/{kind}{number}_label") or ""
        # Fans are numbered over all chips, since people count fans and not sensor chips.
        if kind == "fan":
            order = sum(1 for c in found.channels if isinstance(c, Gauge) and c.sensor.quantity is SPEED) + 1
            title = f"Fan {order}" + (f" ({label})" if label else "")
            sensor = Sensor(f"fan.{order}", SPEED, title, SensorKind.FAN)
            found.channels.append(Gauge(sensor, f"{path}/{file}", void=NO_FAN))
            continue
        name, title = _temperature_name(found, chip, label, number)
        sensor = Sensor(name, TEMPERATURE, title, SensorKind.TEMPERATURE)
        found.channels.append(Gauge(sensor, f"{path}/{file}", 1e-3))
        if name == PACKAGE:
            millidegrees = probe.number(f"{path}/temp{number}_crit")
            critical = millidegrees / 1000 if millidegrees else None
    return critical


def _temperature_name(found: Found, chip: str, label: str, number: str) -> tuple[str, str]:
    taken = {c.sensor.name for c in found.channels if isinstance(c, Gauge)}
    if chip in PROCESSOR_CHIPS:
        if label in PACKAGE_LABELS and PACKAGE not in taken:
            return PACKAGE, "Package temperature"
        core = re.fullmatch(r"Core (\d+)", label)
        if core and f"temperature.core{core[1]}" not in taken:
            return f"temperature.core{core[1]}", f"Temperature of core {core[1]}"
    # Chips and labels are firmware's words and may hold anything; a sensor's name may not.
    base = re.sub(r"[^a-z0-9]+", "-", f"{chip} {label}".lower()).strip("-")
    name = f"temperature.{base}"
    if name in taken:
        name = f"{name}-{number}"
    return name, f"Temperature {label or number} ({chip})"


def _add_zones(probe: Probe, found: Found) -> None:
    taken = {c.sensor.name for c in found.channels if isinstance(c, Gauge)}
    for folder in probe.files.names(paths.THERMAL):
        if not folder.startswith("thermal_zone"):
            continue
        kind = probe.text(f"{paths.THERMAL}/{folder}/type")
        name = PACKAGE if kind == "x86_pkg_temp" else f"temperature.zone-{kind}".lower()
        path = f"{paths.THERMAL}/{folder}/temp"
        if kind is None or name in taken or probe.number(path) is None:
            continue
        taken.add(name)
        sensor = Sensor(name, TEMPERATURE, f"Thermal zone {kind}", SensorKind.TEMPERATURE)
        found.channels.append(Gauge(sensor, path, 1e-3))


def _add_throttle(probe: Probe, found: Found, topology: Topology) -> None:
    if not topology.cpus:
        return
    first = topology.cpus[0]
    path = paths.throttle(first, "package_throttle_count")
    if probe.number(path) is not None:
        sensor = Sensor("throttle.package", COUNT, "Package throttle events", SensorKind.THROTTLE)
        found.channels.append(Gauge(sensor, path))
    seen: set[tuple[int, int]] = set()
    for cpu, core in topology.core_of.items():
        path = paths.throttle(cpu, "core_throttle_count")
        # Two threads of a core show the same counter.
        if core in seen or not probe.files.exists(path) or probe.number(path) is None:
            continue
        seen.add(core)
        title = f"Throttle events of core {core[1]}"
        sensor = Sensor(f"throttle.core{len(seen) - 1}", COUNT, title, SensorKind.THROTTLE)
        found.channels.append(Gauge(sensor, path))
