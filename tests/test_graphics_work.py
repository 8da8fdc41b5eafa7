"""Work for graphics chips: frames that are checked, on this computer's software renderer and on twins."""

import json
import time
from types import SimpleNamespace

import numpy as np
import pytest

from support import SimulatedSession
from upright_bolt.analysis.comparison.shared_heat import best_exchange
from upright_bolt.analysis.limits.gpu_limits import ClockCap, held_by
from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.graphics import ChipKind, Gpu
from upright_bolt.model.run import RunState
from upright_bolt.model.start import Start
from upright_bolt.model.work import NO_CHIP, Options, Work, check_options, choose_chip
from upright_bolt.reports.details import details_of
from upright_bolt.reports.earlier_cooling import cooling_of
from upright_bolt.session.chip_wake import wake
from upright_bolt.session.starting import start_run
from upright_bolt.simulator.graphics_state import GraphicsDemand
from upright_bolt.text import runs as run_words
from upright_bolt.workload import renderer, scene
from upright_bolt.workload.graphics_load import RESET, GraphicsLoad
from upright_bolt.workload.load import Task
from waiting import within

CHIPS = tuple(Gpu(part, place, "1d7e:0310", "amdgpu", ChipKind.SEPARATE, drives_screen=False)
              for part, place in (("gpu03", "0000:03:00.0"), ("gpuc1", "0000:c1:00.0")))  # fmt: skip
SMALL = scene.Size(blocks=2, passes=2, light=3, heavy=5, memory_words=1 << 14)


@pytest.fixture(scope="module")
def software():
    return renderer.Renderer("", SMALL)


def test_every_pass_of_a_frame_is_what_numpy_computes(software):
    assert software.software
    for number in range(2 * scene.SEEDS):
        software.begin(number, number % scene.SEEDS, 5)
        found, forgotten = software.result(number)
        assert found.shape == (2, 2, 4, 2 * scene.TILES)
        assert scene.wrong_places(found, scene.folded(number % scene.SEEDS, 5)) == []
        assert forgotten == 0


def test_one_wrong_bit_in_the_pattern_shows_in_every_block_and_pass(software):
    software.spoil(7, 9)
    software.begin(0, 0, 5)
    found, _ = software.result(0)
    software.mend()
    places = scene.wrong_places(found, scene.folded(0, 5))
    assert len(places) == 8
    assert all(place.startswith("picture ") for place in places)
    software.begin(1, 1, 5)
    assert scene.wrong_places(software.result(1)[0], scene.folded(1, 5)) == []


def test_a_word_of_memory_that_changes_is_counted(software):
    for number in range(16):
        software.begin(number, 0, 3)
    software.result(15)
    software._memory.write(np.uint32(1).tobytes(), offset=4 * 100)
    forgotten = []
    for number in range(16, 32):
        software.begin(number, 0, 3)
        forgotten.append(software.result(number)[1])
    assert sum(forgotten) == 1


def test_seeds_and_rounds_make_other_frames():
    assert len({scene.folded(seed, 4).tobytes() for seed in range(scene.SEEDS)}) == scene.SEEDS
    assert scene.folded(0, 4).tobytes() != scene.folded(0, 5).tobytes()


def wait_until_ready(load):
    until = time.monotonic() + within(60)
    while not load.ready():
        assert time.monotonic() < until
        time.sleep(0.05)


def carried_out(load, seconds):
    load.prepare()
    wait_until_ready(load)
    load.start()
    until = time.monotonic() + seconds
    while time.monotonic() < until or (load.self_test_passed() is None and time.monotonic() < until + within(30)):
        time.sleep(0.1)
    load.errors()
    return load


@pytest.mark.long
@pytest.mark.parametrize("weight", ["light", "heavy", "steps"])
def test_frames_are_rendered_checked_and_counted(weight):
    load = GraphicsLoad(Task("graphics", (0,), Options(weight=weight)))
    try:
        carried_out(load, 3.0)
        figures = load.figures(60.0)
        assert "llvmpipe" in load.renderer
        assert load.errors() == []
        assert (load.failure(), load.doubt()) == ("", "")
        assert figures["frames_checked"] >= 3
        assert figures["planted_caught"] == 1.0
        assert figures["low_01_fps"] <= figures["low_1_fps"] <= figures["rate_fps"]
    finally:
        load.stop()


@pytest.mark.long
def test_a_frame_that_is_drawn_wrong_is_counted_with_its_place():
    load = GraphicsLoad(Task("graphics", (0,), Options(weight="light")), inject_fault_at=2)
    try:
        carried_out(load, 2.0)
        until = time.monotonic() + within(30)
        while not load.errors() and time.monotonic() < until:
            time.sleep(0.1)
        (error,) = load.errors()
        assert (error.cpu, error.block) == (-1, "light scene")
        assert error.what.startswith("wrong frame (picture ")
        assert error.time_s > 0
    finally:
        load.stop()


@pytest.mark.long
def test_paced_frames_are_no_more_than_asked_for():
    load = GraphicsLoad(Task("graphics", (0,), Options(weight="light", pace_fps=12.0)))
    try:
        carried_out(load, 3.0)
        assert 0 < load.figures(60.0)["rate_fps"] <= 12.5
    finally:
        load.stop()


@pytest.mark.long
def test_a_chip_that_its_driver_has_reset_ends_the_work_in_words():
    load = GraphicsLoad(Task("graphics", (0,), Options(weight="light")))
    try:
        carried_out(load, 0.5)
        assert load.failure() == ""
        load._take_line(load._workers[0], ["lost"])
        assert load.failure() == RESET
    finally:
        load.stop()


@pytest.mark.long
def test_a_worker_that_is_killed_is_told():
    load = GraphicsLoad(Task("graphics", (0,), Options(weight="light")))
    try:
        carried_out(load, 0.5)
        load._workers[0].process.kill()
        until = time.monotonic() + within(20)
        while load.alive() and time.monotonic() < until:
            time.sleep(0.05)
        assert [error.what for error in load.errors()] == ["the worker died (signal 9)"]
    finally:
        load.stop()


def test_a_chip_without_a_renderer_is_told_before_the_work_begins():
    load = GraphicsLoad(Task("graphics", (0,), Options(), CHIPS[0]))
    load.prepare()
    with pytest.raises(BoltError, match=r"No renderer is offered for the chip at 0000:03:00\.0"):
        wait_until_ready(load)


def test_a_machine_without_any_renderer_says_so(monkeypatch):
    monkeypatch.setattr(renderer.ctypes.util, "find_library", lambda _name: None)
    with pytest.raises(BoltError, match="no EGL library"):
        renderer.device_index("")


def test_the_chip_is_named_where_there_are_several():
    assert choose_chip((), "") is None
    assert choose_chip(CHIPS[:1], "") is CHIPS[0]
    assert choose_chip(CHIPS, "gpuc1") is CHIPS[1]
    assert choose_chip(CHIPS, NO_CHIP) is None
    with pytest.raises(BadInput, match="2 graphics chips; name the one that works: gpu03, gpuc1"):
        choose_chip(CHIPS, "")
    with pytest.raises(BadInput, match="no graphics chip “gpu9” here; there are gpu03, gpuc1"):
        choose_chip(CHIPS, "gpu9")
    with pytest.raises(BadInput, match="there is none"):
        choose_chip((), "gpu03")


@pytest.mark.parametrize(
    ("name", "options", "said"),
    [
        ("steady", Options(chip="gpu03"), "takes no graphics chip; “graphics” and “both” do"),
        ("frames", Options(weight="light"), "takes no weight of a scene"),
        ("graphics", Options(weight="mighty"), "“mighty” is none of light, heavy, steps"),
        ("graphics", Options(pace_fps=3.0), "from 10 to 240 frames a second"),
    ],
)
def test_what_makes_no_sense_of_graphics_work_is_refused(name, options, said):
    with pytest.raises(BadInput, match=said):
        check_options(name, options)


@pytest.mark.long
def test_a_run_on_this_computer_gives_a_checked_score(bolt):
    done = bolt("run", "graphics", "--on", "software", "--weight", "light", "--duration", "10s", "--start", "at-once",
                "--json", on="host")  # fmt: skip
    assert done.returncode == 0, done.stderr
    run = json.loads(done.stdout)
    assert run["score"] > 0
    assert run["score_unit"] == "frames/min"
    assert run["options"]["chip"] == "software"
    assert run["errors"] == []


@pytest.fixture
def on_tern(data):
    made = SimulatedSession(data)
    yield made
    made.close()


def chip_of(on_tern):
    return on_tern.twin.physics.graphics.chips[1]


def rendered(on_tern, seconds=120.0, workload="graphics", **options):
    return on_tern.run(seconds, workload=workload, options=Options(chip="gpu03", **options))


def test_less_voltage_keeps_the_frames_at_four_fifths_of_the_watts(on_tern):
    stock = rendered(on_tern)
    wake(on_tern.session.machine.files, on_tern.session.machine.clock, "gpu03")
    assert on_tern.session.try_settings({"gpu03.voltage-offset": -120.0}, standing=False).ok
    less = rendered(on_tern)
    assert not less.errors
    assert less.end.score > 0.98 * stock.end.score
    assert less.end.numbers.extra["graphics_w"] < 0.82 * stock.end.numbers.extra["graphics_w"]
    assert less.end.numbers.extra["graphics_c"] < stock.end.numbers.extra["graphics_c"] - 3.0


def test_a_flat_low_cap_costs_a_tenth_of_the_frames_and_a_third_of_the_watts(on_tern):
    stock = rendered(on_tern)
    wake(on_tern.session.machine.files, on_tern.session.machine.clock, "gpu03")
    assert on_tern.session.try_settings({"gpu03.highest-clock": 2000.0}, standing=False).ok
    flat = rendered(on_tern)
    assert 0.86 < flat.end.score / stock.end.score < 0.93
    ratio = flat.end.numbers.extra["graphics_w"] / stock.end.numbers.extra["graphics_w"]
    assert 0.58 < ratio < 0.70


def test_too_little_voltage_shows_as_wrong_frames_then_as_a_reset_which_ends_the_run(on_tern):
    session, chip = on_tern.session, chip_of(on_tern)
    wake(session.machine.files, session.machine.clock, "gpu03")
    assert session.try_settings({"gpu03.voltage-offset": -182.0}, standing=False).ok
    wrong = rendered(on_tern)
    assert wrong.errors
    assert {error.cpu for error in wrong.errors} == {-1}
    assert all(error.clock_mhz and error.temp_c and error.voltage_v for error in wrong.errors)
    wake(session.machine.files, session.machine.clock, "gpu03")
    assert session.try_settings({"gpu03.voltage-offset": -198.0}, standing=False).ok
    record = rendered(on_tern, 300.0)
    assert record.end.state in (RunState.FAILED, RunState.RESTARTED)
    if record.end.state is RunState.FAILED:
        assert record.end.why == RESET
        assert chip.state.offset_mv == 0.0


def test_the_heavy_scene_finds_what_the_light_one_does_not(on_tern):
    chip = chip_of(on_tern)
    chip.state.offset_mv = -184.0
    beyond = {}
    for name, demand in (("light", GraphicsDemand(0.3, 0.62)), ("heavy", GraphicsDemand())):
        chip.work(demand, 0.0)
        chip.state.clock_mhz = 2300.0
        beyond[name] = chip.hazards(demand)[0]
    chip.work(None, 0.0)
    assert beyond["heavy"] > 5.0 * beyond["light"]


def test_processor_and_chip_share_one_budget(on_tern):
    scores = {}
    for watts in (15.0, 40.0):
        assert on_tern.session.try_settings({"sustained": watts, "burst": watts}, standing=False).ok
        record = rendered(on_tern, 180.0, "both")
        scores[watts] = record.end.score, record.end.numbers.extra["processor_score"]
    assert scores[15.0][0] > 1.05 * scores[40.0][0]
    assert scores[40.0][1] > 1.3 * scores[15.0][1]


def test_a_processor_at_its_base_clock_leaves_more_frames_and_both_run_cooler(on_tern):
    found = {}
    for turbo in ("on", "off"):
        tried = {"sustained": 40.0, "burst": 45.0, "turbo": turbo}
        on_tern.pass_time(1200.0)  # the case keeps heat of the run before
        assert on_tern.session.try_settings(tried, standing=False).ok
        record = rendered(on_tern, 400.0, "both")
        numbers = record.end.numbers
        found[turbo] = record.end.score, numbers.temp_sustained_c, numbers.extra["graphics_c"]
    (frames, processor_c, chip_c), (frames_at_base, processor_at_base_c, chip_at_base_c) = found["on"], found["off"]
    assert frames_at_base > 1.04 * frames
    assert processor_at_base_c < processor_c - 8.0
    assert chip_at_base_c < chip_c - 1.5


def test_a_ladder_wakes_the_chip_for_each_of_its_rungs_and_lets_it_sleep_again(bolt):
    done = bolt("sweep", "gpu03.voltage-offset=-40mV..-80mV/20mV", "graphics", "--on", "gpu03", "--duration", "20s",
                "--json")  # fmt: skip
    assert done.returncode == 0, done.stderr
    runs = json.loads(done.stdout)["runs"]
    assert [run["settings"]["gpu03.voltage-offset"] for run in runs if not run["role"]] == [-40.0, -60.0, -80.0]
    stands = json.loads(bolt("machine", "--json").stdout)
    assert {chip["part"]: chip["asleep"] for chip in stands["graphics_chips"]}.keys() == {"gpu00-02", "gpu03"}


def test_a_twin_asks_which_of_its_chips_works(bolt):
    done = bolt("run", "graphics", "--duration", "20s")
    assert done.returncode == 2
    assert "name the one that works: gpu00-02, gpu03" in done.stderr
    done = bolt("run", "graphics", "--on", "software", "--duration", "20s")
    assert done.returncode == 2
    assert "a twin has no software renderer" in done.stderr


def test_a_rested_start_and_a_label_work_as_for_any_run(on_tern):
    work = Work("graphics", 30.0, options=Options(chip="gpu03", weight="steps"), start=Start.AT_ONCE)
    start_run(on_tern.session, work, "steps", on_tern.store)
    record = on_tern.carry_on()
    assert record.head.label == "steps"
    assert record.end.numbers.extra["frames_checked"] > 10


def test_a_ladder_of_both_names_the_limit_at_which_the_chip_gained_most(bolt):
    done = bolt("sweep", "sustained,burst=15W..45W/10W", "both", "--on", "gpu03", "--duration", "60s")
    assert done.returncode == 0, done.stderr
    assert "the graphics chip gained" in done.stdout
    assert "the most for each point lost." in done.stdout
    assert "processor score" in done.stdout


def test_the_best_exchange_is_the_step_with_most_gained_for_each_point_lost():
    def run(watts, frames, score):
        head = SimpleNamespace(tried={"sustained": watts})
        end = SimpleNamespace(
            score=frames, numbers=SimpleNamespace(extra={"processor_score": score}, score_settled=None)
        )
        return SimpleNamespace(head=head, end=end, errors=())

    ladder = [run(40.0, 2000.0, 1000.0), run(30.0, 2200.0, 950.0), run(20.0, 2310.0, 800.0), run(10.0, 2311.0, 400.0)]
    found = best_exchange(ladder)
    assert (found.control, found.above, found.below) == ("sustained", 40.0, 30.0)
    assert found.gained == pytest.approx(10.0)
    assert found.lost == pytest.approx(5.0)
    assert best_exchange(ladder[2:]) is None
    assert best_exchange([]) is None


def shown(**readings):
    return {f"gpu03.{name.replace('_', '-')}": value for name, value in readings.items()}.get


@pytest.mark.parametrize(
    ("readings", "held"),
    [
        ({}, None),
        ({"clock": 500.0, "busy": 3.0, "power": 4.0, "limit": 40.0}, Constraint.NO_WORK),
        ({"clock": 2000.0, "busy": 99.0, "power": 39.5, "limit": 40.0}, Constraint.POWER),
        ({"clock": 2000.0, "busy": 99.0, "power": 30.0, "limit": 40.0}, Constraint.VOLTAGE),
        ({"clock": 2000.0, "busy": 99.0, "power": 30.0, "limit": 40.0, "temperature": 86.0, "ceiling": 87.0},
         Constraint.HEAT),
        ({"clock": 2000.0, "busy": 99.0}, Constraint.UNKNOWN),
        ({"clock": 1000.0, "pl1": 1.0}, Constraint.POWER),
        ({"clock": 1000.0, "thermal": 1.0}, Constraint.HEAT),
        ({"clock": 1000.0, "busy": 90.0, "reasons": 4.0}, Constraint.POWER),
        ({"clock": 1000.0, "busy": 90.0, "reasons": 0x40}, Constraint.HEAT),
        ({"clock": 1000.0, "busy": 90.0, "reasons": 0.0}, Constraint.VOLTAGE),
        ({"clock": 300.0, "reasons": 1.0}, Constraint.NO_WORK),
    ],
)  # fmt: skip
def test_what_holds_a_chip_is_told_from_its_readings(readings, held):
    assert held_by(shown(**readings), "gpu03") is held


@pytest.mark.parametrize(
    ("clock", "power", "cap", "held"),
    [
        (1790.0, 20.0, 1800.0, Constraint.CLOCK_CAP),
        (1500.0, 39.5, 1800.0, Constraint.POWER),
        (1500.0, 20.0, 1800.0, Constraint.VOLTAGE),
        (1790.0, 20.0, None, Constraint.VOLTAGE),
    ],
)
def test_a_chip_at_the_highest_clock_that_it_was_given_is_held_by_that(clock, power, cap, held):
    readings = shown(clock=clock, busy=99.0, power=power, limit=40.0)
    assert held_by(readings, "gpu03", ClockCap(cap)) is held
    assert held_by(readings, "gpu03", ClockCap(cap, by_level=True)) in (Constraint.CLOCK_CAP, Constraint.POWER)


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        ({"gpuc1.highest-clock": 1800.0}, "clock cap: 1.80 GHz of 1.80 GHz"),
        ({"gpuc1.level": "low"}, "clock cap: 400 MHz, since"),
        ({"gpuc1.level": "profile_standard"}, "clock cap: 1.44 GHz, since"),
        ({"gpuc1.level": "profile_peak"}, "voltage ceiling: 2.40 GHz, the top of its curve"),
        ({}, "voltage ceiling: 2.40 GHz, the top of its curve"),
    ],
)
def test_a_run_says_whether_the_highest_clock_held_its_chip(tmp_path, settings, words):
    twin = SimulatedSession(tmp_path, "twin:skerry")
    if settings:
        twin.session.try_settings(settings, standing=False)
    record = twin.run(60.0, workload="graphics", options=Options(chip="gpuc1"))
    assert words in " ".join(run_words.details(details_of(twin.store, record)))
    twin.close()


def test_a_chip_without_work_stands_at_the_lowest_clock_that_it_was_given(tmp_path):
    twin = SimulatedSession(tmp_path, "twin:skerry")
    shown = []
    for settings in ({}, {"gpuc1.lowest-clock": 1200.0}, {"gpuc1.level": "high"}):
        twin.session.try_settings(settings, standing=False) if settings else None
        twin.pass_time(1.0)
        sample = twin.session.tick().sample
        shown.append(sample.values[twin.session.index["gpuc1.clock"]])
        twin.session.revert() if settings else None
    assert shown == pytest.approx([400.0, 1200.0, 2400.0], abs=20.0)
    twin.close()


def test_the_processor_s_graphics_offset_lowers_what_its_chip_draws(tmp_path):
    twin = SimulatedSession(tmp_path)
    watts = []
    for settings in ({}, {"gpu-offset": -50.0}):
        twin.session.try_settings(settings, standing=False) if settings else None
        record = twin.run(60.0, workload="graphics", options=Options(chip="gpu00-02"))
        time_s, columns = twin.store.telemetry(record.id)
        watts.append(np.nanmean(columns["power.package"][time_s > 10.0]))
    assert 0.80 < watts[1] / watts[0] < 0.95
    twin.close()


def test_a_chip_within_the_processor_lives_on_its_limit():
    readings = {"gpu00.clock": 1000.0, "power.package": 14.9, "limit.sustained": 15.0}
    assert held_by(readings.get, "gpu00") is Constraint.POWER


@pytest.mark.parametrize(("watts", "held"), [(25.0, "power limit"), (48.0, "voltage ceiling")])
def test_a_run_on_a_chip_tells_what_held_the_chip(on_tern, watts, held):
    session = on_tern.session
    wake(session.machine.files, session.machine.clock, "gpu03")
    assert session.try_settings({"gpu03.power-limit": watts}, standing=False).ok
    record = rendered(on_tern, 60.0)
    shares = record.end.numbers.constraint_share
    assert shares[held] > 0.9
    phases = details_of(on_tern.store, record).phases
    assert phases[-1].constraint_share[held] > 0.9
    assert phases[-1].power_w == pytest.approx(record.end.numbers.extra["graphics_w"], rel=0.05)


def test_a_run_that_begins_while_the_chip_is_left_alone_is_measured_from_its_first_second(on_tern):
    rendered(on_tern, 20.0)
    for _ in range(14):  # idle, but not asleep yet: its gauges pause
        on_tern.session.tick()
        on_tern.pass_time(0.5)
    record = rendered(on_tern, 20.0)
    time_s, columns = on_tern.store.telemetry(record.id)
    begun = (time_s > 0.5) & (time_s < 6.0)
    assert begun.sum() > 5
    assert not np.isnan(columns["gpu03.clock"][begun]).any()


def test_of_a_run_beside_a_chip_that_works_no_cooling_is_told(on_tern):
    alone = on_tern.run(300.0)
    assert "This cooling carries" in " ".join(run_words.details(details_of(on_tern.store, alone, 85.0)))
    chip_of(on_tern).work(GraphicsDemand(), 0.0)
    beside = on_tern.run(300.0)
    chip_of(on_tern).work(None, 0.0)
    found = details_of(on_tern.store, beside, 85.0)
    assert found.cooling is None
    said = run_words.details(found)[-1]
    assert said.startswith("What this cooling carries cannot be read from this run: gpu03 drew ")
    assert said.endswith(" W on the same heat sink.")
    assert cooling_of(on_tern.store, beside) is None, "nor is it a start for later ones"
    assert cooling_of(on_tern.store, alone) is not None
