"""Graphics chips are read when awake, and never woken."""

import pytest

from support import FaultyFiles
from upright_bolt.kernel.ports import DeviceRegisters, RealFiles
from upright_bolt.kernel.survey import survey
from upright_bolt.session.clock import RealClock
from upright_bolt.session.sampler import Sampler

DRM = "sys/class/drm"


class WokenError(AssertionError):
    pass


def card(number, status, files):
    base = f"{DRM}/card{number}"
    return {f"{base}/device/power/runtime_status": status} | {f"{base}/{name}": text for name, text in files.items()}


AMD = {
    "device/gpu_busy_percent": "37", "device/hwmon/hwmon5/name": "amdgpu",
    "device/hwmon/hwmon5/power1_average": "21000000",
    "device/hwmon/hwmon5/temp1_input": "54000", "device/hwmon/hwmon5/freq1_input": "1450000000",
    "device/hwmon/hwmon5/in0_input": "881", "device/hwmon/hwmon5/power1_cap": "45000000",
}  # fmt: skip


def build(root, files):
    for path, text in files.items():
        target = root / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(f"{text}\n")
    files = FaultyFiles(RealFiles(root))
    return files, DeviceRegisters(root)


def watched(files, number):
    """Fail on any reading below a device but for its status."""

    def watch(_n, path):
        if f"card{number}/" in path and not path.endswith("power/runtime_status"):
            raise WokenError(path)

    files.on_read = watch


def numbers(sampler):
    values = sampler.sample().values
    return {name: values[place] for name, place in sampler.place.items() if name.startswith("gpu")}


def test_an_awake_chip_is_read_in_our_units(tmp_path):
    files, registers = build(tmp_path, card(0, "active", AMD) | card(1, "active", {"gt_act_freq_mhz": "1100"}))
    sampler = Sampler(files, registers, survey(files, registers, "x"), RealClock())
    assert numbers(sampler) == pytest.approx(
        {"gpu0.busy": 37.0, "gpu0.power": 21.0, "gpu0.limit": 45.0, "gpu0.temperature": 54.0, "gpu0.clock": 1450.0,
         "gpu0.voltage": 0.881, "gpu1.clock": 1100.0}
    )  # fmt: skip
    files.close()


def test_a_sleeping_chip_is_never_touched(tmp_path):
    everywhere = {
        f"sys/class/hwmon/hwmon5/{name.rsplit('/', 1)[1]}": text for name, text in AMD.items() if "hwmon5" in name
    }
    files, registers = build(tmp_path, card(1, "suspended", AMD) | everywhere)
    watched(files, 1)
    found = survey(files, registers, "x")
    assert "asleep" in {entry.what: entry.why for entry in found.missing}["graphics chip 1"]
    sampler = Sampler(files, registers, found, RealClock())
    sampler.sample()
    assert numbers(sampler) == {}
    assert not [name for name in sampler.place if "amdgpu" in name]  # nor by its other door, the list of sensor chips
    files.close()


def test_a_chip_that_falls_asleep_is_left_alone_from_then_on(tmp_path):
    files, registers = build(tmp_path, card(1, "active", AMD))
    sampler = Sampler(files, registers, survey(files, registers, "x"), RealClock())
    assert numbers(sampler)["gpu1.power"] == 21.0
    (tmp_path / DRM / "card1/device/power/runtime_status").write_text("suspended\n")
    watched(files, 1)
    assert set(numbers(sampler).values()) == {None}
    files.on_read = lambda _n, _p: None
    (tmp_path / DRM / "card1/device/power/runtime_status").write_text("active\n")
    assert numbers(sampler)["gpu1.power"] == 21.0
    files.close()
