"""Power source: ``/sys/class/power_supply``. Supplies of scope ``Device`` (mice, headsets) are left out.

A battery tells its watts as ``power_now`` (µW), or as ``current_now`` times ``voltage_now``; the sign varies by
driver, so the direction is taken from ``status``. What it holds comes as energy, or as charge times voltage.

The kernel's own page: Documentation/ABI/testing/sysfs-class-power.
"""

from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import Found, Surroundings
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.sensors.channels import BatteryFiles, Supplies
from upright_bolt.model.note import DiagnosticCode, Subject
from upright_bolt.model.quantity import HOURS, POWER, SHARE, SWITCH
from upright_bolt.model.sensor import Sensor, SensorKind

RANK = 80


def find(probe: Probe, machine: Surroundings) -> Found:  # noqa: ARG001 - the form of every interface
    """Return all chargers and batteries that are the computer's own, as one channel."""
    found = Found()
    chargers: list[str] = []
    batteries: list[BatteryFiles] = []
    for name in probe.files.names(paths.SUPPLY):
        path = f"{paths.SUPPLY}/{name}"
        kind = probe.text(f"{path}/type")
        if kind is None or (probe.files.exists(f"{path}/scope") and probe.text(f"{path}/scope") == "Device"):
            continue
        if kind in ("Mains", "USB") and probe.number(f"{path}/online") is not None:
            chargers.append(f"{path}/online")
        elif kind == "Battery" and probe.text(f"{path}/present") != "0":
            battery = _battery(probe, path)
            if battery is not None:
                batteries.append(battery)
    if not chargers and not batteries:
        probe.note(Subject.POWER_SOURCE, DiagnosticCode.NO_POWER_SUPPLY)
        return found
    found.channels.append(Supplies(_sensors(chargers, batteries), tuple(chargers), tuple(batteries)))
    return found


def _battery(probe: Probe, path: str) -> BatteryFiles | None:
    def file(name: str) -> str | None:
        return f"{path}/{name}" if probe.number(f"{path}/{name}") is not None else None

    if probe.text(f"{path}/status") is None:
        return None
    in_charge = file("energy_now") is None and file("charge_now") is not None
    of = "charge" if in_charge else "energy"
    return BatteryFiles(
        status=f"{path}/status",
        capacity=file("capacity"),
        power=file("power_now"),
        current=file("current_now"),
        voltage=file("voltage_now"),
        stored=file(f"{of}_now"),
        full=file(f"{of}_full"),
        in_charge=in_charge,
    )


def _sensors(chargers: list[str], batteries: list[BatteryFiles]) -> dict[str, Sensor]:
    found: dict[str, Sensor] = {}
    if chargers:
        found["charger"] = Sensor("charger", SWITCH, "Charger plugged in", SensorKind.SUPPLY)
    if any(b.capacity or (b.stored and b.full) for b in batteries):
        found["battery.charge"] = Sensor("battery.charge", SHARE, "Battery charge", SensorKind.SUPPLY)
    if any(b.power or (b.current and b.voltage) for b in batteries):
        found["battery.drain"] = Sensor("battery.drain", POWER, "Battery drain", SensorKind.SUPPLY)
        if any(b.stored and (b.voltage or not b.in_charge) for b in batteries):
            found["battery.hours"] = Sensor("battery.hours", HOURS, "Hours left at this drain", SensorKind.SUPPLY)
    return found
