"""Searches for an edge on twins: whole sessions, the command line, freezes, and what has failed once."""

import json
from dataclasses import replace
from itertools import pairwise

import pytest

from search_support import BOTH, NEAR_FREEZING, SearchScene
from upright_bolt.analysis.chip import board_of
from upright_bolt.analysis.stability.course import Course
from upright_bolt.analysis.stability.history import known
from upright_bolt.app import _stay_awake
from upright_bolt.errors import BadInput, MachineFroze, Refused
from upright_bolt.model.run import RunRole
from upright_bolt.model.search import (
    FAILED,
    AfterFreeze,
    Asked,
    Outcome,
    Purpose,
    Rung,
    RungEnd,
    RungError,
    Search,
    Why,
)
from upright_bolt.presentation.searches import begin_search
from upright_bolt.presentation.stability_picture import picture_of
from upright_bolt.service.logind import Awake
from upright_bolt.session.autostart import Autostart
from upright_bolt.session.session import SAMPLE_S
from upright_bolt.session.stability_search import start_search
from upright_bolt.session.test_watch import LID_CLOSED, ON_BATTERY
from upright_bolt.simulator.outside import Outside
from upright_bolt.store.search_log import recover
from waiting import until


def test_a_search_ends_with_a_value_that_holds_and_nothing_in_force(tmp_path):
    scene = SearchScene(tmp_path)
    found = scene.carry_on(scene.ask(soak_s=120.0))
    assert found.end is not None
    assert found.end.why is Why.FOUND
    assert 15.0 <= found.kept_at <= 75.0
    assert scene.offsets() == {0.0}
    assert scene.session.status().trial is None
    assert [rung.purpose for rung in found.rungs[:3]] == [Purpose.WARM_UP, Purpose.BASELINE, Purpose.TEST]
    *_, soak, cool = found.rungs
    assert [soak.purpose, cool.purpose] == [Purpose.SOAK, Purpose.COOL_SOAK]
    assert soak.settings == cool.settings == found.end.settings
    assert {found.ends[rung.number].outcome for rung in (soak, cool)} == {Outcome.PASSED}
    assert soak.load_s + cool.load_s == 120.0
    failed = [rung.position for rung in found.rungs if found.ends[rung.number].outcome in FAILED]
    assert failed
    assert found.kept_at <= min(failed) - 2.0
    runs = {run.id: run for run in scene.twin.store.all()}
    for rung in found.rungs:
        run = runs[found.ends[rung.number].run_id]
        assert run.head.role is RunRole.RUNG
        assert all(run.head.settings[name] == pytest.approx(rung.settings.get(name, 0.0), abs=0.6) for name in BOTH)
    scene.twin.close()


def test_gains_are_seen_along_the_way_at_equal_starts(tmp_path):
    scene = SearchScene(tmp_path)
    found = scene.carry_on(scene.ask(plain_step=20.0, soak_s=0.0), stop_at=5)
    scores = [found.ends[rung.number].score for rung in found.rungs[1:5]]
    assert all(later > earlier for earlier, later in pairwise(scores))
    clocks = [found.ends[rung.number].clock_mhz for rung in found.rungs[1:5]]
    per_mv = (clocks[-1] - clocks[0]) / 60.0
    assert 1.5 <= per_mv <= 5.0, "people see about 3 MHz per mV on a 3 GHz chip"
    scene.twin.close()


def test_a_search_on_each_rail_finds_that_the_core_goes_further(tmp_path):
    scene = SearchScene(tmp_path, "twin:tern-two-rails")
    core = scene.carry_on(scene.ask(controls=("core-offset",), soak_s=0.0))
    cache = scene.carry_on(scene.ask(controls=("cache-offset",), soak_s=0.0))
    assert core.kept_at > cache.kept_at + 5.0
    scene.twin.close()


def test_rails_that_move_apart_are_searched_apart_from_where_both_hold(tmp_path):
    scene = SearchScene(tmp_path, "twin:tern-two-rails#500")
    found = scene.carry_on(scene.ask(soak_s=60.0))
    *_, alone = (rung for rung in found.rungs if rung.purpose is Purpose.ALONE)
    assert alone.settings == {"core-offset": -alone.position}
    later = [rung for rung in found.rungs if rung.number > alone.number and rung.purpose is Purpose.TEST]
    assert {rung.controls for rung in later} == {("core-offset",), ("cache-offset",)}
    for rung in later:
        (held,) = set(BOTH) - set(rung.controls)
        assert float(rung.settings[held]) >= -alone.position
    core, cache = (-float(found.end.settings[name]) for name in BOTH)
    assert core > cache + 5.0
    assert found.rungs[-1].settings == found.end.settings
    scene.twin.close()


@pytest.mark.parametrize("plain", [0.0, 20.0])
def test_on_a_shared_rail_one_alone_moves_nothing_and_nothing_is_searched_apart(tmp_path, plain):
    """In steps of 20 mV the last test fails at once: what comes after it begins with a fuller power budget."""
    scene = SearchScene(tmp_path)
    found = scene.carry_on(scene.ask(soak_s=0.0, plain_step=plain))
    alone = [rung for rung in found.rungs if rung.purpose is Purpose.ALONE]
    assert len(alone) == 2
    beside = {rung.number for rung in found.rungs if rung.purpose is Purpose.BESIDE}
    assert {rung.number - 1 for rung in alone} < beside
    assert found.rungs[-1] == alone[-1]
    assert len(set(found.end.settings.values())) == 1
    worst = min(rung.position for rung in found.rungs if found.ends[rung.number].outcome in FAILED)
    assert found.kept_at < worst - 20.0
    scene.twin.close()


def test_a_search_of_a_control_that_moves_nothing_ends_before_it_takes_that_for_proof(tmp_path):
    scene = SearchScene(tmp_path)
    found = scene.carry_on(scene.ask(controls=("core-offset",), soak_s=0.0))
    assert found.end.why is Why.NO_EFFECT
    assert not found.end.settings
    assert max(rung.position for rung in found.rungs) < 80.0
    scene.twin.close()


def test_apart_the_shallowest_lies_no_further_than_all_together():
    """Even where rails only seem to be apart: on a shared one the shallowest of the offsets is the one that counts."""
    asked = Asked(1, BOTH, "", "")
    core, cache = BOTH
    rungs = [
        Rung(1, 0.0, {}, 90.0, 1, Purpose.WARM_UP), Rung(2, 0.0, {}, 48.0, 1, Purpose.BASELINE),
        Rung(3, 40.0, dict.fromkeys(BOTH, -40.0), 60.0, 1), Rung(4, 80.0, dict.fromkeys(BOTH, -80.0), 60.0, 1),
        Rung(5, 100.0, dict.fromkeys(BOTH, -100.0), 60.0, 1), Rung(6, 0.0, {}, 20.0, 1, Purpose.BESIDE),
        Rung(7, 80.0, {core: -80.0}, 20.0, 1, Purpose.ALONE, (core,)), Rung(8, 0.0, {}, 20.0, 1, Purpose.BESIDE),
        Rung(9, 80.0, {core: -80.0}, 20.0, 1, Purpose.ALONE, (core,)),
        *(Rung(n, mv, {core: -mv, cache: -30.0}, 420.0, 1, controls=(core,)) for n, mv in ((10, 180.0), (11, 200.0))),
        *(Rung(n, mv, {core: -30.0, cache: -mv}, 420.0, 1, controls=(cache,)) for n, mv in ((12, 180.0), (13, 200.0))),
    ]  # fmt: skip
    ends = {
        rung.number: RungEnd(rung.number, Outcome.PASSED, rung.load_s, rung.load_s, score=100.0 + rung.position / 10.0)
        for rung in rungs
    }
    ends[5] = RungEnd(5, Outcome.WRONG, 2.0, 2.0, errors=(RungError(1.0, 0, "vector"),))
    course = Course(Search(asked, tuple(rungs), ends), [])
    assert course.apart
    assert all(course.outlook((name,)).final > 98.0 for name in BOTH)
    together = course.outlook().final
    assert 10.0 < together < 80.0
    assert min(-float(value) for value in course.final.values()) <= together


def test_a_search_ends_where_more_could_not_bring_what_a_person_wants(tmp_path):
    scene = SearchScene(tmp_path)
    found = scene.carry_on(scene.ask(soak_s=0.0, least_gain=0.12))
    assert found.end.why is Why.FOUND
    assert not [end for end in found.ends.values() if end.outcome in FAILED]
    assert len([rung for rung in found.rungs if rung.purpose is Purpose.TEST]) < 7
    scene.twin.close()


def test_while_something_else_works_a_search_pauses_and_says_so(tmp_path):
    scene = SearchScene(tmp_path)
    active = start_search(scene.session, scene.ask(soak_s=0.0), [], scene.log, scene.twin.store)
    busy = scene.session.index["busy.mean"]

    def take(times: int, percent: float) -> None:
        for _ in range(times):
            sample = scene.session.access.sample()
            values = [percent if place == busy else value for place, value in enumerate(sample.values)]
            active.on_sample(replace(sample, values=values), ())
            scene.twin.pass_time(SAMPLE_S)

    take(7, 60.0)
    assert not active.paused
    take(3, 60.0)
    assert active.progress().paused == "something else keeps the processors 60 % busy"
    assert not active.search.rungs
    for _ in range(12):
        scene.session.tick()
        scene.twin.pass_time(SAMPLE_S)
    assert not active.paused
    assert active.search.rungs
    active.stop()
    scene.session.run.stop()
    scene.session.tick()
    scene.session.end_run()
    scene.twin.close()


def frozen(data) -> SearchScene:
    """Return the scene of a search whose machine has just frozen."""
    for machine in NEAR_FREEZING:
        scene = SearchScene(data, machine)
        try:
            scene.carry_on(scene.ask(plain_step=10.0, soak_s=0.0))
        except MachineFroze:
            return scene
        scene.twin.close()
    raise AssertionError("none of them froze")


def test_a_freeze_is_written_down_by_the_next_start_and_the_search_goes_on(tmp_path):
    scene = frozen(tmp_path)
    open_rung = scene.log.open_search().open_rung
    scene.kill()
    assert scene.session.boot_id != open_rung.boot_id
    assert scene.offsets() == {0.0}
    found = recover(scene.log, scene.session.boot_id)
    assert found.ends[open_rung.number].outcome is Outcome.FROZE
    assert found.freezes == 1
    ended = scene.carry_on()
    assert ended.end.why is Why.FOUND
    assert ended.kept_at <= open_rung.position - 2.0
    scene.twin.close()


def test_on_battery_a_search_pauses_and_goes_on_by_itself(tmp_path):
    scene = SearchScene(tmp_path)
    active = start_search(scene.session, scene.ask(soak_s=0.0), [], scene.log, scene.twin.store)

    scene.session.plug(charger=False)
    scene.tick(60)
    assert active.progress().paused == ON_BATTERY
    assert not active.search.rungs
    scene.session.plug(charger=True)
    scene.tick(60)
    assert not active.progress().paused
    assert active.search.rungs
    scene.session.plug(charger=False)
    scene.tick(20)
    assert active.progress().paused == ON_BATTERY, "in the middle of a rung as well"
    assert active.search.ends[1].outcome is Outcome.STOPPED
    assert 0.0 < active.search.ends[1].load_s < 40.0
    scene.session.plug(charger=True)
    scene.tick(60)
    assert active.search.rungs[1].purpose is Purpose.WARM_UP
    active.stop()
    scene.session.run.stop()
    scene.tick(2)
    assert active.ended
    scene.twin.close()


def test_a_lid_that_is_closed_pauses_a_search_but_not_one_that_was_closed_all_along(tmp_path):
    scene = SearchScene(tmp_path)
    outside = scene.session.machine.ports.changes
    outside.move_lid(closed=True)
    active = start_search(scene.session, scene.ask(soak_s=0.0), [], scene.log, scene.twin.store)

    scene.tick(60)
    assert not active.progress().paused
    assert active.search.rungs, "docked, with the lid closed"
    outside.move_lid(closed=False)
    scene.tick(20)
    outside.move_lid(closed=True)
    scene.tick(4)
    assert active.progress().paused == LID_CLOSED
    assert active.search.ends[1].outcome is Outcome.STOPPED
    outside.move_lid(closed=False)
    scene.tick(60)
    assert not active.progress().paused
    assert len(active.search.rungs) > 1
    active.stop()
    scene.session.run.stop()
    scene.tick(2)
    assert active.ended
    scene.twin.close()


def test_a_temperature_ceiling_ends_a_rung_and_what_passed_counts(tmp_path):
    scene = SearchScene(tmp_path)
    found = scene.carry_on(scene.ask(ceiling_c=70.0, soak_s=0.0), stop_at=4)
    hot = [end for end in found.ends.values() if end.outcome is Outcome.HOT]
    assert hot
    assert all(0.0 < end.load_s < 90.0 and end.temp_c <= 73.0 for end in hot)
    scene.twin.close()


def test_no_search_beside_a_trial_or_where_offsets_are_closed(tmp_path):
    scene = SearchScene(tmp_path)
    scene.session.try_settings({"epp": 200.0}, standing=False)
    with pytest.raises(BadInput, match="A trial is running"):
        scene.carry_on(scene.ask())
    scene.twin.close()
    closed = SearchScene(tmp_path, "twin:plover")
    with pytest.raises(Refused, match="keeps the offsets closed"):
        closed.carry_on(closed.ask())
    closed.twin.close()


# sleep, restarts and breaks


def test_a_search_keeps_the_computer_awake_and_lets_it_sleep_whenever_it_does_not_work(tmp_path, bus, monkeypatch):
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", bus.address)
    bus.start_login_manager()
    scene = SearchScene(tmp_path)
    scene.session.machine.stay_awake = _stay_awake
    start_search(scene.session, scene.ask(soak_s=0.0), [], scene.log, scene.twin.store)

    scene.tick(20)
    assert bus.inhibitors() == [("sleep:idle", "Upright Bolt", "A search for the edge of the voltage is in progress")]
    scene.session.plug(charger=False)
    scene.tick(20)
    until(lambda: not bus.inhibitors())
    scene.session.plug(charger=True)
    scene.tick(20)
    assert len(bus.inhibitors()) == 1
    scene.session.close()
    until(lambda: not bus.inhibitors())


def test_a_test_in_whose_middle_the_machine_sleeps_counts_only_as_far_as_it_had_come(tmp_path):
    scene = SearchScene(tmp_path)
    active = start_search(scene.session, scene.ask(soak_s=0.0), [], scene.log, scene.twin.store)
    twin = scene.session.machine.clock._twin
    slept = 0
    while slept < 3:
        scene.tick(1)
        run, rung = scene.session.run, active.search.rungs[-1] if active.search.rungs else None
        worked_s = run.progress().elapsed_s if run is not None else 0.0
        if worked_s < 5.0 or not rung.position or rung.number in active.search.ends:
            continue
        slept += 1
        Outside(twin).sleep(7200.0)
        assert twin.state.offsets_mv[0] == 0.0
        while rung.number not in active.search.ends:
            scene.tick(1)
        end = active.search.ends[rung.number]
        assert end.outcome is Outcome.STOPPED
        assert end.load_s <= worked_s + 1.0
        assert end.full_load_s <= worked_s + 1.0
    active.stop()
    while scene.session.working:
        scene.tick(1)
    found = scene.carry_on(scene.log.get(active.search.asked.id))
    assert found.end is not None


def test_without_a_login_manager_nothing_keeps_the_computer_awake_and_nothing_fails(bus, monkeypatch):
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", bus.address)
    awake = Awake("a test")
    assert not awake.held
    awake.release()


def test_a_search_that_goes_on_by_itself_begins_with_the_next_login_until_it_is_over(tmp_path):
    scene = SearchScene(tmp_path / "a folder", "twin:tern")
    entry = Autostart(("--data", 'a "folder" of 5 %', "window"), tmp_path / "autostart")
    scene.session.machine.autostart = entry
    active = start_search(
        scene.session, scene.ask(soak_s=0.0, after_freeze=AfterFreeze.GO_ON), [], scene.log, scene.twin.store
    )
    text = entry.path.read_text()
    assert text.startswith("[Desktop Entry]\n")
    assert r'''"a \\"folder\\" of 5 %%" "window"''' in text
    active.stop()
    assert not entry.path.exists()
    assert active.ended
    waits = start_search(scene.session, scene.log.open_search(), [], scene.log, scene.twin.store)
    assert waits.search.asked.after_freeze is AfterFreeze.GO_ON
    assert entry.path.exists()
    scene.twin.close()
    assert not entry.path.exists()


def test_a_soak_in_breaks_is_made_of_short_parts_at_the_lowest_priority(tmp_path):
    scene = SearchScene(tmp_path)
    found = scene.carry_on(scene.ask(soak_s=600.0, in_breaks=True))
    parts = [rung for rung in found.rungs if rung.purpose is Purpose.SOAK]
    assert [part.load_s for part in parts] == [120.0] * 5
    runs = {run.id: run for run in scene.twin.store.all()}
    assert all(runs[found.ends[part.number].run_id].head.options.polite for part in parts)
    assert found.end.why is Why.FOUND
    scene.twin.close()


# the command line


def told(result, code=0) -> dict:
    assert result.returncode == code, result.stderr
    return json.loads(result.stdout)


def test_the_command_searches_tells_and_remembers(bolt):
    first = told(bolt("edge", "--soak", "60s", "--json"))
    assert {
        "state",
        "rungs",
        "edge_mv",
        "slope_mv",
        "final",
        "proven",
        "predicted_failure_8h",
        "minutes",
        "freezes",
    } <= set(first)
    rung = {"settings", "outcome", "errors", "duration_s", "load", "score", "clock_mhz", "power_w", "temp_c"}
    assert all(rung <= set(one) for one in first["rungs"])
    assert first["edge_mv"]["low"] <= first["edge_mv"]["value"] <= first["edge_mv"]["high"] < 0.0
    assert 0.0 < first["predicted_failure_8h"]["value"] <= 0.01
    assert first["final"]["core-offset"] == first["final"]["cache-offset"] < 0.0
    assert told(bolt("edge", "status", "--json")) == first
    assert told(bolt("edge", "history", "--json")) == [first]
    words = bolt("edge", "status").stdout
    assert "without an error; not shown: a start from cool; predicted: fails in" in words
    assert "All is put back" in words
    assert "rung 3" in bolt("edge", "history", "1").stdout
    again = bolt("edge", "--soak", "0")
    assert again.returncode == 0, again.stderr
    assert len(again.stdout.splitlines()) < 2 * len(first["rungs"]), "what is known already is not asked again"


def test_what_failed_is_not_put_in_force_again_unasked_and_never_kept(bolt):
    found = told(bolt("edge", "--soak", "0", "--json"))
    worst = min(one["settings"]["core-offset"] for one in found["rungs"] if one["errors"])
    beyond = [f"{name}={worst - 1:.0f}mV" for name in BOTH]
    refused = bolt("set", *beyond)
    assert refused.returncode == 2
    assert "gave wrong results here" in refused.stderr
    assert "--allow-known-bad" in refused.stderr
    assert "No trial is running" in bolt("status").stdout
    tried = [part for one in beyond for part in ("--with", one)]
    assert bolt("run", "steady", "--duration", "10s", *tried).returncode == 2
    ladder = f"core-offset,cache-offset={worst + 5:.0f}mV..{worst - 5:.0f}mV/10mV"
    assert "No run was made" in bolt("sweep", ladder, "--duration", "10s").stderr
    assert bolt("set", *beyond, "--allow-known-bad").returncode == 0
    assert "not kept" in bolt("keep").stderr
    assert bolt("put-back").returncode == 0
    assert bolt("set", *beyond, "--allow-known-bad", "--keep").returncode == 2
    assert bolt("set", "core-offset=-20mV", "cache-offset=-20mV").returncode == 0
    assert bolt("keep").returncode == 0


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["--axis", "ram"], "core,cache"),
        (["--bold", "brave"], "careful"),
        (["--fails", "50%"], "0.01% to 20%"),
        (["--plain", "-80mV"], "1 mV to 50 mV"),
        (["--soak", "48h"], "24h"),
        (["--after-freeze", "pray"], "go-on"),
        (["--reach", "-300mV"], "1 mV to 100 mV"),
        (["--resume"], "no search"),
    ],
)
def test_what_is_no_search_is_said_in_a_sentence(bolt, words, said):
    result = bolt("edge", *words)
    assert result.returncode in (1, 2)
    assert said in result.stderr
    assert len(result.stderr.strip().splitlines()) == 1


def test_no_rung_lies_further_beyond_what_passed_than_asked(bolt):
    found = told(bolt("edge", "--reach", "-15mV", "--soak", "0", "--json"))
    passed = 0.0
    for rung in found["rungs"]:
        position = -rung["settings"].get("core-offset", 0.0)
        assert position <= passed + 15.0
        passed = max(passed, position) if rung["outcome"] == "passed" else passed
    assert passed > 40.0
    assert "never more than 15 mV beyond what has passed" in bolt("edge", "--reach", "-15mV", "--soak", "0").stdout


def test_on_this_computer_one_sentence_says_why_and_nothing_is_written(bolt, tmp_path):
    result = bolt("edge", on="host")
    assert result.returncode == 1
    assert len(result.stderr.strip().splitlines()) == 1
    assert not list(tmp_path.rglob("searches"))


def frozen_by_command(bolt, *more):
    for machine in NEAR_FREEZING:
        result = bolt("edge", "--plain", "-10mV", "--soak", "0", *more, on=machine)
        if "froze" in result.stderr:
            return machine, result
    raise AssertionError("none of them froze")


def test_after_a_freeze_the_command_waits_to_be_resumed(bolt):
    machine, waits = frozen_by_command(bolt)
    assert waits.returncode == 1
    assert "edge --resume" in waits.stdout
    assert "Next: " in waits.stdout
    assert "Still expected: about" in waits.stdout
    resumed = bolt("edge", "--resume", "--json", on=machine)
    assert "This machine froze and restarted in rung" in resumed.stderr
    assert "Nothing of it is in force" in resumed.stderr
    found = json.loads(resumed.stdout)
    assert found["freezes"] == 1
    assert found["state"] == "found"
    assert "the machine froze" in [one["outcome"] for one in found["rungs"]]


def test_after_a_freeze_the_command_goes_on_if_asked(bolt):
    machine, went_on = frozen_by_command(bolt, "--after-freeze", "go-on")
    assert "found, after" in went_on.stdout
    assert "1 freeze" in went_on.stdout
    assert told(bolt("edge", "status", "--json", on=machine))["state"] == "found"


def test_the_estimate_of_the_edge_is_told_test_by_test(tmp_path):
    scene = SearchScene(tmp_path)
    found = scene.carry_on(scene.ask(soak_s=0.0), stop_at=8)
    course = Course(found, [])
    steps = course.interval_history(BOTH)
    tests = [rung for rung in found.rungs if rung.purpose is Purpose.TEST]
    assert [step.after.position for step in steps[1:]] == [rung.position for rung in tests]
    assert steps[0].after is None
    assert steps[0].edge == Course(replace(found, rungs=(), ends={}), []).outlook().edge
    assert steps[-1].edge == course.outlook().edge
    for before, step in pairwise(steps):
        assert not step.after.passed or step.edge.low >= before.edge.low, "what passes pushes the edge away"
    picture = picture_of(course)
    assert picture.interval_history == tuple(steps)
    assert picture.narrowed_of == "core and cache"
    scene.twin.close()


def test_a_search_of_before_a_firmware_update_is_ended_and_its_passes_are_history(tmp_path):
    scene = SearchScene(tmp_path)
    board = board_of(scene.session.about.identity)
    old = scene.carry_on(scene.ask(plain_step=20.0, soak_s=0.0, board=f"{board} before"), stop_at=5)
    assert old.end is None
    with pytest.raises(Refused, match="firmware or microcode are not those the search began with"):
        begin_search(scene.session, scene.log, scene.twin.store, None)
    assert scene.log.get(old.asked.id).end.why is Why.CHIP_CHANGED
    asked = scene.ask(board=board).asked
    assert known(scene.twin.store.all(), scene.log.all(), "twin:tern", asked) == []
    same = replace(asked, board=f"{board} before")
    assert known(scene.twin.store.all(), scene.log.all(), "twin:tern", same)
    scene.twin.close()
