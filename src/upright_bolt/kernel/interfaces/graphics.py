"""Graphics chips, read only: ``/sys/class/drm/cardN`` and the hwmon folder of the device below it.

A sleeping chip is left alone: ``runtime_status`` is looked at first, here and before every sample, and while it says
``suspended`` nothing else below the device is read, since any reading would wake it and eat the battery.

The kernel's own pages: Documentation/gpu/amdgpu/thermal, ABI/testing/sysfs-driver-intel-i915-hwmon and
ABI/testing/sysfs-devices-power.
"""

import re

from upright_bolt.kernel import paths
from upright_bolt.kernel.channels import Gauge, SleepGuardedGauges
from upright_bolt.kernel.driver import Found, Surroundings
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.note import NoteCode
from upright_bolt.model.quantity import CLOCK, COUNT, POWER, SHARE, TEMPERATURE, VOLTAGE, Quantity
from upright_bolt.model.sensor import Sensor, SensorKind

RANK = 85
CHIPS = ("amdgpu", "radeon", "nouveau", "i915", "xe", "nvidia")
"""Names under which graphics chips show themselves in hwmon; ``heat`` leaves these to this module."""
ASLEEP = "suspended"
REASON = "throttle_reason_"
"""Files of Intel's driver that say 1 while a reason holds the chip's clock back."""

_ON_DEVICE: tuple[tuple[str, str, str, Quantity, float], ...] = (
    ("device/gpu_busy_percent", "busy", "busy share", SHARE, 1.0),
    ("gt_act_freq_mhz", "clock", "clock", CLOCK, 1.0),
    ("device/tile0/gt0/freq0/act_freq", "clock", "clock", CLOCK, 1.0),
)
_IN_HWMON: tuple[tuple[str, str, str, Quantity, float], ...] = (
    ("power1_average", "power", "power", POWER, 1e-6),
    ("power1_input", "power", "power", POWER, 1e-6),
    ("power1_cap", "limit", "power limit", POWER, 1e-6),
    ("temp1_input", "temperature", "temperature", TEMPERATURE, 1e-3),
    ("freq1_input", "clock", "clock", CLOCK, 1e-6),
    ("in0_input", "voltage", "voltage", VOLTAGE, 1e-3),
)


def find(probe: Probe, machine: Surroundings) -> Found:  # noqa: ARG001 - the form of every interface
    """Return the channels of every chip that is awake, and note those that sleep."""
    found = Found()
    for folder in probe.files.names(paths.DRM):
        match = re.fullmatch(r"card(\d+)", folder)
        if match is None:
            continue
        card = f"{paths.DRM}/{folder}"
        status = f"{card}/device/power/runtime_status"
        if probe.text(status) == ASLEEP:
            probe.note(f"graphics chip {match[1]}", NoteCode.CHIP_ASLEEP)
            continue
        gauges = _gauges(probe, card, match[1])
        if gauges:
            found.channels.append(SleepGuardedGauges(status, ASLEEP, tuple(gauges)))
    return found


def words_of_reason(file: str) -> str:
    """Return what a throttle reason's file says, e.g. ``held back by pl1 (1 yes)``."""
    return f"held back by {file.removeprefix(REASON).replace('_', ' ')} (1 yes)"


def _gauges(probe: Probe, card: str, number: str) -> list[Gauge]:
    candidates = [(card, reading) for reading in _ON_DEVICE]
    for folder in probe.files.names(f"{card}/device/hwmon"):
        candidates += [(f"{card}/device/hwmon/{folder}", reading) for reading in _IN_HWMON]
    candidates += [
        (f"{card}/gt/gt0", (file, file.removeprefix(REASON).replace("_", "-"), words_of_reason(file), COUNT, 1.0))
        for file in probe.files.names(f"{card}/gt/gt0")
        if file.startswith(REASON)
    ]
    gauges: dict[str, Gauge] = {}
    for base, (file, kind, words, quantity, scale) in candidates:
        path = f"{base}/{file}"
        name = f"gpu{number}.{kind}"
        if name not in gauges and probe.files.exists(path) and probe.number(path) is not None:
            gauges[name] = Gauge(
                Sensor(name, quantity, f"Graphics chip {number}: {words}", SensorKind.GRAPHICS), path, scale
            )
    return list(gauges.values())
