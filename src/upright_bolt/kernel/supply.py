"""Power source: ``/sys/class/power_supply``. Supplies of scope ``Device`` (mice, headsets) are left out.

Battery power comes as ``power_now`` (µW), or as ``current_now`` and ``voltage_now``; its sign varies, so drain
is told by ``status``. Only ``power_now`` is read while sampling.
"""

from upright_bolt.kernel import paths
from upright_bolt.kernel.channels import Gauge, Word
from upright_bolt.kernel.driver import Found
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.quantity import COUNT, POWER, SHARE, SWITCH
from upright_bolt.model.sensor import Sensor

CHARGING = {"Discharging": -1.0, "Charging": 1.0, "Full": 0.0, "Not charging": 0.0}


def find(probe: Probe) -> Found:
    """Return charger and battery channels; the first of each kind that is the computer's own."""
    found = Found()
    seen: set[str] = set()
    for name in probe.files.names(paths.SUPPLY):
        path = f"{paths.SUPPLY}/{name}"
        kind = probe.text(f"{path}/type")
        if kind is None or (probe.files.exists(f"{path}/scope") and probe.text(f"{path}/scope") == "Device"):
            continue
        if kind in ("Mains", "USB") and "charger" not in seen and probe.number(f"{path}/online") is not None:
            seen.add("charger")
            found.channels.append(Gauge(Sensor("charger", SWITCH, "Charger plugged in"), f"{path}/online"))
        elif kind == "Battery" and "battery" not in seen:
            seen.add("battery")
            _add_battery(probe, found, path)
    if not seen:
        probe.note("power source", "no charger or battery under power_supply: a desktop or a virtual machine")
    return found


def _add_battery(probe: Probe, found: Found, path: str) -> None:
    if probe.number(f"{path}/capacity") is not None:
        found.channels.append(Gauge(Sensor("battery.charge", SHARE, "Battery charge"), f"{path}/capacity"))
    if probe.files.exists(f"{path}/power_now") and probe.number(f"{path}/power_now") is not None:
        found.channels.append(Gauge(Sensor("battery.power", POWER, "Battery power"), f"{path}/power_now", 1e-6))
    if probe.text(f"{path}/status") is not None:
        title = "Battery direction (−1 draining, 1 charging)"
        found.channels.append(Word(Sensor("battery.direction", COUNT, title), f"{path}/status", CHARGING))
