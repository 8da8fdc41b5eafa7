"""Graphics chips are read when awake, and never woken."""

import sys

import pytest

from support import FaultyFiles, gap_words, read_twin
from upright_bolt.kernel.clock import RealClock
from upright_bolt.kernel.gpu.gpus import KNOWN_ASLEEP
from upright_bolt.kernel.ports import DeviceRegisters, RealFiles
from upright_bolt.kernel.sensors.sample_reader import SampleReader
from upright_bolt.kernel.survey import survey

DRM = "sys/class/drm"


class WokenError(AssertionError):
    pass


def card(number, status, files, bus=None):
    """Return the files of the chip on a bus; the card's number serves as its bus."""
    base = f"{DRM}/card{number}"
    place = f"0000:{number if bus is None else bus:02x}:00.0"
    return {
        f"{base}/device/power/runtime_status": status,
        f"{base}/device/uevent": f"DRIVER=some\nPCI_SLOT_NAME={place}",
    } | {f"{base}/{name}": text for name, text in files.items()}


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
    real = RealFiles(root)
    real.vendor_library = "pynvml"
    files = FaultyFiles(real)
    return files, DeviceRegisters(root)


def watched(files, number):
    """Fail on any reading below a device but of what the kernel answers from memory."""

    def watch(_n, path):
        if f"card{number}/" in path and not path.endswith(KNOWN_ASLEEP):
            raise WokenError(path)

    files.on_read = watch


def numbers(sampler):
    values = read_twin(sampler)
    return {name: values[index] for name, index in sampler.index.items() if name.startswith("gpu")}


def test_an_awake_chip_is_read_in_our_units(tmp_path):
    files, registers = build(tmp_path, card(0, "active", AMD, 5) | card(1, "active", {"gt_act_freq_mhz": "1100"}))
    sampler = SampleReader(files, registers, survey(files, registers, "x"), RealClock())
    assert numbers(sampler) == pytest.approx(
        {"gpu05.busy": 37.0, "gpu05.power": 21.0, "gpu05.limit": 45.0, "gpu05.temperature": 54.0,
         "gpu05.clock": 1450.0, "gpu05.voltage": 0.881, "gpu01.clock": 1100.0}
    )  # fmt: skip
    files.close()


def test_a_sleeping_chip_is_never_touched(tmp_path):
    everywhere = {
        f"sys/class/hwmon/hwmon5/{name.rsplit('/', 1)[1]}": text for name, text in AMD.items() if "hwmon5" in name
    }
    files, registers = build(tmp_path, card(1, "suspended", AMD) | everywhere)
    watched(files, 1)
    found = survey(files, registers, "x")
    assert [chip.part for chip in found.chips] == ["gpu01"]
    sampler = SampleReader(files, registers, found, RealClock())
    sampler.read()
    assert set(numbers(sampler).values()) == {None}
    assert not [
        name for name in sampler.index if "amdgpu" in name
    ]  # nor by its other background, the list of sensor chips
    files.close()


def test_a_chip_that_falls_asleep_is_left_alone_from_then_on(tmp_path):
    files, registers = build(tmp_path, card(1, "active", AMD))
    sampler = SampleReader(files, registers, survey(files, registers, "x"), RealClock())
    assert numbers(sampler)["gpu01.power"] == 21.0
    (tmp_path / DRM / "card1/device/power/runtime_status").write_text("suspended\n")
    watched(files, 1)
    assert set(numbers(sampler).values()) == {None}
    files.on_read = lambda _n, _p: None
    (tmp_path / DRM / "card1/device/power/runtime_status").write_text("active\n")
    assert numbers(sampler)["gpu01.power"] == 21.0
    files.close()


class Library:
    """Stands in for the vendor's management library."""

    class NVMLError(Exception):
        pass

    def __init__(self):
        self.calls = 0

    def nvmlInit(self):
        self.calls += 1

    def nvmlDeviceGetHandleByPciBusId(self, place):
        return f"chip at {place.decode()}"

    def nvmlDeviceGetClockInfo(self, _handle, _kind):
        self.calls += 1
        return 1815

    def nvmlDeviceGetPowerUsage(self, _handle):
        return 61500

    def nvmlDeviceGetEnforcedPowerLimit(self, _handle):
        raise Library.NVMLError

    def nvmlDeviceGetTemperature(self, _handle, _kind):
        return 66

    def nvmlDeviceGetUtilizationRates(self, _handle):
        return type("Rates", (), {"gpu": 97})

    def nvmlDeviceGetCurrentClocksThrottleReasons(self, _handle):
        return 4


NV = {"device/vendor": "0x10de", "device/uevent": "DRIVER=nvidia\nPCI_SLOT_NAME=0000:01:00.0"}


def with_library(monkeypatch, tmp_path, status):
    library = Library()
    monkeypatch.setitem(sys.modules, "pynvml", library)
    files, registers = build(tmp_path, card(1, status, NV))
    sampler = SampleReader(files, registers, survey(files, registers, "x"), RealClock())
    return library, sampler


def test_the_vendor_library_is_asked_in_our_units_and_what_it_lacks_is_not_measured(monkeypatch, tmp_path):
    _, sampler = with_library(monkeypatch, tmp_path, "active")
    values = read_twin(sampler)
    told = {name: values[index] for name, index in sampler.index.items() if name.startswith("gpu01.")}
    assert told == {
        "gpu01.clock": 1815.0, "gpu01.power": 61.5, "gpu01.limit": None, "gpu01.temperature": 66.0,
        "gpu01.busy": 97.0, "gpu01.reasons": 4.0,
    }  # fmt: skip


def test_the_vendor_library_is_not_even_loaded_for_a_sleeping_chip(monkeypatch, tmp_path):
    library, sampler = with_library(monkeypatch, tmp_path, "suspended")
    sampler.read()
    assert library.calls == 0


def test_with_one_chip_awake_and_one_asleep_neither_is_touched(monkeypatch, tmp_path):
    library = Library()
    monkeypatch.setitem(sys.modules, "pynvml", library)
    files, registers = build(tmp_path, card(0, "active", NV) | card(1, "suspended", NV))
    found = survey(files, registers, "x")
    sampler = SampleReader(files, registers, found, RealClock())
    assert {value for name, value in numbers(sampler).items() if name.startswith("gpu")} == {None}
    assert library.calls == 0


def test_a_chip_that_falls_asleep_is_not_asked_any_more(monkeypatch, tmp_path):
    library, sampler = with_library(monkeypatch, tmp_path, "active")
    sampler.read()
    asked = library.calls
    (tmp_path / DRM / "card1/device/power/runtime_status").write_text("suspended\n")
    assert read_twin(sampler)[sampler.index["gpu01.clock"]] is None
    assert library.calls == asked


def test_without_the_vendor_library_the_gap_is_named(monkeypatch, tmp_path):
    monkeypatch.setitem(sys.modules, "pynvml", None)
    files, registers = build(tmp_path, card(1, "active", NV))
    gaps = gap_words(survey(files, registers, "x").gaps)
    assert "management library cannot be used" in gaps["graphics chip of the vendor's driver"]


def test_why_an_intel_chip_is_held_back_is_read(tmp_path):
    reasons = {"gt/gt0/throttle_reason_pl1": "1", "gt/gt0/throttle_reason_thermal": "0", "gt_act_freq_mhz": "900"}
    files, registers = build(tmp_path, card(0, "active", reasons, 0))
    sampler = SampleReader(files, registers, survey(files, registers, "x"), RealClock())
    assert numbers(sampler) == {"gpu00.clock": 900.0, "gpu00.pl1": 1.0, "gpu00.thermal": 0.0}
