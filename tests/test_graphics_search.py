"""The search for the edge on a graphics chip: its voltage, its memory clock, its stages of proof, a person's answer."""

from dataclasses import replace

import pytest

from search_support import SearchScene
from upright_bolt.analysis.stability.course import Course
from upright_bolt.analysis.stability.planner import prior_of
from upright_bolt.analysis.validation.known_failures import failures_in, near_failure
from upright_bolt.errors import BadInput, Refused
from upright_bolt.model.axis import Axis
from upright_bolt.model.run import RunState
from upright_bolt.model.search import (
    Asked,
    Outcome,
    Purpose,
    Rung,
    RungEnd,
    Search,
    Why,
    told_by_person,
)
from upright_bolt.presentation.searches import begin_search
from upright_bolt.session.search_request import RawArguments, asked_from
from upright_bolt.session.session import SAMPLE_S
from upright_bolt.workload.plan import kinds_s

VOLTAGE = "gpu03.voltage-offset"
MEMORY = "gpu03.memory-clock"


def begun(scene, typed):
    return begin_search(scene.session, scene.log, scene.twin.store, asked_from(typed))


def carried(scene, active, answer=None):
    while scene.session.working:
        scene.session.tick()
        scene.session.end_run()
        if active.question is not None:
            if answer is None:
                active.stop()
            else:
                active.answer(answer)
        scene.twin.pass_time(SAMPLE_S)
    if active.fault is not None:
        raise active.fault
    return scene.log.get(active.search.asked.id)


def chip_of_twin(scene):
    return scene.session.machine.clock._twin.physics.graphics.chips[1]


@pytest.fixture
def scene(tmp_path):
    return SearchScene(tmp_path)


def test_an_axis_counts_from_stock_towards_its_own_danger():
    down, up = Axis((VOLTAGE,)), Axis((MEMORY,), 875.0)
    assert (down.value(80.0), down.position(-80.0), down.position(None)) == (-80.0, 80.0, 0.0)
    assert (up.value(50.0), up.position(925.0), up.position(None)) == (925.0, 50.0, 0.0)
    assert up.as_far({MEMORY: 930.0}, {MEMORY: 925.0})
    assert not up.as_far({MEMORY: 920.0}, {MEMORY: 925.0})
    assert down.as_far({VOLTAGE: -90.0}, {VOLTAGE: -80.0})
    assert prior_of(up).edge == pytest.approx(0.13 * 875.0)


def test_the_voltage_found_keeps_the_frames_at_four_fifths_of_the_watts(scene):
    found = carried(scene, begun(scene, RawArguments(axis=VOLTAGE, soak="10min")))
    assert found.end.why is Why.FOUND
    course = Course(found, [])
    assert abs(course.gained()) < 0.02
    assert 0.7 < course.watts_part() < 0.84
    spec = chip_of_twin(scene).spec
    assert found.kept_at < -spec.edge_mv - 8.0 * spec.slope_mv  # well before where the heavy scene errs
    assert scene.session.status().trial is None
    assert scene.twin.current_values(VOLTAGE) in (0.0, None)
    soaks = [(rung.purpose, rung.scene) for rung, end in found.ended if end.outcome is Outcome.PASSED]
    wanted = [(Purpose.SOAK, "light"), (Purpose.SOAK, "heavy"), (Purpose.COOL_SOAK, "steps")]
    assert soaks[-3:] == wanted
    proven = course.proven(kinds_s)
    assert all(proven[kind] > 0.0 for kind in ("full", "steps", "light"))


def test_the_memory_clock_is_searched_upwards_and_put_back(scene):
    found = carried(scene, begun(scene, RawArguments(axis=MEMORY, soak="5min")))
    assert found.end.why is Why.FOUND
    kept = found.end.settings[MEMORY]
    chip = chip_of_twin(scene)
    assert 875.0 < kept < chip.spec.memory_edge_mhz
    assert chip.state.memory_mhz == 875.0
    assert all(rung.settings.get(MEMORY, 875.0) >= 875.0 for rung in found.rungs)
    assert found.asked.stock == 875.0


def test_a_clock_that_is_held_stands_in_every_rung_and_in_what_is_kept(scene):
    found = carried(scene, begun(scene, RawArguments(axis=VOLTAGE, at="1950MHz", soak="2min")))
    held = "gpu03.highest-clock"
    assert {rung.settings[held] for rung in found.rungs} == {1950.0}
    assert found.end.settings[held] == 1950.0
    assert chip_of_twin(scene).state.clocks_mhz[1] == chip_of_twin(scene).spec.clock_max_mhz


def test_a_clock_offset_at_a_locked_clock_finds_the_same_frames_for_fewer_watts(tmp_path):
    scene = SearchScene(tmp_path, "twin:tern-two-rails")
    offset, held = "gpu03.clock-offset", "gpu03.highest-clock"
    found = carried(scene, begun(scene, RawArguments(axis=offset, at="2200MHz", soak="5min")))
    assert found.end.why is Why.FOUND
    chip = chip_of_twin(scene)
    assert {rung.settings[held] for rung in found.rungs} == {2200.0}
    assert found.end.settings[held] == 2200.0
    kept = found.end.settings[offset]
    lowered_mv = 1000.0 * (chip.spec.volts(2200.0) - chip.spec.volts(2200.0 - kept))
    assert 60.0 < lowered_mv < -chip.spec.edge_mv
    course = Course(found, [])
    assert abs(course.gained()) < 0.02
    assert course.watts_part() < 0.88
    assert (chip.state.clock_offset_mhz, chip.state.locked) == (0.0, False)


def test_a_memory_offset_is_searched_in_the_library_s_own_counting(tmp_path):
    scene = SearchScene(tmp_path, "twin:tern-two-rails")
    found = carried(scene, begun(scene, RawArguments(axis="gpu03.memory-offset", soak="2min")))
    assert found.end.why is Why.FOUND
    spec = chip_of_twin(scene).spec
    assert 200.0 < found.end.settings["gpu03.memory-offset"] < spec.memory_edge_mhz - spec.memory_mhz[0]


@pytest.mark.parametrize(
    ("typed", "said"),
    [
        (RawArguments(axis="gpu03.level"), "is none; write core,cache"),
        (RawArguments(axis=VOLTAGE, plain="0.5mV"), "plain: from 1 mV to 50 mV"),
        (RawArguments(axis=MEMORY, reach="500MHz"), "reach: from 1 MHz to 100 MHz"),
        (RawArguments(axis="core", at="2GHz"), "for a graphics chip's axis alone"),
        (RawArguments(axis=VOLTAGE, at="9GHz"), "outside what this machine allows"),
        (RawArguments(axis=VOLTAGE, in_use="2s"), "in-use: from 1min to 24h"),
    ],
)
def test_what_is_asked_wrongly_is_said(scene, typed, said):
    with pytest.raises(BadInput, match=said):
        begun(scene, typed)
    assert scene.log.all() == []


def test_a_chip_without_the_control_is_refused(scene):
    with pytest.raises(Refused, match="edge cannot be searched for"):
        begun(scene, RawArguments(axis="gpu00-02.voltage-offset"))


def test_a_person_who_sees_errors_sends_the_search_back(scene):
    active = begun(scene, RawArguments(axis=VOLTAGE, soak="2min", in_use="2min"))
    answers = iter([Outcome.WRONG, Outcome.PASSED])
    while scene.session.working:
        scene.session.tick()
        scene.session.end_run()
        if active.question is not None:
            active.answer(next(answers))
        scene.twin.pass_time(SAMPLE_S)
    used = [(rung.position, end.outcome) for rung, end in active.search.ended if rung.purpose is Purpose.IN_USE]
    assert [outcome for _, outcome in used] == [Outcome.WRONG, Outcome.PASSED]
    assert used[1][0] <= used[0][0] - 2.0
    assert active.search.end.why is Why.FOUND


def test_a_question_that_nobody_answers_waits_for_the_command(scene):
    from upright_bolt.errors import NotFound
    from upright_bolt.store.search_log import answer_open, recover

    with pytest.raises(NotFound, match="No search waits for an answer"):
        answer_open(scene.log, Outcome.PASSED)
    search = carried(scene, begun(scene, RawArguments(axis=VOLTAGE, soak="0", in_use="2min")))
    assert search.end is None
    assert search.open_rung.purpose is Purpose.IN_USE
    assert scene.session.status().trial is None
    answered = answer_open(scene.log, Outcome.PASSED)
    assert answered.open_rung is None
    ended = scene.carry_on(recover(scene.log, scene.session.boot_id))
    assert ended.end.why is Why.FOUND


def test_a_chip_reset_by_its_driver_fails_the_rung_and_is_a_known_failure(scene):
    active = begun(scene, RawArguments(axis=VOLTAGE, plain="10mV", soak="0"))
    chip = chip_of_twin(scene)
    chip.spec = replace(chip.spec, edge_mv=-1000.0)
    while scene.session.working:
        scene.session.tick()
        run = scene.session.run
        if run is not None and active.search.rungs[-1].position >= 30.0 and run.progress().elapsed_s > 5.0:
            chip.reset()
        scene.session.end_run()
        scene.twin.pass_time(SAMPLE_S)
    last = [end.outcome for rung, end in active.search.ended if rung.position == 30.0]
    assert last == [Outcome.RESET]
    assert active.search.end.why is Why.FOUND
    assert active.search.kept_at < 30.0
    asked = active.search.asked
    known = failures_in(scene.twin.store.all(), scene.log.all(), scene.machine, asked.chip)
    assert near_failure(known, {VOLTAGE: -40.0}, {}) is not None
    assert near_failure(known, {VOLTAGE: -20.0}, {}) is None


def test_a_memory_clock_that_failed_is_known_to_fail_above_it_and_close_to_it():
    asked = Asked(1, (MEMORY,), "", "a chip", stock=875.0)
    rung = Rung(1, 100.0, {MEMORY: 975.0}, 20.0, 1, scene="heavy")
    end = told_by_person(RungEnd(1, Outcome.PASSED, 20.0, 20.0), Outcome.WRONG)
    known = failures_in([], [Search(asked, (rung,), {1: end})], "twin:tern", "a chip")
    assert near_failure(known, {MEMORY: 980.0}, {}) is not None
    assert near_failure(known, {MEMORY: 966.0}, {}) is not None, "within two steps of 5 MHz"
    assert near_failure(known, {MEMORY: 960.0}, {}) is None


def test_the_light_scene_alone_proves_nothing(tmp_path):
    scene = SearchScene(tmp_path)
    asked = Asked(1, (VOLTAGE,), "", "a chip", soak_s=600.0)
    baseline = Rung(1, 0.0, {}, 48.0, 1, Purpose.BASELINE, scene="heavy")
    light = Rung(2, 100.0, {VOLTAGE: -100.0}, 60.0, 1, Purpose.SOAK, scene="light")
    ends = {1: RungEnd(1, Outcome.PASSED, 48.0, 48.0, score=100.0), 2: RungEnd(2, Outcome.PASSED, 60.0, 12.0)}
    course = Course(Search(asked, (baseline, light), ends), [])
    assert not course._soaked_by(light, ends[2])
    assert scene.twin.current_values(VOLTAGE) is None  # nothing has woken the chip


def test_what_was_found_is_kept_in_a_profile_as_proven_and_switched_by_the_charger(scene):
    """The whole loop: searched, soaked, saved, and in force on battery once the chip is awake."""
    from profile_support import Desk
    from upright_bolt.analysis.chip import chip_on_board
    from upright_bolt.analysis.validation.proofs import proofs_of
    from upright_bolt.model.profile import Profile
    from upright_bolt.profiles.text import text_of
    from upright_bolt.simulator.graphics_state import GraphicsDemand

    found = carried(scene, begun(scene, RawArguments(axis=VOLTAGE)))
    identity = scene.session.about.identity
    settings = dict(found.end.settings)
    proofs = proofs_of(settings, scene.twin.store.all(), scene.machine, identity, chip_on_board(identity))
    assert proofs[VOLTAGE].all_loads_s > 600.0
    desk = Desk(scene.data / "desk", rules="")
    desk.profiles.save("chart table", text_of(Profile("chart table", settings, proofs)))
    desk.profiles.save_rules("When on battery, use chart table.\nOtherwise, use stock.\n")
    desk.profiles.set_hold(on=True)
    chip = desk.twin.physics.graphics.chips[1]
    desk.outside.plug(charger=False)
    desk.wait(5.0)
    assert [held.why for held in desk.status.held_back] == ["waits until gpu03 wakes"]
    chip.work(GraphicsDemand(), desk.twin.state.time_s)
    desk.wait(5.0)
    assert chip.state.offset_mv == settings[VOLTAGE]
    desk.outside.plug(charger=True)
    desk.wait(5.0)
    assert chip.state.offset_mv == 0.0
    assert chip.state.woken == 0
    desk.close()


def test_the_light_scene_alone_is_no_proof_for_a_profile(scene):
    from upright_bolt.analysis.chip import chip_on_board
    from upright_bolt.analysis.validation.proofs import proofs_of
    from upright_bolt.model.profile import Profile
    from upright_bolt.model.work import Options
    from upright_bolt.profiles.plan import Doubts, plan_for
    from upright_bolt.session.chip_wake import wake_for

    session = scene.session
    wake_for(session, [VOLTAGE])
    assert session.try_settings({VOLTAGE: -60.0}, standing=False).ok
    options = Options(chip="gpu03", weight="light")
    scene.twin.run(900.0, "the light scene", workload="graphics", options=options)
    chip = chip_on_board(session.about.identity)
    proofs = proofs_of({VOLTAGE: -60.0}, scene.twin.store.all(), scene.machine, session.about.identity, chip)
    assert proofs[VOLTAGE].all_loads_s == 0.0
    plan = plan_for(Profile("chart table", {VOLTAGE: -60.0}, proofs), {}, Doubts(chip))
    assert plan.settings == {}
    assert "every kind of load" in plan.held_back[0].why


def test_the_command_asks_and_is_answered(bolt):
    """As people type it: a search in steps, a minute of use, picture errors seen, and the search goes further back."""
    axis = ("edge", "--axis", VOLTAGE, "--plain", "30mV", "--soak", "0", "--in-use", "1min")
    first = bolt(*axis)
    assert first.returncode == 1
    assert "edge answer fine|picture-errors|reset|cut-short" in first.stderr
    assert "waits to hear how your use went" in bolt("edge", "status").stdout
    assert bolt("edge", "answer", "well").returncode == 2
    assert bolt("edge", "answer", "picture-errors").returncode == 0
    again = bolt("edge", "--resume")
    assert "say how it went" in again.stdout
    assert bolt("edge", "answer", "fine").returncode == 0
    last = bolt("edge", "--resume")
    assert last.returncode == 0
    assert "60 s of your own use without an error" in last.stdout
    assert "No search waits for an answer" in bolt("edge", "answer", "fine").stderr
    assert "reset" in bolt("edge", "history", "1").stdout or "wrong result" in bolt("edge", "history", "1").stdout
    deep = bolt("set", "--wake", f"{VOLTAGE}=-190mV")
    assert "is at or beyond that" in deep.stderr


@pytest.mark.parametrize(
    ("name", "value", "needs"),
    [("gpu01.clock-offset", 120.0, True), ("gpu01.clock-offset", -50.0, False), (MEMORY, 930.0, True),
     ("gpu03.highest-voltage", 0.9, True), (VOLTAGE, -60.0, True), (VOLTAGE, 0.0, False),
     ("gpu03.power-limit", 30.0, False), ("core-offset", -60.0, True), ("sustained", 20.0, False)],
)  # fmt: skip
def test_no_profile_puts_an_unproven_step_towards_danger_in_force_by_itself(name, value, needs):
    from upright_bolt.model.profile import Profile
    from upright_bolt.profiles.plan import Doubts, plan_for

    plan = plan_for(Profile("chart table", {name: value}), {}, Doubts("a chip"))
    assert [held.why for held in plan.held_back] == (["not proven"] if needs else [])


def test_what_failed_on_its_way_up_is_held_back_from_there_on():
    from upright_bolt.model.failure import Failure, FailureKind
    from upright_bolt.model.profile import Profile, Proof
    from upright_bolt.profiles.plan import Doubts, plan_for

    proof = {MEMORY: Proof(960.0, "a chip", 3600.0, 3600.0, (1,), "2026-11-27")}
    doubts = Doubts("a chip", failed=[Failure({MEMORY: 950.0}, FailureKind.WRONG)])
    held = plan_for(Profile("deep", {MEMORY: 955.0}, proof), {}, doubts).held_back
    assert "gone wrong" in held[0].why
    assert plan_for(Profile("shallow", {MEMORY: 935.0}, proof), {}, doubts).held_back == ()
    beyond = plan_for(Profile("beyond", {MEMORY: 965.0}, proof), {}, Doubts("a chip")).held_back
    assert beyond[0].why == "proven up to 960 MHz only"


def test_a_run_tells_which_chip_worked_and_proves_nothing_of_another_in_its_place(scene):
    from upright_bolt.analysis.chip import chip_on_board
    from upright_bolt.analysis.stability.history import known
    from upright_bolt.analysis.validation.proofs import proofs_of
    from upright_bolt.model.work import Options
    from upright_bolt.session.chip_wake import wake_for

    session = scene.session
    wake_for(session, [VOLTAGE])
    assert session.try_settings({VOLTAGE: -195.0}, standing=False).ok
    options = Options(chip="gpu03", weight="steps")
    run = scene.twin.run(900.0, "too deep", workload="graphics", options=options)
    assert run.head.identity["graphics"] == "1d7e:0310"
    assert run.errors
    asked = scene.ask(controls=(VOLTAGE,), graphics="1d7e:0310").asked
    assert len(known([run], [], scene.machine, asked)) == 1
    assert known([run], [], scene.machine, replace(asked, graphics="1d7e:0999")) == []
    good = replace(run, errors=(), end=replace(run.end, state=RunState.FINISHED))
    identity = session.about.identity
    chip = chip_on_board(identity)
    assert VOLTAGE in proofs_of({VOLTAGE: -60.0}, [good], scene.machine, identity, chip, {"gpu03": "1d7e:0310"})
    assert proofs_of({VOLTAGE: -60.0}, [good], scene.machine, identity, chip, {"gpu03": "1d7e:0999"}) == {}
