"""What has failed on a chip: how it is compared, kept, merged, cleared and told."""

import os
import socket
from contextlib import suppress
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from profile_support import Desk, proof
from search_support import BOTH, SearchScene
from test_hold_storms import Storm
from upright_bolt.analysis.stability.course import Course
from upright_bolt.analysis.stability.history import Seen
from upright_bolt.analysis.validation.known_failures import failures_in, near_failure
from upright_bolt.errors import BadInput, BoltError, Refused
from upright_bolt.model.failure import Failure, FailureKind, comes_near, merged, reaches
from upright_bolt.model.profile import Profile
from upright_bolt.model.search import Asked, Outcome, Purpose, Rung, RungEnd, RungError, Search, SearchEnd, Why
from upright_bolt.presentation.searches import begin_search
from upright_bolt.profiles.text import profile_of, text_of
from upright_bolt.service.callers import Caller
from upright_bolt.settings.failure_log import MOST, FailureLog
from upright_bolt.text.search import result

CALLER = Caller(":1.7", uid=1000, pid=4711)
OFFSETS = st.floats(-200.0, -0.5)


def failed(how=FailureKind.WRONG, **values):
    return Failure({name.replace("_", "-"): value for name, value in values.items()}, how)


@pytest.fixture
def desk(tmp_path):
    made = Desk(tmp_path / "twin-tern", rules="")
    yield made
    made.close()


# comparing


def test_what_is_read_back_a_step_away_is_the_same_failure():
    read_back = failed(core_offset=-105.47)
    assert reaches({"core-offset": -105.0}, read_back)
    assert reaches({"core-offset": -104.6}, read_back)
    assert not reaches({"core-offset": -104.0}, read_back)
    assert comes_near({"core-offset": -103.6}, read_back), "two steps are the least that nobody knows of"
    assert not comes_near({"core-offset": -103.0}, read_back)
    assert not reaches({"core-offset": -120.0, "cache-offset": -10.0}, failed(core_offset=-80.0, cache_offset=-80.0))


def test_a_search_s_own_uncertainty_counts_but_never_reaches_what_it_recommends():
    asked = Asked(1, BOTH, "2026-04-09", "a chip", machine="twin:tern")
    test = Rung(1, 100.0, dict.fromkeys(BOTH, -100.0), 60.0, 1, spread_after=12.0)
    ends = {1: RungEnd(1, Outcome.WRONG, 1.0, 1.0)}
    known = failures_in([], [Search(asked, (test,), ends)], "twin:tern", "a chip")
    assert near_failure(known, dict.fromkeys(BOTH, -89.0), {}) is not None
    assert near_failure(known, dict.fromkeys(BOTH, -87.0), {}) is None
    ended = Search(asked, (test,), ends, SearchEnd(Why.FOUND, dict.fromkeys(BOTH, -94.0)))
    known = failures_in([], [ended], "twin:tern", "a chip")
    assert near_failure(known, dict.fromkeys(BOTH, -94.0), {}) is None


FOUND = st.builds(lambda core, cache: failed(core_offset=core, cache_offset=cache), OFFSETS, OFFSETS)


@given(st.lists(FOUND, max_size=40), OFFSETS, OFFSETS)
def test_merging_forgives_nothing(found, core, cache):
    known: tuple[Failure, ...] = ()
    for one in found:
        known = merged(known, one, 5)
    assert len(known) <= 5
    asked = {"core-offset": core, "cache-offset": cache}
    if any(reaches(asked, one) for one in found):
        assert any(reaches(asked, one) for one in known)


def test_a_hundred_milder_reports_do_not_evict_a_failure(tmp_path):
    log = FailureLog(tmp_path, "a chip", "boot", lambda: "2026-04-09T08:00:00+00:00")
    log.add({"core-offset": -80.0}, FailureKind.WRONG, "a run")
    for number in range(3 * MOST):
        log.add({"core-offset": -80.0 - number, "cache-offset": -1.0 * number}, FailureKind.WRONG, "somebody")
        log.add({"cache-offset": -200.0 + number / 10.0, "gpu-offset": -20.0 - number}, FailureKind.WRONG, "somebody")
    assert len(log.failures) <= MOST
    assert any(reaches({"core-offset": -80.0}, one) for one in log.failures)
    assert not any(reaches({"core-offset": -70.0, "cache-offset": -70.0}, one) for one in log.failures)


def test_another_processor_has_failures_of_its_own_and_the_first_one_s_stay(tmp_path):
    for chip, offset in (("one", -80.0), ("another", -60.0)):
        log = FailureLog(tmp_path, chip, "boot", lambda: "")
        assert log.failures == ()
        log.add({"core-offset": offset}, FailureKind.WRONG, "")
    log = FailureLog(tmp_path, "another", "boot", lambda: "")
    log.clear("an administrator")
    assert log.failures == ()
    assert [one.values for one in FailureLog(tmp_path, "one", "boot", lambda: "").failures] == [{"core-offset": -80.0}]


@pytest.mark.parametrize("copies", [("failures",), ("failures-copy",), ("failures", "failures-copy")])
def test_one_copy_is_enough_and_without_both_nothing_risky_is_applied(desk, copies):
    desk.profiles.use("quay")
    desk.profiles.report_failure("a test")
    desk.kill()
    for name in copies:
        (desk.folder / name).write_text("rubbish")
    desk.open()
    desk.profiles.use("quay")
    assert desk.values()["core-offset"] == 0.0
    assert desk.values()["sustained"] == 28.0
    assert desk.status.failures_lost == (len(copies) == 2)
    assert {name for name in copies if (desk.folder / f"{name}.damaged-1").exists()} == set(copies)
    if len(copies) == 2:
        assert "unknown what has failed" in desk.status.suspects
        desk.profiles.clear_failures("an administrator")
        desk.profiles.use("quay")
        assert round(desk.values()["core-offset"]) == -80


# how it becomes known


@pytest.mark.parametrize("requested", [-79.2, -80.0])
def test_a_profile_whose_value_is_rounded_beyond_it_is_withheld(desk, requested):
    """The mailbox keeps 1/1024 V: −80 mV is −80.08 there, and −80.08 is what fails."""
    settings = {"core-offset": requested, "cache-offset": requested, "sustained": 20.0}
    proofs = {name: proof(desk.chip, requested) for name in BOTH}
    desk.profiles.save("rounded", text_of(Profile("rounded", settings, proofs)))
    desk.profiles.use("rounded")
    assert desk.values()["core-offset"] < -79.0
    desk.profiles.report_failure("a test")
    desk.wait(1.0)
    assert desk.values()["core-offset"] == 0.0
    desk.profiles.use("rounded")
    assert desk.values()["core-offset"] == 0.0
    assert {one.name for one in desk.status.held_back} == set(BOTH)
    assert desk.values()["sustained"] == 20.0


def test_the_first_wrong_result_withdraws_while_the_run_goes_on(desk):
    desk.profiles.use("quay")
    desk.shared.begin_run(CALLER, "steady", may_set=True)
    desk.shared.change_profiles(CALLER, "ReportFailure")
    assert desk.values()["core-offset"] == 0.0
    desk.wait(5.0)
    assert desk.values()["sustained"] == 28.0, "only what has failed is withdrawn"


@pytest.mark.parametrize(
    ("workload", "blamed"), [("steady", {"core-offset"}), ("graphics", {"core-offset", "gpu03.voltage-offset"})]
)
def test_a_gpu_that_had_no_part_in_the_work_is_not_blamed_beside_the_processor(desk, workload, blamed):
    desk.twin.physics.graphics.chips[1].touch(desk.ports.clock.now_s())
    desk.shared.apply(CALLER, {"core-offset": -40.0}, standing=True)
    assert desk.shared.apply(CALLER, {"gpu03.voltage-offset": -30.0}, standing=True).ok
    desk.shared.begin_run(CALLER, workload, may_set=True)
    desk.shared.change_profiles(CALLER, "ReportFailure")
    (failure,) = desk.status.failures
    assert failure.values.keys() == blamed


def test_a_session_reports_the_first_error_and_not_the_end(on_tern):
    reported = []
    on_tern.session.try_settings(dict.fromkeys(BOTH, -170.0), standing=False)
    profiles = on_tern.session.access.profiles
    original = profiles.report_failure
    profiles.report_failure = lambda: (reported.append(on_tern.session.run.stage), original())
    with suppress(BoltError):  # it may freeze as well
        on_tern.run(60)
    assert len(reported) <= 1
    assert on_tern.session.access.profiles.status().failures or not reported


@pytest.mark.parametrize("before", ["a run", "a trial"])
@pytest.mark.parametrize("orderly", [False, True])
def test_what_the_machine_went_down_with_has_failed_unless_it_was_shut_down_in_order(desk, before, orderly):
    desk.profiles.set_boot(on=True)
    desk.profiles.use("quay")
    desk.wait(400.0)
    if before == "a run":
        desk.shared.begin_run(CALLER, "steady", may_set=True)
    else:
        desk.shared.apply(CALLER, dict.fromkeys(BOTH, -70.0), standing=True)
    if orderly:
        desk.restart()
    else:
        desk.cut_power()
        desk.open()
    desk.wait(5.0)
    assert bool(desk.status.failures) != orderly
    assert round(desk.values()["core-offset"]) == (-80 if orderly else 0)
    desk.profiles.use("quay")
    assert round(desk.values()["core-offset"]) == (-80 if orderly else 0), "choosing a profile forgives nothing"


def test_a_service_that_ends_in_order_says_nothing_of_the_machine_s_end(desk):
    desk.profiles.set_boot(on=True)
    desk.profiles.use("quay")
    desk.wait(10.0)
    desk.close()
    desk.twin.physics.restart()
    desk.twin.save()
    desk.open()
    desk.wait(10.0)
    assert desk.values()["core-offset"] == 0.0
    assert "uncleanly" in desk.status.suspects


def test_turning_enforcement_off_before_a_crash_and_on_after_it_does_not_forgive(desk):
    desk.profiles.use("quay")
    desk.wait(10.0)
    desk.profiles.set_hold(on=False)
    desk.cut_power()
    desk.open()
    desk.profiles.set_hold(on=True)
    desk.wait(10.0)
    assert desk.values()["core-offset"] == 0.0
    assert "uncleanly" in desk.status.suspects


def test_a_request_that_fails_lifts_no_suspicion(desk, monkeypatch):
    desk.profiles.use("quay")
    desk.wait(10.0)
    desk.cut_power()
    desk.open()
    record = desk.profiles.record

    def full(_new):
        raise BoltError("the disk is full")

    with monkeypatch.context() as patched:
        patched.setattr(record._document, "save", full)
        with pytest.raises(BoltError, match="the disk is full"):
            desk.profiles.use("quay")
    assert desk.status.suspects
    desk.wait(40.0)
    assert desk.values()["core-offset"] == 0.0


def test_reverting_a_trial_does_not_bring_back_what_has_failed_since(desk):
    seen = []
    desk.profiles.use("quay")
    desk.shared.apply(CALLER, dict.fromkeys(BOTH, -60.0), standing=True)
    changed = desk.twin.physics.settings_changed
    desk.twin.physics.settings_changed = lambda: (seen.append(desk.twin.state.offsets_mv[0]), changed())
    desk.shared.change_profiles(CALLER, "ReportFailure")
    desk.wait(5.0)
    assert desk.values()["core-offset"] == 0.0
    assert min(seen) > -61.0


def test_a_damaged_record_of_what_was_applied_means_stock_and_suspicion(desk):
    desk.profiles.use("quay")
    desk.wait(400.0)
    path = desk.folder / "in-force"
    desk.kill()
    path.write_bytes(path.read_bytes().replace(b"quay", b"quaz"))
    desk.open()
    desk.wait(40.0)
    assert (desk.values()["core-offset"], desk.values()["sustained"]) == (0.0, 18.0)
    assert "damaged" in desk.status.suspects
    assert (desk.folder / "in-force.damaged-1").exists()
    desk.profiles.use("quay")
    assert round(desk.values()["core-offset"]) == -80


def test_the_boot_word_applies_nothing_whatever_is_on_record(desk):
    desk.profiles.set_boot(on=True)
    desk.profiles.use("quay")
    desk.wait(400.0)
    for word, off in (("quiet upright-bolt=off", True), ("upright-bolt=offline notupright-bolt=off", False)):
        desk.shared.note_shutdown()
        desk.close()
        desk.twin.physics.restart()
        desk.twin.save()
        desk.open()
        desk.twin.files._get["/proc/cmdline"] = lambda word=word: word
        desk.wait(40.0)
        assert (desk.values()["core-offset"] == 0.0) == off
        for request in (lambda: desk.profiles.use("quay"), lambda: desk.profiles.set_hold(on=True)):
            if off:
                with pytest.raises(BadInput, match="upright-bolt=off"):
                    request()


def test_sleeping_gpus_sleep_through_a_storm(tmp_path):
    import random

    desk = Desk(tmp_path / "twin-tern")
    chip = desk.twin.physics.graphics.chips[1]
    for name in ("quay", "at sea", "night watch"):
        profile = desk.profiles.files.found().profiles[name]
        desk.profiles.save(name, text_of(profile.changed({"gpu03.power-limit": 30.0})))
    desk.profiles.set_boot(on=True)
    desk.profiles.set_hold(on=True)
    storm = Storm(desk, random.Random(7))
    for _ in range(25):
        storm.one()
    assert chip.state.asleep
    assert chip.state.woken == 0
    desk.close()


# searches


def test_a_search_that_is_refused_has_never_begun(tmp_path):
    scene = SearchScene(tmp_path)
    scene.session.try_settings({"sustained": 15.0}, standing=False)
    with pytest.raises(BadInput, match="trial is running"):
        begin_search(scene.session, scene.log, scene.twin.store, Asked(0, BOTH, "2026-04-09T08:00:00+00:00", ""))
    assert scene.log.all() == []
    scene.session.revert()
    active = begin_search(scene.session, scene.log, scene.twin.store, Asked(0, BOTH, "2026-04-09T08:00:00+00:00", ""))
    with pytest.raises(BadInput):
        begin_search(scene.session, scene.log, scene.twin.store, Asked(0, BOTH, "2026-04-09T08:00:00+00:00", ""))
    assert len(scene.log.all()) == 1, "two at once are one"
    active.stop()
    scene.twin.close()


def test_the_record_of_another_sample_recommends_nothing_and_cannot_go_on(tmp_path):
    other = SearchScene(tmp_path / "other", "twin:tern#1234")
    other.carry_on(other.ask(soak_s=0.0), stop_at=5)
    other.twin.close()
    scene = SearchScene(tmp_path / "mine")
    scene.folder.mkdir(parents=True, exist_ok=True)
    for path in other.folder.glob("searches*"):
        (scene.folder / path.name).write_bytes(path.read_bytes())
    (found,) = scene.log.all()
    assert found.end.why is Why.CHIP_CHANGED
    assert not Course(found, []).recommended
    assert scene.log.open_search() is None
    scene.twin.close()


def test_the_forecast_is_that_of_the_value_shown_and_later_errors_change_what_is_shown():
    asked = Asked(1, BOTH, "2026-04-09", "a chip", machine="twin:tern")
    baseline = Rung(1, 0.0, dict.fromkeys(BOTH, 0.0), 48.0, 1, Purpose.BASELINE)
    tests = [Rung(n, p, dict.fromkeys(BOTH, -p), 180.0, 4) for n, p in ((2, 40.0), (3, 60.0), (4, 75.0))]
    ends = {1: RungEnd(1, Outcome.PASSED, 48.0, 38.0, score=100.0)}
    ends |= {n: RungEnd(n, Outcome.PASSED, 180.0, 144.0, score=101.0) for n in (2, 3)}
    ends[4] = RungEnd(4, Outcome.WRONG, 4.0, 3.2, errors=(RungError(4.0, 1, "vector"),))
    going = Search(asked, (baseline, *tests), ends)
    kept = Course(going, []).final
    ended = replace(going, end=SearchEnd(Why.FOUND, dict(kept)))
    course = Course(ended, [])
    assert course.recommended == kept
    assert course.predicted == course.outlook().predicted
    assert "assumed" in result(course, {}), "one error shows no slope"
    position = -float(kept["core-offset"])
    deeper = Course(replace(going, end=SearchEnd(Why.FOUND, dict.fromkeys(BOTH, -position - 6.0))), [])
    assert deeper._predicted_with(dict.fromkeys(BOTH, -position - 6.0)).value > course.predicted.value
    later = [Seen(dict.fromkeys(BOTH, position), 600.0, errors=2)]
    now = Course(ended, later)
    assert now.is_withdrawn
    assert now.recommended != kept
    assert "speak against that" in result(now, {})


def test_positions_within_two_steps_of_a_failure_are_not_kept():
    course = Course(Search(Asked(1, BOTH, "2026-04-09", "a chip", machine="twin:tern"), (), {}), [])
    failed = Seen(dict.fromkeys(BOTH, 60.0), 4.0, errors=1)
    assert course._reaches(dict.fromkeys(BOTH, 58.0), failed)
    assert not course._reaches(dict.fromkeys(BOTH, 57.0), failed)


def test_status_tells_of_a_freeze_before_anything_goes_on(bolt, data):
    scene = SearchScene(data)
    search = scene.ask(plain_step=20.0, soak_s=0.0)
    rung = Rung(1, 60.0, dict.fromkeys(BOTH, -60.0), 60.0, 1, boot_id="an earlier boot")
    scene.log.open_rung(search, rung)
    scene.twin.close()
    said = bolt("edge", "status").stdout
    assert "1 freeze so far" in said


# what people bring


def test_a_note_or_number_that_no_client_could_read_is_refused_by_name(desk):
    text = text_of(Profile("odd", {"epp": 192.0}, note="calm"))
    with pytest.raises(BadInput, match=r"no profile can|control characters"):
        profile_of("odd", text.replace("calm", "\\u001b[2J"))
    with pytest.raises(BadInput):
        profile_of("odd", text.replace("192.0", "1e300"))
    (desk.folder / "profiles" / "odd.toml").write_text(text.replace("calm", "\\u001b[2J"))
    assert "odd.toml" in desk.status.broken
    assert {view.profile.name for view in desk.status.profiles} == {"quay", "at sea", "night watch"}


@pytest.mark.parametrize("name", ["profiles/x.toml", "rules.txt"])
def test_a_folder_in_place_of_a_file_is_named_and_the_rest_works(desk, name):
    (desk.folder / name).mkdir()
    desk.profiles.use("at sea")
    assert desk.values()["sustained"] == 20.0
    status = desk.status
    assert "not a regular file" in (status.rules_broken or status.broken["x.toml"])


@pytest.mark.parametrize("line", ["a.b.c.d.e.f.x{}=1", "x{} = 1", "[[z]]", "a" + ".a" * 60 + " = {}"])
def test_hostile_toml_is_refused_with_few_words(line):
    """One of these took a reader of TOML three minutes."""
    head = 'format = "upright-bolt profile"\nversion = 1\n[settings]\nsustained_w = 20.0\n'
    text = head + "".join(f"{line.format(number)}\n" for number in range(500))
    with pytest.raises(BadInput) as caught:
        profile_of("x", text[: 12 << 10].rpartition("\n")[0] + "\n")
    assert len(str(caught.value)) < 3000


def test_a_changed_evidence_validates_nothing(desk):
    text = text_of(desk.profiles.files.found().profiles["quay"])
    for before, after in (("value = -80.0", "value = -90.0"), ("load_s = 5400.0", "load_s = 5500.0")):
        with pytest.raises(BadInput, match="has changed since this program wrote it"):
            profile_of("quay", text.replace(before, after, 1))
    by_hand = "\n".join(line for line in text.splitlines() if not line.startswith("check =")) + "\n"
    assert profile_of("quay", by_hand).proofs == {}


ARGUMENTS = {
    "a profile": ("profile", "import", "{}"),
    "rules": ("rules", "set", "{}"),
    "runs": ("runs", "import", "{}"),
    "frame times": ("runs", "note", "1", "--frame-times", "{}"),
    "a table to write": ("runs", "export", "1", "--csv", "{}"),
    "a report to write": ("runs", "export", "1", "--html", "{}"),
    "a capture to write": ("capture", "{}"),
}


@pytest.mark.parametrize("kind", [*ARGUMENTS, "a machine"])
def test_a_pipe_a_device_or_a_socket_named_as_a_file_is_refused_at_once(bolt, tmp_path, kind):
    bolt("run", "steady", "--duration", "5s")
    pipe = tmp_path / "pipe"
    os.mkfifo(pipe)
    (tmp_path / "folder").mkdir()
    with socket.socket(socket.AF_UNIX) as listening:
        listening.bind(str(tmp_path / "socket"))
        paths = [pipe, tmp_path / "socket", *([] if "write" in kind else ["/dev/zero", tmp_path / "folder"])]
        for path in paths:
            if kind == "a machine":
                done = bolt("machine", on=f"tree:{path}", timeout=60.0) if path != tmp_path / "folder" else None
            else:
                done = bolt(*(word.format(path) for word in ARGUMENTS[kind]), timeout=60.0)
            if done is not None:
                assert done.returncode in (1, 2), (path, done.stdout)
                assert str(path) in done.stderr
                assert "Traceback" not in done.stderr


def test_one_rule_for_a_data_folder_that_others_can_write(bolt, data):
    data.mkdir(mode=0o1777)
    data.chmod(0o1777)
    for words in (("set", "sustained=15W"), ("run", "steady", "--duration", "5s"), ("runs",), ("profile", "list")):
        done = bolt(*words)
        assert done.returncode == 1, words
        assert "can be changed by everybody" in done.stderr, words


def test_a_firmware_attribute_goes_no_further_than_the_firmware_declares(bolt, tmp_path):
    base = tmp_path / "copy/sys/class/firmware-attributes/quayboard/attributes"
    for name, now, low, high in (("ppt_pl1_spl", 45, 5, 60), ("ppt_pl2_sppt", 65, 5, 65)):
        (base / name).mkdir(parents=True)
        for file, number in (("current_value", now), ("min_value", low), ("max_value", high), ("default_value", now)):
            (base / name / file).write_text(f"{number}\n")
    refused = bolt("set", "sustained=64W", on=f"tree:{tmp_path / 'copy'}")
    assert refused.returncode == 2
    assert "5 W to 60 W" in refused.stderr or "5.0 W to 60.0 W" in refused.stderr


# the command


def test_failures_are_listed_and_cleared_and_close_ones_are_kept_only_with_the_word(bolt):
    assert "Nothing is on record" in bolt("failures").stdout
    assert bolt("set", "core-offset=-170mV", "cache-offset=-170mV").returncode == 0
    bolt("run", "steady", "--duration", "60s")
    listed = bolt("failures")
    assert "core-offset −169.9 mV" in listed.stdout
    bolt("put-back")
    close = ("core-offset=-168.5mV", "cache-offset=-168.5mV")
    refused = bolt("set", *close)
    assert refused.returncode == 2
    assert "--allow-known-bad" in refused.stderr
    assert bolt("set", *close, "--allow-known-bad").returncode == 0
    assert "keeps it anyway" in bolt("keep").stderr
    assert bolt("keep", "--allow-known-bad").returncode == 0
    bolt("stock")
    assert bolt("failures", "--clear").stdout == "Nothing is on record as failed on this chip.\n"
    assert bolt("set", *close).returncode == 0


def test_a_trial_that_has_failed_is_not_kept(desk):
    desk.profiles.save_rules("")
    desk.profiles.use("stock")
    caller = Caller(":1.7", uid=1000, pid=4711)
    assert desk.shared.apply(caller, {"core-offset": -95.0, "cache-offset": -20.0}, standing=False).ok
    desk.shared.change_profiles(caller, "ReportFailure")
    with pytest.raises(Refused, match=r"Nothing was kept: core-offset −94.7 mV, cache-offset −19.5 mV gave wrong"):
        desk.shared.keep(caller)
    desk.shared.revert(caller)
    assert desk.shared.apply(caller, {"core-offset": -60.0, "cache-offset": -20.0}, standing=False).ok
    assert desk.shared.keep(caller).settings["core-offset"] == -60.0


def test_on_the_way_from_one_pair_of_offsets_to_another_neither_is_deeper_than_at_both_ends(desk):
    desk.profiles.save_rules("")
    desk.profiles.use("stock")
    caller, seen, changed = Caller(":1.7", uid=1000, pid=4711), [], desk.twin.physics.settings_changed
    desk.twin.physics.settings_changed = lambda: (seen.append(tuple(desk.twin.state.offsets_mv[:3:2])), changed())
    pairs = [(-20.0, -95.0), (-80.0, -20.0), (-20.0, -95.0)]
    for core, cache in pairs:
        assert desk.shared.apply(caller, {"core-offset": core, "cache-offset": cache}, standing=False).ok
    desk.shared.keep(caller)
    assert desk.shared.apply(caller, {"core-offset": -80.0, "cache-offset": -20.0}, standing=False).ok
    desk.shared.revert(caller)
    assert desk.shared.apply(caller, {"core-offset": -80.0, "cache-offset": -20.0}, standing=False).ok
    desk.shared.revert(caller)
    assert {tuple(round(value, -1) for value in pair) for pair in seen} >= {(-20.0, -90.0), (-80.0, -20.0)}
    assert not [pair for pair in seen if pair[0] < -70.0 and pair[1] < -70.0]
