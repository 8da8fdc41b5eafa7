"""What graphics chips measure: files of the card, of the device, and of the hwmon folder below it.

Which of these files are there is asked of the folders, which wakes nobody, so a chip that sleeps has its sensors as
well; they are read once it is awake. Its status is looked at before every sample, see ``channels.SleepGuardedGauges``.

The kernel's own pages: Documentation/gpu/amdgpu/thermal, ABI/testing/sysfs-driver-intel-i915-hwmon and
ABI/testing/sysfs-devices-power.
"""

from upright_bolt.kernel.driver import Found, Surroundings
from upright_bolt.kernel.gpu.gpus import ASLEEP, Card
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.sensors.channels import Gauge, SleepGuardedGauges
from upright_bolt.model.quantity import CLOCK, COUNT, POWER, SHARE, TEMPERATURE, VOLTAGE, Quantity
from upright_bolt.model.sensor import Sensor, SensorKind

RANK = 85
CHIPS = ("amdgpu", "radeon", "nouveau", "i915", "xe", "nvidia")
"""Names under which graphics chips show themselves in hwmon; ``heat`` leaves these to this module."""
REASON = "throttle_reason_"
"""Files of Intel's driver that say 1 while a reason holds the chip's clock back."""

_Reading = tuple[str, str, str, Quantity, float]
_OF_DEVICE: tuple[_Reading, ...] = (
    ("gpu_busy_percent", "busy", "busy share", SHARE, 1.0),
    ("tile0/gt0/freq0/act_freq", "clock", "clock", CLOCK, 1.0),
)
_OF_CARD: tuple[_Reading, ...] = (("gt_act_freq_mhz", "clock", "clock", CLOCK, 1.0),)
_OF_SENSORS: tuple[_Reading, ...] = (
    ("power1_average", "power", "power", POWER, 1e-6),
    ("power1_input", "power", "power", POWER, 1e-6),
    ("power1_cap", "limit", "power limit", POWER, 1e-6),
    ("temp1_input", "temperature", "temperature", TEMPERATURE, 1e-3),
    ("temp1_crit", "ceiling", "temperature ceiling", TEMPERATURE, 1e-3),
    ("freq1_input", "clock", "clock", CLOCK, 1e-6),
    ("freq2_input", "memory-clock", "memory clock", CLOCK, 1e-6),
    ("in0_input", "voltage", "voltage", VOLTAGE, 1e-3),
)


def find(probe: Probe, machine: Surroundings) -> Found:
    """Return all chips with their channels."""
    found = Found()
    for card in machine.cards:
        found.chips.append(card.chip)
        gauges = _gauges(probe, card)
        if gauges:
            rest = None if card.chip.drives_screen else card.memory.autosuspend
            found.channels.append(SleepGuardedGauges(card.status, ASLEEP, tuple(gauges), rest))
    return found


def words_of_reason(file: str) -> str:
    """Return what a throttle reason's file says, e.g. ``held back by pl1 (1 yes)``."""
    return f"held back by {file.removeprefix(REASON).replace('_', ' ')} (1 yes)"


def _gauges(probe: Probe, card: Card) -> list[Gauge]:
    candidates = [(card.device, reading) for reading in _OF_DEVICE] + [(card.folder, reading) for reading in _OF_CARD]
    if card.sensors:
        candidates += [(card.sensors, reading) for reading in _OF_SENSORS]
    candidates += [
        (
            f"{card.folder}/gt/gt0",
            (file, file.removeprefix(REASON).replace("_", "-"), words_of_reason(file), COUNT, 1.0),
        )
        for file in probe.files.names(f"{card.folder}/gt/gt0")
        if file.startswith(REASON)
    ]
    asleep = card.asleep(probe.files)
    gauges: dict[str, Gauge] = {}
    for base, (file, kind, words, quantity, scale) in candidates:
        path, name = f"{base}/{file}", f"{card.chip.part}.{kind}"
        if name not in gauges and probe.files.exists(path) and (asleep or probe.number(path) is not None):
            sensor = Sensor(name, quantity, f"{card.chip.part}: {words}", SensorKind.GRAPHICS)
            gauges[name] = Gauge(sensor, path, scale)
    return list(gauges.values())
