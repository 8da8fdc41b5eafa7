"""Knowing a machine: twin, this computer, and folders that lie in every way a folder can."""

import errno
import os
from pathlib import Path

import pytest

from support import FaultyFiles, fresh_machine, gap_words, write_tree
from upright_bolt.app import open_session, parse_machine
from upright_bolt.errors import BadInput
from upright_bolt.kernel import paths, registers
from upright_bolt.kernel.clock import RealClock
from upright_bolt.kernel.ports import DeviceRegisters, RealFiles
from upright_bolt.kernel.probe import Probe, cpu_list
from upright_bolt.kernel.sensors.channels import Supplies
from upright_bolt.kernel.sensors.sample_reader import SampleReader
from upright_bolt.kernel.survey import survey
from upright_bolt.model.catalogue import CATALOGUE, declaration_of, part_of
from upright_bolt.model.control import ControlState
from upright_bolt.text.notes import sentence
from upright_bolt.workload.load import Task

FAULTS = ("missing", "empty", "not a number", "bytes", "too long", "a folder", "unreadable")


def surveyed_tree(root: Path):
    return survey(RealFiles(root), DeviceRegisters(root), "tree")


def spoil(path: Path, fault: str) -> None:
    path.unlink()
    if fault == "empty":
        path.write_bytes(b"")
    elif fault == "not a number":
        path.write_bytes(b"n/a\n")
    elif fault == "bytes":
        path.write_bytes(b"\xff\xfe\x00\x80")
    elif fault == "too long":
        path.write_bytes(b"1" * 9000)
    elif fault == "a folder":
        path.mkdir()
    elif fault == "unreadable":
        os.symlink(path, path)  # a loop: opening fails with ELOOP, for root too


def test_a_twin_offers_every_control_of_the_first_slice():
    twin = fresh_machine()
    found = survey(twin.files, twin.registers, "tern")
    orders = [declaration_of(name).write_order for name in found.controls]
    assert orders == sorted(orders)
    states = {name: driver.facts().state for name, driver in found.controls.items()}
    assert {states[name] for name in states if part_of(name) != "gpu03"} == {ControlState.SETTABLE}
    assert {states[name] for name in states if part_of(name) == "gpu03"} == {ControlState.ASLEEP}
    of_vendor_library = {"clock-offset", "memory-offset", "heat-target"}
    assert {name.rpartition(".")[2] for name in found.controls} == set(CATALOGUE) - of_vendor_library
    assert found.gaps == ()
    assert (found.identity.name, found.identity.cores, found.identity.threads) == ("tern", 6, 12)
    assert found.identity.driver == "intel_pstate"
    assert (found.limits.ceiling_c, found.base_mhz, found.limits.highest_mhz) == (100.0, 2400.0, 4200.0)
    assert found.limits.turbo_table_mhz == (4200.0, 4200.0, 4100.0, 4000.0, 3900.0, 3800.0)


def test_a_folder_with_the_same_files_is_the_same_machine(tmp_path):
    twin = fresh_machine()
    live = survey(twin.files, twin.registers, "x")
    copy = surveyed_tree(write_tree(twin, tmp_path))
    by_register = {
        "current",
        "clamp",
        "turbo-table",
        "hot-signal",
        "heat-ceiling",
        "core-offset",
        "cache-offset",
        "gpu-offset",
        "agent-offset",
    }
    assert copy.identity == live.identity
    assert tuple(copy.controls) == tuple(name for name in live.controls if name not in by_register)
    for name, driver in copy.controls.items():
        assert live.controls[name].read() == driver.read()
    only_registers = {"voltage.core", "limit.reasons", "limit.log", "limit.status"}
    names = {s.name for s in SampleReader(twin.files, twin.registers, live, RealClock()).sensors}
    files = RealFiles(tmp_path)
    copied = {s.name for s in SampleReader(files, DeviceRegisters(tmp_path), copy, RealClock()).sensors}
    files.close()
    assert names - copied == only_registers


@pytest.mark.parametrize("fault", FAULTS)
def test_whatever_file_is_spoilt_the_rest_works_and_the_fault_is_named_once(tmp_path, fault):
    twin = fresh_machine()
    root = write_tree(twin, tmp_path)
    whole = surveyed_tree(root)
    seen = set()
    named = 0
    for path in sorted(twin.files._get):
        kind = (path.rsplit("/", 1)[1], path.split("/")[:4][-1])
        if kind in seen:  # one file of each name and folder
            continue
        seen.add(kind)
        target = root / path.lstrip("/")
        content = target.read_bytes()
        spoil(target, fault)
        found = surveyed_tree(root)
        what = list(gap_words(found.gaps))
        assert len(what) == len(set(what)), f"{path}: named twice"
        assert all(gap_words(found.gaps).values())
        named += path in what
        files = RealFiles(root)
        sampler = SampleReader(files, DeviceRegisters(root), found, RealClock())
        sampler.read()
        sampler.read()
        files.close()
        assert len(found.controls) >= len(whole.controls) - 5
        for driver in found.controls.values():
            driver.facts()
            driver.read()
        target.rmdir() if target.is_dir() else target.unlink(missing_ok=True)
        target.write_bytes(content)
    assert len(seen) > 50
    assert fault == "missing" or named > 15


def test_a_faulty_value_file_is_named_with_what_it_holds(tmp_path):
    root = write_tree(fresh_machine(), tmp_path)
    target = root / "sys/class/powercap/intel-rapl:0/energy_uj"
    target.write_text("n/a\n")
    target.parent.with_name("intel-rapl-mmio:0").joinpath("energy_uj").unlink()
    missing = gap_words(surveyed_tree(root).gaps)
    assert missing["/sys/class/powercap/intel-rapl:0/energy_uj"] == "it holds “n/a” where a whole number was expected"
    assert "package power" in missing


def test_an_empty_folder_is_a_machine_that_offers_nothing_and_says_why(tmp_path):
    (tmp_path / "sys").mkdir()
    session = open_session(f"tree:{tmp_path}", tmp_path / "data", "a test", exclusive=False)
    controls = session.controls()
    assert {c.state for c in controls.values()} == {ControlState.ABSENT}
    assert all(sentence(c.note) for c in controls.values())
    assert session.tick().sample.values == [None, None]
    assert {"power source", "fan speed", "busy share"} <= gap_words(session.about.gaps).keys()
    with pytest.raises(BadInput, match="no processor on which a workload could run"):
        session.machine.load(Task("steady", (0,)))
    session.close()


def test_registers_of_a_folder_are_plain_files(tmp_path):
    device = tmp_path / "dev/cpu/0/msr"
    device.parent.mkdir(parents=True)
    data = bytearray(0x700)
    data[0x1A2 : 0x1A2 + 8] = (97 << 16 | 2 << 24).to_bytes(8, "little")
    data[0x610 : 0x610 + 8] = (1 << 63).to_bytes(8, "little")
    device.write_bytes(data)
    port = DeviceRegisters(tmp_path)
    probe = Probe(RealFiles(tmp_path), port)
    assert registers.ceiling_c(probe) == 95.0
    assert registers.limits_locked(probe)
    assert probe.register(0, 0x800) is None  # beyond the file's end
    assert probe.register(5, 0x1A2) is None
    port.write(0, 0x198, 0x1234)
    assert port.read(0, 0x198) == 0x1234
    port.close()


def test_locked_limits_are_closed_with_a_next_step():
    twin = fresh_machine()
    limit = twin.registers._known[registers.PACKAGE_LIMIT]
    twin.registers._known[registers.PACKAGE_LIMIT] = lambda: limit() | 1 << 63
    controls = survey(twin.files, twin.registers, "x").controls
    for name in ("sustained", "burst", "window"):
        facts = controls[name].facts()
        assert facts.state is ControlState.LOCKED
        assert "lock bit" in sentence(facts.note)
        assert "firmware setup" in sentence(facts.note)


def test_limits_that_nobody_may_write_are_read_only_with_a_next_step(tmp_path):
    root = write_tree(fresh_machine(), tmp_path)
    for path in root.glob("sys/class/powercap/*/constraint_0_power_limit_uw"):
        path.chmod(0o444)
    facts = surveyed_tree(root).controls["sustained"].facts()
    assert facts.state is ControlState.READ_ONLY
    assert sentence(facts.note).endswith("Look in the firmware setup.")


def test_of_two_copies_of_a_limit_the_lower_counts():
    twin = fresh_machine()
    twin.state.limits[1][0] = 15.0
    control = survey(twin.files, twin.registers, "x").controls["sustained"]
    assert control.read() == 15.0
    assert len(control.files) == 2


def test_an_undeclared_highest_limit_is_no_licence(tmp_path):
    root = write_tree(fresh_machine(), tmp_path / "tree")
    for path in root.glob("sys/class/powercap/*/constraint_*_max_power_uw"):
        path.write_text("0\n")
    session = open_session(f"tree:{root}", tmp_path / "data", "a test", exclusive=True)
    sustained = session.controls()["sustained"]
    assert sustained.maximum == 45.0  # the stock burst limit: nothing above what the firmware itself has set
    session.close()


def test_the_newer_place_of_the_mode_is_found_too(tmp_path):
    folder = tmp_path / "sys/class/platform-profile/platform-profile-0"
    folder.mkdir(parents=True)
    for name, text in (("name", "board"), ("choices", "cool custom"), ("profile", "cool")):
        (folder / name).write_text(text + "\n")
    control = surveyed_tree(tmp_path).controls["platform-mode"]
    assert (control.read(), control.facts().choices) == ("cool", ("cool", "custom"))


def test_devices_that_are_not_the_computer_s_own_are_left_out():
    twin = fresh_machine()
    found = survey(twin.files, twin.registers, "x")
    (supplies,) = (c for c in found.channels if isinstance(c, Supplies))
    assert [battery.status.split("/")[-2] for battery in supplies.batteries] == ["BAT0"]


def test_sensor_chips_are_found_by_name_wherever_they_are_numbered():
    twin = fresh_machine()
    wanted = {"/sys/class/hwmon/hwmon3/temp1_input", "/sys/class/hwmon/hwmon4/fan1_input"}
    found = survey(twin.files, twin.registers, "x").channels
    assert wanted <= {c.path for c in found if hasattr(c, "path")}


def test_this_computer_answers_and_never_shows_a_false_zero(tmp_path):
    session = open_session("host", tmp_path, "a test", exclusive=False)
    session.tick()
    session.machine.clock.wait_until(session.machine.clock.now_s() + 0.3)
    sample = session.tick().sample
    index = session.index
    assert sample.values[index["busy.mean"]] is not None
    assert session.about.identity.threads == os.cpu_count()
    for control in session.controls().values():
        assert (control.current is None) == (control.state is ControlState.ABSENT)
    if not Path(paths.POWERCAP).exists():
        assert "power.package" not in index
        assert any("power" in what and why for what, why in gap_words(session.about.gaps).items())
    session.close()


def test_a_read_that_is_refused_is_told_apart_from_a_missing_file():
    twin = fresh_machine()
    files = FaultyFiles(twin.files)
    files.on_read = lambda _n, path: errno.EACCES if path.endswith("energy_uj") else None
    missing = gap_words(survey(files, twin.registers, "x").gaps)
    assert "Permission denied" in missing["/sys/class/powercap/intel-rapl-mmio:0/energy_uj"]
    assert "root only" in missing["package power"]


@pytest.mark.parametrize(
    ("text", "cpus"),
    [
        ("0-3,8", [0, 1, 2, 3, 8]),
        ("²", []),
        ("1-²", []),
        ("5", [5]),
        ("", []),
        ("a-b", []),
        ("3-1", []),
        ("0-0", [0]),
        ("0-,2", [0, 2]),
    ],
)
def test_processor_lists(text, cpus):
    assert cpu_list(text) == cpus


@pytest.mark.parametrize("word", ["", "hots", "twin:", "tree:", "host:1", "tree:/no/such/folder"])
def test_a_machine_that_is_none_is_refused_in_words(word):
    with pytest.raises(BadInput, match=r"host, twin:NAME|no folder"):
        parse_machine(word)
