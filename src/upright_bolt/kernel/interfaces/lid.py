"""The lid of a laptop: a file below ``/proc/acpi/button/lid`` says ``state:      open`` or ``closed``.

The kernel's own code: drivers/acpi/button.c; there is no page on it.
"""

from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import Found, Surroundings
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.sensors.channels import WordSwitch
from upright_bolt.model.quantity import SWITCH
from upright_bolt.model.sensor import LID, Sensor, SensorKind

RANK = 81


def find(probe: Probe, machine: Surroundings) -> Found:  # noqa: ARG001 - the form of every interface
    """Return the first lid that tells its state; few machines have one, so none is nothing to note."""
    found = Found()
    for name in probe.files.names(paths.LID):
        path = f"{paths.LID}/{name}/state"
        if probe.files.exists(path) and (probe.text(path) or "").split()[:1] == ["state:"]:
            found.channels.append(WordSwitch(Sensor(LID, SWITCH, "Lid closed", SensorKind.SUPPLY), path, "closed"))
            break
    return found
