"""Settings through NVIDIA's library, with a stand-in that behaves as its reference says: set, put back, told apart."""

import sys
from typing import Any

import pytest

from support import FaultyFiles
from test_graphics_controls import put_files
from upright_bolt.kernel.clock import RealClock
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.ports import NoRegisters, RealFiles
from upright_bolt.model.control import ControlState
from upright_bolt.model.trial import RecoveryOutcome
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.lock import MachineLock
from upright_bolt.text.notes import about, sentence
from vendor_library_stand_in import (
    FUNCTION_NOT_FOUND,
    GPU_IS_LOST,
    NO_PERMISSION,
    NOT_SUPPORTED,
    VendorLibrary,
)

PLACE = "0000:01:00.0"
DEVICE = f"sys/bus/pci/devices/{PLACE}"
FILES = {
    "sys/class/drm/card1/device/uevent": f"DRIVER=nvidia\nPCI_ID=10DE:0310\nPCI_SLOT_NAME={PLACE}",
    f"{DEVICE}/uevent": f"DRIVER=nvidia\nPCI_ID=10DE:0310\nPCI_SLOT_NAME={PLACE}",
    f"{DEVICE}/power/runtime_status": "active",
    f"{DEVICE}/power/control": "auto",
}
MOVED = {"power-limit": 60.0, "clock-offset": 120.0, "memory-offset": 400.0, "heat-target": 75.0,
         "highest-clock": 1500.0, "lowest-clock": 900.0}  # fmt: skip
SETTERS = {"power-limit": "nvmlDeviceSetPowerManagementLimit", "clock-offset": "nvmlDeviceSetGpcClkVfOffset",
           "memory-offset": "nvmlDeviceSetMemClkVfOffset", "heat-target": "nvmlDeviceSetTemperatureThreshold",
           "highest-clock": "nvmlDeviceSetGpuLockedClocks", "lowest-clock": "nvmlDeviceSetGpuLockedClocks"}  # fmt: skip
RANGES = {"power-limit": "nvmlDeviceGetPowerManagementLimitConstraints",
          "clock-offset": "nvmlDeviceGetGpcClkMinMaxVfOffset", "memory-offset": "nvmlDeviceGetMemClkMinMaxVfOffset",
          "heat-target": "nvmlDeviceGetTemperatureThreshold",
          "highest-clock": "nvmlDeviceGetSupportedMemoryClocks"}  # fmt: skip


class Scene:
    def __init__(self, root, library):
        self.root, self.library = root, library
        put_files(root / "files", FILES)
        self.real = RealFiles(root / "files")
        self.real.vendor_library = "pynvml"
        self.files = FaultyFiles(self.real)
        self.made = []
        self.engine = self.opened()

    def opened(self):
        ports = MachinePorts("host", self.files, NoRegisters(), RealClock(), settle_s=0.0)
        state = self.root / "state"
        engine = SettingsEngine(Backend(ports), state, "a test", MachineLock(state / "lock", "a test"))
        self.made.append(engine)
        return engine

    def control(self, own):
        return self.engine.controls()[f"gpu01.{own}"]

    def sleep(self, status="suspended"):
        (self.root / "files" / DEVICE / "power/runtime_status").write_text(f"{status}\n")

    @property
    def chip(self):
        return self.library.nvmlDeviceGetHandleByPciBusId(PLACE.encode())


@pytest.fixture
def scene(tmp_path, monkeypatch):
    library = VendorLibrary()
    monkeypatch.setitem(sys.modules, "pynvml", library)
    made = Scene(tmp_path, library)
    yield made
    for engine in made.made:
        engine.close()


@pytest.mark.parametrize("own", sorted(MOVED))
def test_each_is_offered_within_the_range_the_library_declares_set_and_put_back(scene, own):
    before = dict(scene.chip)
    control = scene.control(own)
    assert control.state is ControlState.SETTABLE
    assert control.minimum < MOVED[own] < control.maximum
    report = scene.engine.try_settings({f"gpu01.{own}": MOVED[own]}, standing=False)
    assert report.ok
    assert scene.control(own).current == MOVED[own]
    assert dict(scene.chip) != before
    scene.engine.revert("a test")
    assert dict(scene.chip) == before


def test_watts_and_clocks_come_in_the_librarys_units(scene):
    wanted = {f"gpu01.{own}": value for own, value in MOVED.items()}
    assert scene.engine.try_settings(wanted, standing=False).ok
    assert scene.chip["limit"] == 60000
    assert scene.chip["clock"] == 120
    assert scene.chip["locked"] == (900, 1500)
    scene.engine.revert("a test")
    assert scene.chip["locked"] is None


@pytest.mark.parametrize("own", sorted(RANGES))
@pytest.mark.parametrize(
    ("refusal", "state", "said"),
    [
        (NOT_SUPPORTED, ControlState.ABSENT, "this model cannot do it"),
        (FUNCTION_NOT_FOUND, ControlState.ABSENT, "too old"),
        (NO_PERMISSION, ControlState.READ_ONLY, "root"),
        (GPU_IS_LOST, ControlState.READ_ONLY, "which values it allows"),
    ],
)
def test_why_a_control_is_not_there_is_told_apart(scene, own, refusal, state, said):
    scene.library.refuses[RANGES[own]] = refusal
    control = scene.control(own)
    assert control.state is state
    assert said in sentence(control.note)


@pytest.mark.parametrize("own", sorted(SETTERS))
@pytest.mark.parametrize(("refusal", "said"), [(NOT_SUPPORTED, "this model"), (FUNCTION_NOT_FOUND, "too old"),
                                               (NO_PERMISSION, "permit"), (GPU_IS_LOST, "gone")])  # fmt: skip
def test_a_write_that_is_refused_says_by_what_and_leaves_nothing_behind(scene, own, refusal, said):
    before = dict(scene.chip)
    scene.library.refuses[SETTERS[own]] = refusal
    report = scene.engine.try_settings({f"gpu01.{own}": MOVED[own]}, standing=False)
    assert not report.ok
    words = " ".join(about(row.name, row.why) for row in report.rows if row.why is not None)
    assert said in words
    assert dict(scene.chip) == before
    assert scene.engine.status().trial is None


def test_out_of_range_is_refused_before_the_library_is_asked(scene):
    report = scene.engine.try_settings({"gpu01.power-limit": 300.0}, standing=False)
    assert not report.ok
    assert "5 W to 115 W" in about("gpu01.power-limit", report.rows[0].why)
    assert scene.chip["limit"] == 80000


def test_a_program_that_dies_leaves_a_trial_that_the_next_one_puts_back(scene):
    assert scene.engine.try_settings({"gpu01.power-limit": 60.0, "gpu01.clock-offset": 90.0}, standing=False).ok
    scene.engine._lock.release()
    scene.made.clear()
    scene.engine = scene.opened()
    assert scene.engine.recovered.outcome is RecoveryOutcome.PUT_BACK
    assert (scene.chip["limit"], scene.chip["clock"]) == (80000, 0)


def test_a_sleeping_chip_is_neither_asked_nor_woken_and_its_settings_wait(tmp_path, monkeypatch):
    library = VendorLibrary()
    monkeypatch.setitem(sys.modules, "pynvml", library)
    put_files(tmp_path / "files", FILES)
    (tmp_path / "files" / DEVICE / "power/runtime_status").write_text("suspended\n")
    scene = Scene.__new__(Scene)
    scene.root, scene.library, scene.made = tmp_path, library, []
    files: Any = RealFiles(tmp_path / "files")
    files.vendor_library = "pynvml"
    scene.files = files
    scene.engine = scene.opened()
    for own in MOVED:
        assert scene.control(own).state is ControlState.ASLEEP
    scene.engine.sample()
    assert library.woken == 0
    scene.sleep("active")
    assert scene.control("power-limit").current == 80.0
    assert scene.engine.about.index["gpu01.clock"] is not None
    scene.engine.close()


def test_a_copy_of_another_machine_never_reaches_this_ones_library(tmp_path, monkeypatch):
    library = VendorLibrary()
    monkeypatch.setitem(sys.modules, "pynvml", library)
    put_files(tmp_path, FILES)
    backend = Backend(MachinePorts("tree:x", RealFiles(tmp_path), NoRegisters(), RealClock(), settle_s=0.0))
    assert not [name for name in backend.drivers if name.startswith("gpu01.")]
    assert library.woken == 0


def test_settings_and_readings_of_a_survey_share_one_opened_library(scene):
    before = scene.library.woken
    scene.engine.close()
    scene.engine = scene.opened()
    scene.engine.controls()
    scene.engine.sample()
    assert scene.library.woken == before + 1


def test_without_roots_rights_it_is_read_only(scene):
    control = scene.root / "files" / DEVICE / "power/control"
    scene.real.writable = lambda path: not path.endswith("power/control")
    assert control.exists()
    found = scene.control("power-limit")
    assert found.state is ControlState.READ_ONLY
    assert "root" in sentence(found.note)
