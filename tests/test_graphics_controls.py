"""Controls of graphics chips: every shape of the overdrive table, chips that sleep, Intel's files, swapped numbers."""

import errno

import pytest

from overdrive_stand_in import LEVEL, SHAPES, TABLE, OverdriveDriver
from support import EVERY_ERRNO, FaultyFiles, SimulatedSession, backend_of, fresh_machine
from upright_bolt.errors import FileFault
from upright_bolt.kernel.clock import RealClock
from upright_bolt.kernel.gpu.gpus import KNOWN_ASLEEP, find_cards, part_name
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.ports import SLEEPS, NoRegisters, RealFiles
from upright_bolt.kernel.survey import survey
from upright_bolt.model.control import ControlState, Value
from upright_bolt.model.graphics import ChipKind
from upright_bolt.session.session import SAMPLE_S
from upright_bolt.settings import apply
from upright_bolt.settings.backend import Backend
from upright_bolt.simulator.graphics_state import GraphicsDemand
from upright_bolt.text.notes import sentence

CARD = "sys/class/drm/card1"
AT = "0000:03:00.0"
POWER = {"name": "amdgpu", "power1_cap": "45000000", "power1_cap_min": "20000000", "power1_cap_max": "60000000"}
IN_TABLE = {
    "offset": {"lowest-clock", "highest-clock", "memory-clock", "voltage-offset"},
    "curve": {"lowest-clock", "highest-clock", "memory-clock", "highest-voltage"},
    "points": {"highest-clock", "memory-clock", "highest-voltage"},
    "clocks": {"lowest-clock", "highest-clock"},
}
MOVED = {"lowest-clock": 900.0, "highest-clock": 1500.0, "memory-clock": 800.0, "voltage-offset": -60.0,
         "highest-voltage": 0.95}  # fmt: skip
MOVED_ON_TERN: dict[str, Value] = {"power-limit": 30.0, "level": "low", "lowest-clock": 900.0, "highest-clock": 1500.0,
                 "memory-clock": 800.0, "voltage-offset": -60.0}  # fmt: skip


def put_files(root, files):
    for path, text in files.items():
        target = root / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(f"{text}\n")


def amd(number=1, place=AT, status="active", table="", **more):
    """Return the files of a chip under amdgpu."""
    base = f"sys/class/drm/card{number}/device"
    files = {
        f"{base}/uevent": f"DRIVER=amdgpu\nPCI_ID=1D7E:0310\nPCI_SLOT_NAME={place}",
        f"{base}/power/runtime_status": status,
        f"{base}/{LEVEL}": "auto",
        **{f"{base}/hwmon/hwmon4/{name}": text for name, text in POWER.items()},
        **{f"{base}/{name}": text for name, text in more.items()},
    }
    return files | ({f"{base}/{TABLE}": table} if table else {})


@pytest.fixture
def machine(tmp_path):
    """Return a way to open a folder of files as a backend, with the driver's way with its tables."""

    def opened(files):
        put_files(tmp_path, files)
        driver = OverdriveDriver(RealFiles(tmp_path))
        ports = MachinePorts("tree", driver, NoRegisters(), RealClock(), settle_s=0.0)
        return Backend(ports), driver

    return opened


def facts_by_own_name(backend, part="gpu03"):
    return {
        name.removeprefix(f"{part}."): driver.facts()
        for name, driver in backend.drivers.items()
        if name.startswith(f"{part}.")
    }


@pytest.mark.parametrize("shape", SHAPES)
def test_every_shape_of_the_table_offers_what_it_has(machine, shape):
    backend, _ = machine(amd(table=SHAPES[shape]))
    facts = facts_by_own_name(backend)
    settable = {name for name, found in facts.items() if found.state is ControlState.SETTABLE}
    assert settable == IN_TABLE[shape] | {"power-limit", "level"}
    rest = {name for name in facts if name not in settable}
    assert {facts[name].state for name in rest} <= {ControlState.ABSENT}
    assert all("no such entry" in sentence(facts[name].note) for name in rest)


@pytest.mark.parametrize(("shape", "own"), [(shape, own) for shape in SHAPES for own in sorted(IN_TABLE[shape])])
def test_what_is_set_in_a_table_is_read_back_and_reset_again(machine, shape, own):
    backend, driver = machine(amd(table=SHAPES[shape]))
    name, raw = f"gpu03.{own}", f"/{CARD}/device/{TABLE}"
    before = backend.snapshot([name])
    report = apply.apply_settings({name: MOVED[own]}, backend, before)
    assert report.ok, report
    assert backend.drivers[name].read() == pytest.approx(MOVED[own])
    assert driver.read(f"/{CARD}/device/{LEVEL}").strip() == b"manual"
    assert driver.read(raw).decode().strip() != SHAPES[shape]
    assert backend.restore(before) == ()
    assert "r" in driver.commands
    assert driver.read(raw).decode().strip() == SHAPES[shape]
    assert driver.read(f"/{CARD}/device/{LEVEL}").strip() == b"auto"


def test_what_was_set_by_others_before_comes_back_after_the_reset(machine):
    backend, driver = machine(amd(table=SHAPES["offset"]))
    raw, level = f"/{CARD}/device/{TABLE}", f"/{CARD}/device/{LEVEL}"
    driver.write(level, b"manual")
    for command in ("s 1 2300", "vo -25", "c"):
        driver.write(raw, f"{command}\n".encode())
    owners = driver.read(raw)
    before = backend.snapshot(["gpu03.highest-clock"])
    assert apply.apply_settings({"gpu03.highest-clock": 1800.0}, backend, before).ok
    assert backend.restore(before) == ()
    assert driver.read(raw) == owners


def test_a_curve_is_cut_flat_and_no_point_is_lifted_alone(machine):
    backend, driver = machine(amd(table=SHAPES["curve"]))
    before = backend.snapshot(["gpu03.highest-voltage"])
    assert apply.apply_settings({"gpu03.highest-voltage": 0.78}, backend, before).ok
    told = driver.read(f"/{CARD}/device/{TABLE}").decode()
    assert "0: 808MHz 721mV" in told
    assert "1: 1466Mhz 780mV" in told
    assert "2: 2125Mhz 780mV" in told


@pytest.mark.parametrize(
    ("mask", "said"),
    [("0xfff7bfff", "ppfeaturemask=0xfff7ffff"), (None, "is unknown"), ("0xffffffff", "offers no table for it")],
)
def test_without_overdrive_the_parameter_that_allows_it_is_named(machine, mask, said):
    files = amd()
    if mask is not None:
        files["sys/module/amdgpu/parameters/ppfeaturemask"] = mask
    backend, _ = machine(files)
    facts = facts_by_own_name(backend)
    assert facts["highest-clock"].state is ControlState.ABSENT
    assert said in sentence(facts["highest-clock"].note)
    assert facts["power-limit"].state is ControlState.SETTABLE


def test_a_sleeping_chip_has_its_controls_and_nothing_of_it_is_read_or_written(machine):
    backend, driver = machine(amd(status="suspended", table=SHAPES["offset"]))

    def wary(_n, path):
        assert not path.startswith(f"/{CARD}/device/") or path.endswith(KNOWN_ASLEEP), path

    driver.on_read = driver.on_write = wary
    facts = facts_by_own_name(backend)
    assert {found.state for found in facts.values()} == {ControlState.ASLEEP}
    assert "Wake it to set it" in sentence(facts["power-limit"].note)
    assert backend.values() == {}
    for path in backend.drivers["gpu03.power-limit"].files:
        with pytest.raises(FileFault) as fault:
            backend.write(path, "30000000")
        assert fault.value.errno == SLEEPS


def test_a_chip_that_wakes_is_settable_without_a_new_start(machine, tmp_path):
    backend, _ = machine(amd(status="suspended", table=SHAPES["offset"]))
    assert facts_by_own_name(backend)["power-limit"].state is ControlState.ASLEEP
    (tmp_path / CARD / "device/power/runtime_status").write_text("active\n")
    facts = facts_by_own_name(backend)["power-limit"]
    assert (facts.state, facts.minimum, facts.maximum) == (ControlState.SETTABLE, 20.0, 60.0)


def test_chips_keep_their_names_when_their_cards_swap_numbers(tmp_path):
    for folder, numbers in (("one", (0, 1)), ("other", (1, 0))):
        root = tmp_path / folder
        put_files(root, amd(numbers[0], "0000:03:00.0") | amd(numbers[1], "0000:c1:00.0"))
        found = survey(RealFiles(root), NoRegisters(), "x")
        assert [chip.part for chip in found.chips] == ["gpu03", "gpuc1"]
        path = found.controls["gpu03.power-limit"].files[0]
        assert path.startswith(f"/sys/class/drm/card{numbers[0]}/")


@pytest.mark.parametrize(
    ("place", "name"),
    [("0000:03:00.0", "gpu03"), ("0000:00:02.0", "gpu00-02"), ("0001:c1:00.1", "gpu0001-c1-00-1"), ("", "gpu-card4"),
     ("../../etc", "gpu-card4")],
)  # fmt: skip
def test_names_come_from_the_place_on_the_bus(place, name):
    assert part_name(place, 4) == name


def test_two_chips_are_told_apart_by_what_a_person_knows(tmp_path):
    files = amd(0, "0000:c1:00.0") | amd(1, "0000:03:00.0") | amd(2, "0000:3d:00.0", removable="removable")
    files["sys/class/drm/card0/device/hwmon/hwmon4/in1_label"] = "vddnb"
    files["sys/class/drm/card0-eDP-1/enabled"] = "enabled"
    files["sys/class/drm/card1-DP-1/enabled"] = "disabled"
    put_files(tmp_path, files)
    found = {card.chip.part: card.chip for card in find_cards(RealFiles(tmp_path))}
    kinds = {part: (chip.kind, chip.drives_screen) for part, chip in found.items()}
    assert kinds == {
        "gpuc1": (ChipKind.BUILT_IN, True),
        "gpu03": (ChipKind.SEPARATE, False),
        "gpu3d": (ChipKind.EXTERNAL, False),
    }


I915 = {"gt_min_freq_mhz": "300", "gt_max_freq_mhz": "1250", "gt_boost_freq_mhz": "1250", "gt_RPn_freq_mhz": "300",
        "gt_RP0_freq_mhz": "1250"}  # fmt: skip


def intel(files, driver="i915"):
    base = "sys/class/drm/card0"
    told = {f"{base}/device/uevent": f"DRIVER={driver}\nPCI_ID=1D7E:0142\nPCI_SLOT_NAME=0000:00:02.0",
            f"{base}/device/power/runtime_status": "active"}  # fmt: skip
    return told | {f"{base}/{path}": text for path, text in files.items()}


def test_i915_takes_both_bounds_across_each_other(machine):
    backend, driver = machine(intel(I915))
    assert set(facts_by_own_name(backend, "gpu00-02")) == {"lowest-clock", "highest-clock", "boost-clock"}
    low, high = "gpu00-02.lowest-clock", "gpu00-02.highest-clock"

    def kernel(_n, path):
        """Refuse a lowest clock above the highest, as the driver does."""
        lowest, highest = (int(driver.read(f"/sys/class/drm/card0/gt_{end}_freq_mhz")) for end in ("min", "max"))
        return errno.EINVAL if lowest > highest else None

    driver.on_write = kernel
    for asked in ({low: 300.0, high: 400.0}, {low: 900.0, high: 1000.0}, {low: 300.0, high: 350.0}):
        assert apply.apply_settings(asked, backend, backend.snapshot(asked)).ok
    assert apply.write_order({low: 900.0, high: 1000.0}, backend.drivers) == [high, low]


def test_a_chip_of_two_tiles_gets_its_bounds_on_both_and_its_media_engine_is_left_alone(machine):
    clocks = {"min_freq": "300", "max_freq": "2400", "rpn_freq": "300", "rp0_freq": "2400", "act_freq": "0"}
    files = {f"device/tile{t}/gt{t}/freq0/{name}": text for t in (0, 1) for name, text in clocks.items()}
    files |= {f"device/tile0/gt2/freq0/{name}": text for name, text in (clocks | {"rp0_freq": "1300"}).items()}
    backend, driver = machine(intel(files, "xe"))
    name = "gpu00-02.highest-clock"
    before = backend.snapshot([name])
    assert apply.apply_settings({name: 1800.0}, backend, before).ok
    held = {path: driver.read(f"/sys/class/drm/card0/device/{path}/freq0/max_freq").strip()
            for path in ("tile0/gt0", "tile1/gt1", "tile0/gt2")}  # fmt: skip
    assert held == {"tile0/gt0": b"1800", "tile1/gt1": b"1800", "tile0/gt2": b"2400"}
    assert backend.restore(before) == ()


def test_intel_s_power_limit_is_offered_up_to_its_rated_watts(machine):
    files = {"device/hwmon/hwmon3/name": "i915", "device/hwmon/hwmon3/power1_max": "150000000",
             "device/hwmon/hwmon3/power1_rated_max": "190000000"}  # fmt: skip
    backend, _ = machine(intel(files))
    (facts,) = facts_by_own_name(backend, "gpu00-02").values()
    assert (facts.minimum, facts.maximum) == (0.0, 190.0)


def woken_tern(data):
    """Return a session on tern whose separate chip is awake."""
    on_tern = SimulatedSession(data)
    chip = on_tern.twin.physics.graphics.chips[1]
    chip.work(GraphicsDemand(), on_tern.session.machine.clock.now_s())
    return on_tern, chip


def set_on(chip):
    state = chip.state
    return list(state.clocks_mhz), state.memory_mhz, state.offset_mv, state.limit_w, state.level, list(state.asked)


@pytest.mark.parametrize("number", EVERY_ERRNO)
def test_a_failure_at_any_command_of_any_control_changes_nothing(number, fresh_awake):
    names = [name for name in fresh_awake()[0].drivers if name.startswith("gpu03.")]
    tested = 0
    for name in names:
        n = 0
        while True:
            n += 1
            backend, files, chip = fresh_awake()
            driver = backend.drivers[name]
            if driver.facts().state is not ControlState.SETTABLE:
                break
            asked = {name: MOVED_ON_TERN[name.removeprefix("gpu03.")]}
            before, state = backend.snapshot([name]), set_on(chip)
            files.writes = 0
            files.on_write = lambda i, _p, n=n: number if i == n else None
            report = apply.apply_settings(asked, backend, before)
            if report.ok:
                assert driver.same(asked[name], driver.read())
                break
            assert report.left_changed == ()
            assert set_on(chip) == state, f"{name}: write {n} left something behind"
            tested += 1
    assert tested >= 8


@pytest.fixture
def fresh_awake():
    def made():
        twin = fresh_machine("tern")
        chip = twin.physics.graphics.chips[1]
        chip.work(GraphicsDemand(), twin.state.time_s)
        files = FaultyFiles(twin.files)
        return backend_of(twin, files), files, chip

    return made


@pytest.mark.parametrize("machine", ["twin:tern", "twin:tern-two-rails"])
def test_nothing_wakes_the_chip_in_an_hour_of_looking(data, machine):
    on_tern = SimulatedSession(data, machine)
    chip = on_tern.twin.physics.graphics.chips[1]
    assert chip.state.asleep
    for _ in range(int(3600 / SAMPLE_S)):
        on_tern.session.tick()
        on_tern.pass_time(SAMPLE_S)
    on_tern.session.controls()
    on_tern.session.status()
    assert chip.state.asleep
    assert chip.state.woken == 0
    on_tern.close()


def test_a_chip_that_has_done_its_work_falls_asleep_though_it_is_watched(data):
    on_tern, chip = woken_tern(data)
    for second in range(120):
        on_tern.session.tick()
        on_tern.session.controls()
        on_tern.pass_time(1.0)
        if second == 20:
            assert not chip.state.asleep
            chip.work(None, 0.0)
    assert chip.state.asleep
    assert chip.state.woken == 0
    on_tern.close()


def test_a_setting_of_a_sleeping_chip_is_refused_and_of_a_woken_one_kept_in_a_trial(data):
    on_tern = SimulatedSession(data)
    session, chip = on_tern.session, on_tern.twin.physics.graphics.chips[1]
    refused = session.try_settings({"gpu03.power-limit": 30.0}, standing=False)
    assert not refused.ok
    assert "asleep" in sentence(refused.rows[0].why)
    chip.work(GraphicsDemand(), session.machine.clock.now_s())
    asked = {"gpu03.power-limit": 30.0, "gpu03.highest-clock": 1800.0, "gpu03.voltage-offset": -40.0}
    assert session.try_settings(asked, standing=False).ok
    on_tern.pass_time(60.0)
    assert chip.state.watts < 30.5
    session.revert("the test asks")
    assert (chip.state.limit_w, chip.state.clocks_mhz[1], chip.state.offset_mv) == (48.0, 2300.0, 0.0)
    assert chip.state.level == "auto"
    on_tern.close()


def test_clocks_ask_for_their_level(data):
    on_tern, _ = woken_tern(data)
    report = on_tern.session.try_settings({"gpu03.highest-clock": 1800.0, "gpu03.level": "low"}, standing=False)
    assert not report.ok
    assert any(row.why is not None and "level manual alone" in sentence(row.why) for row in report.rows)
    assert not on_tern.session.try_settings(
        {"gpu03.highest-clock": 600.0, "gpu03.lowest-clock": 900.0}, standing=False
    ).ok
    on_tern.close()


def test_a_chip_that_is_unplugged_and_plugged_again_is_let_go_and_taken_in(machine, tmp_path):
    dock = amd(2, "0000:3d:00.0", removable="removable")
    backend, _ = machine(amd() | dock)
    assert facts_by_own_name(backend, "gpu3d")["power-limit"].state is ControlState.SETTABLE
    before = backend.snapshot(["gpu3d.power-limit", "gpu03.power-limit"])
    asked = {"gpu3d.power-limit": 30.0, "gpu03.power-limit": 30.0}
    assert apply.apply_settings(asked, backend, before).ok
    (tmp_path / "sys/class/drm/card2").rename(tmp_path / "away")
    backend.look_at_processors()
    assert facts_by_own_name(backend, "gpu3d") == {}
    assert backend.restore(before) == ()  # what is gone is owed, all else is put back
    assert list(backend.pending_restores) == [path for path in before if "card2" in path]
    assert backend.drivers["gpu03.power-limit"].read() == 45.0
    (tmp_path / "away").rename(tmp_path / "sys/class/drm/card2")
    backend.look_at_processors()
    assert backend.drivers["gpu3d.power-limit"].read() == 30.0
    assert not backend.is_gone(next(iter(backend.pending_restores)))
