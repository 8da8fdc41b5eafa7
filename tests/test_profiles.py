"""Profiles and rules: their files, what is proven, what is held back, and the commands."""

import errno

import pytest
from hypothesis import given
from hypothesis import strategies as st

from profile_support import PREFERENCE, PROVEN_MV, Desk, proof, sample_profiles
from upright_bolt.errors import BadInput, FileFault
from upright_bolt.kernel import paths
from upright_bolt.model.catalogue import CATALOGUE
from upright_bolt.model.change import ENDED
from upright_bolt.model.control import Value
from upright_bolt.model.failure import Failure, FailureKind
from upright_bolt.model.hold import Cause, LogKind
from upright_bolt.model.profile import Profile, check_name
from upright_bolt.model.rule import Condition, Rule, Rules, Situation, When
from upright_bolt.profiles.folder import ProfileFolder
from upright_bolt.profiles.plan import Doubts, plan_for
from upright_bolt.profiles.text import key_of, name_of, profile_of, text_of
from upright_bolt.service.callers import Caller
from upright_bolt.text.enforcement import entry_words, standing_words, used_words
from upright_bolt.text.rules import parse_rules, rules_text, until
from upright_bolt.text.rules import why as rule_why

CHIP = "Example Q1, stepping 1, microcode 0x1"
EXAMPLE = Profile(
    "at sea",
    {"sustained": 25.0, "turbo": "on", "turbo-table": "4600,4500", "idle-off": "C6,C10", "core-offset": -80.0},
    {"core-offset": proof(CHIP)},
    "for the boat",
)


@pytest.fixture
def desk(tmp_path):
    made = Desk(tmp_path / "machine")
    yield made
    made.close()


# Files


def test_a_profile_comes_back_from_its_text():
    assert profile_of("at sea", text_of(EXAMPLE)) == EXAMPLE


def test_every_control_has_a_key_with_its_unit_and_comes_back_from_it():
    for name, declared in CATALOGUE.items():
        full = f"gpu1.{name}" if declared.of_part else name
        assert name_of(key_of(full)) == full
    assert key_of("sustained") == "sustained_w"
    assert key_of("heat-ceiling") == "heat_ceiling_c"


def test_a_person_s_comments_and_order_survive_an_edit():
    text = text_of(EXAMPLE).replace('turbo = "on"', 'turbo = "on"  # the chart plotter needs it')
    changed = text_of(EXAMPLE.changed({"sustained": 30.0}), "# mine\n" + text)
    assert changed.startswith("# mine\n")
    assert 'turbo = "on"  # the chart plotter needs it' in changed
    assert "sustained_w = 30.0" in changed
    assert profile_of("at sea", changed).settings["sustained"] == 30.0


def test_a_setting_that_is_changed_loses_what_spoke_for_it():
    assert EXAMPLE.changed({"core-offset": -90.0}).proofs == {}
    assert EXAMPLE.changed({"sustained": 30.0}).proofs == EXAMPLE.proofs


FAULTY = """format = "upright-bolt profile"
version = "one"
colour = 3
[settings]
sustained = 25
sustained_w = "many"
turbo = 5
core_offset_mv = 20.0
[proof.core_offset_mv]
value = "a"
chip = "b"
load_s = -1.0
"""


def test_every_fault_of_a_file_is_named_with_its_line():
    with pytest.raises(BadInput) as caught:
        profile_of("x", FAULTY)
    said = str(caught.value)
    for line, words in (
        (2, "version"), (3, "colour"), (5, "Did you mean sustained_w"), (6, "not a number"), (7, "Turbo"),
        (8, "would raise the voltage"), (10, "value"), (12, "load_s"),
    ):  # fmt: skip
        assert f"line {line}: " in said
        assert words in said.partition(f"line {line}: ")[2]


def test_a_newer_file_says_so():
    with pytest.raises(BadInput, match="newer version"):
        profile_of("x", 'format = "upright-bolt profile"\nversion = 2\n')


def test_a_file_cut_off_at_any_byte_never_sets_a_voltage_or_anything_that_was_not_there():
    """A cut at the end of a line leaves fewer settings, and no proofs: what is left is safe, all else is refused."""
    text = text_of(EXAMPLE)
    for length in range(len(text)):
        try:
            found = profile_of("at sea", text[:length])
        except BadInput as fault:
            assert str(fault)
            continue
        assert found.settings.items() <= EXAMPLE.settings.items()
        plan = plan_for(found, {}, Doubts(CHIP))
        assert plan.settings.get("core-offset", 0.0) in (0.0, -80.0)
        if "core-offset" in plan.settings:
            assert found.proofs == EXAMPLE.proofs or found.proofs["core-offset"].all_loads_s == 3600.0


@given(st.binary(max_size=400))
def test_whatever_a_file_holds_it_is_a_profile_or_a_sentence(data):
    try:
        profile_of("x", data.decode(errors="replace"))
    except BadInput as fault:
        assert str(fault).strip()


@pytest.mark.parametrize("name", ["", " ", "stock", "Stock", "../x", "a/b", ".x", "a" * 41, "a\nb", "-x"])
def test_a_name_that_cannot_be_one_is_refused(name):
    with pytest.raises(BadInput):
        check_name(name)


def test_a_file_edited_by_hand_is_noticed_and_a_broken_one_named_while_the_others_work(tmp_path):
    folder = ProfileFolder(tmp_path)
    for profile in sample_profiles(CHIP).values():
        folder.save(profile.name, text_of(profile))
    path = folder.profiles_path / "quay.toml"
    assert folder.found() is folder.found()
    path.write_text(path.read_text().replace("28.0", "29.0"))
    assert folder.found().profiles["quay"].settings["sustained"] == 29.0
    path.write_text("nonsense")
    found = folder.found()
    assert set(found.profiles) == {"at sea", "night watch"}
    assert "line 1" in found.broken["quay.toml"]


def test_a_link_or_a_file_that_others_can_write_is_left_out(tmp_path):
    folder = ProfileFolder(tmp_path)
    folder.save("quay", text_of(EXAMPLE))
    (folder.profiles_path / "linked.toml").symlink_to(folder.profiles_path / "quay.toml")
    (folder.profiles_path / "open.toml").write_text(text_of(EXAMPLE))
    (folder.profiles_path / "open.toml").chmod(0o666)
    found = folder.found()
    assert set(found.profiles) == {"quay"}
    assert "can be changed by everybody" in found.broken["open.toml"]
    assert "linked.toml" in found.broken


# What is proven


def planned(*, doubts=None, value=-80.0, **proofs):
    profile = Profile("p", {"sustained": 20.0, "core-offset": value}, proofs)
    plan = plan_for(profile, {}, doubts or Doubts(CHIP))
    return plan.settings, {one.name: one.why for one in plan.held_back}


@pytest.mark.parametrize(
    ("given_proof", "why"),
    [
        (None, "not proven"),
        (proof(CHIP, -75.0), "proven down to −75 mV only"),
        (proof("Example Q1, stepping 1, microcode 0x2"), "another chip or firmware: microcode 0x2"),
        (proof(CHIP, all_loads_s=60.0), "60 s of every kind of load have passed; 10 min are needed"),
    ],
)
def test_a_voltage_without_sound_proof_is_held_back_and_the_rest_applies(given_proof, why):
    settings, held = planned(**({"core-offset": given_proof} if given_proof else {}))
    assert settings == {"sustained": 20.0}
    assert why in held["core-offset"]


def test_a_proven_voltage_is_put_in_force_and_a_shallower_one_with_it():
    assert planned(**{"core-offset": proof(CHIP)})[0]["core-offset"] == -80.0
    assert planned(value=-60.0, **{"core-offset": proof(CHIP)})[0]["core-offset"] == -60.0


def failed(**values):
    return Failure(values, FailureKind.WRONG)


def test_what_has_failed_at_or_above_it_holds_it_back():
    doubts = Doubts(CHIP, [failed(**{"core-offset": -75.0})])
    assert (
        "gone wrong at core-offset −75 mV" in planned(doubts=doubts, **{"core-offset": proof(CHIP)})[1]["core-offset"]
    )
    assert planned(doubts=doubts, value=-60.0, **{"core-offset": proof(CHIP)})[1] == {}
    beside = Doubts(CHIP, [failed(**{"core-offset": -75.0, "cache-offset": -75.0})])
    assert planned(doubts=beside, **{"core-offset": proof(CHIP)})[1] == {}


# Rules


CONDITIONS = st.sampled_from([
    When(Condition.CHARGER), When(Condition.BATTERY), When(Condition.BATTERY_BELOW, "20"),
    When(Condition.PROGRAM, "seabed map"), When(Condition.PROGRAM, "use"), When(Condition.MODE, "quiet"),
    When(Condition.DEVICE, "dock1"),
])  # fmt: skip
PROFILES = st.sampled_from(["quay", "field use", "stock"])
RULE = st.builds(Rule, st.lists(CONDITIONS, min_size=1, max_size=3).map(tuple), PROFILES)


@given(st.lists(RULE, max_size=5))
def test_rules_come_back_from_their_sentences(rules):
    text = rules_text([*rules, Rule((), "at sea")])
    assert parse_rules(text).rules == (*rules, Rule((), "at sea"))


def test_a_fault_in_every_line_is_named_in_every_line():
    lines = [
        "When it rains, use quay", "Use quay", "When battery below 120 %, use quay", "When on charger use ../etc",
        "When program is running, use quay", "Otherwise on battery use quay", "When on charger and, use quay",
        "When use",
    ]  # fmt: skip
    with pytest.raises(BadInput) as caught:
        parse_rules("\n".join(lines))
    for number in range(1, len(lines) + 1):
        assert f"Line {number}: " in str(caught.value)


def test_the_first_rule_whose_conditions_hold_counts_and_the_others_say_why_not():
    rules = parse_rules(
        "When on battery and battery below 20 %, use night watch.\nWhen on battery, use at sea.\n"
        "When platform mode is quiet, use at sea.\nOtherwise, use quay."
    )
    stand = rules.stand(Situation("battery", 55.0, "quiet"))
    counting = rules.counting(Situation("battery", 55.0, "quiet"))
    assert [each.counts for each in stand] == [False, True, False, False]
    words = [rule_why(each, counting) for each in stand]
    assert "the battery holds more" in words[0]
    assert "counts now" in words[1]
    assert "stands before it" in words[2]
    assert rules.counting(Situation("charger")).profile == "quay"
    assert rules.counting(Situation("battery", 19.0)).profile == "night watch"
    assert until(rules).startswith("until the power source changes")


def test_what_a_machine_does_not_say_does_not_hold():
    rule = Rules((Rule((When(Condition.BATTERY_BELOW, "20"),), "quay"), Rule((When(Condition.BATTERY),), "quay")))
    assert rule.counting(Situation()) is None


def test_a_profile_that_is_not_there_cannot_be_named_by_a_rule(desk):
    with pytest.raises(BadInput, match="no profile “dock”"):
        desk.profiles.save_rules("Otherwise, use dock.\n")
    assert len(desk.status.rules) == 3


def test_a_rule_file_broken_by_hand_changes_nothing_and_is_named(desk):
    desk.profiles.set_hold(on=True)
    desk.wait(1.0)
    (desk.folder / "rules.txt").write_text("When it rains, use quay\n")
    desk.wait(40.0)
    assert desk.status.active == "quay"
    assert "Line 1" in desk.status.rules_broken


# In force


def test_what_a_profile_does_not_name_goes_to_the_machine_s_own_values(desk):
    desk.profiles.save_rules("")
    desk.profiles.use("night watch")
    assert desk.values()["turbo"] == "off"
    desk.profiles.use("quay")
    values = desk.values()
    assert (values["turbo"], values["sustained"]) == ("on", 28.0)
    desk.profiles.use("stock")
    assert desk.values()["sustained"] == 18.0
    assert desk.values()["core-offset"] == 0.0


def test_a_setting_that_the_machine_refuses_is_named_and_the_rest_is_in_force(desk):
    desk.profiles.save("odd", text_of(Profile("odd", {"sustained": 5000.0, "epp": 192.0, "gpu-offset": -20.0})))
    desk.profiles.use("odd")
    assert desk.values()["epp"] == 192.0
    held = {one.name: one.why for one in desk.status.held_back}
    assert "outside what this machine allows" in held["sustained"]
    assert held["gpu-offset"] == "not proven"
    assert desk.values()["sustained"] == 18.0


def test_what_is_chosen_by_hand_counts_until_another_rule_would(desk):
    desk.profiles.set_hold(on=True)
    desk.wait(1.0)
    desk.profiles.use("at sea")
    desk.wait(60.0)
    assert desk.status.active == "at sea"
    assert "until the power source changes" in desk.status.by_hand
    desk.outside.plug(charger=False)
    desk.wait(1.0)
    assert (desk.status.active, desk.status.by_hand) == ("night watch", "")
    desk.outside.plug(charger=True)
    desk.wait(1.0)
    assert desk.status.active == "quay"


def test_a_run_that_goes_wrong_takes_the_voltage_out_of_force(desk):
    desk.profiles.use("quay")
    assert round(desk.values()["core-offset"]) == -80
    desk.profiles.report_failure("a test")
    assert desk.values()["core-offset"] == 0.0, "at once, before anything else is seen to"
    desk.wait(1.0)
    assert desk.values()["core-offset"] == 0.0
    assert desk.values()["sustained"] == 28.0
    assert "gone wrong" in desk.status.held_back[0].why


def test_turned_off_nothing_is_put_back(desk):
    desk.profiles.use("at sea")
    desk.profiles.set_hold(on=False)
    desk.outside.plug(charger=False)
    desk.wait(60.0)
    assert desk.values()["sustained"] == 12.0
    assert desk.status.active == ""


# Boot


def test_after_a_start_the_rules_profile_is_put_in_force_only_if_that_is_wanted(desk):
    desk.profiles.set_hold(on=True)
    desk.wait(400.0)
    desk.restart()
    desk.wait(5.0)
    assert desk.status.active == ""
    desk.profiles.set_boot(on=True)
    desk.profiles.set_hold(on=True)
    desk.wait(400.0)
    desk.restart()
    desk.wait(5.0)
    assert desk.status.active == "quay"
    assert round(desk.values()["core-offset"]) == -80
    assert desk.profiles.log()[-1].cause in (Cause.BOOT, Cause.RULE)


def test_two_boots_that_end_uncleanly_leave_stock_until_a_person_chooses(desk):
    desk.profiles.set_boot(on=True)
    desk.profiles.set_hold(on=True)
    desk.wait(10.0)
    desk.cut_power()
    desk.open()
    desk.wait(10.0)
    assert desk.values()["core-offset"] == 0.0
    assert desk.values()["sustained"] == 28.0
    desk.cut_power()
    desk.open()
    desk.wait(10.0)
    assert desk.values()["sustained"] == 18.0
    assert "2 times in a row" in desk.status.held_back[0].why
    desk.profiles.use("quay")
    assert round(desk.values()["core-offset"]) == -80
    assert desk.status.suspects == ""


def test_a_profile_that_has_settled_is_not_suspected(desk):
    desk.profiles.set_boot(on=True)
    desk.profiles.set_hold(on=True)
    desk.wait(400.0)
    assert LogKind.SETTLED in [entry.kind for entry in desk.profiles.log()]
    desk.cut_power()
    desk.open()
    desk.wait(5.0)
    assert round(desk.values()["core-offset"]) == -80


def test_a_restart_in_order_within_five_minutes_is_not_suspected(desk):
    desk.profiles.set_boot(on=True)
    desk.profiles.set_hold(on=True)
    desk.wait(10.0)
    desk.restart()
    desk.wait(5.0)
    assert round(desk.values()["core-offset"]) == -80
    assert desk.deepest_mv >= PROVEN_MV - 1.0


def test_a_trial_that_took_the_machine_down_is_suspected(desk):
    desk.profiles.set_boot(on=True)
    desk.profiles.set_hold(on=True)
    desk.wait(400.0)
    desk.engine.try_settings({"core-offset": -120.0}, standing=False)
    desk.cut_power()
    desk.open()
    desk.wait(5.0)
    assert desk.values()["core-offset"] == 0.0
    assert "a trial (core-offset −120 mV)" in desk.status.suspects


def test_the_word_on_the_kernel_s_command_line_keeps_everything_out_of_force(desk):
    desk.profiles.set_boot(on=True)
    desk.profiles.set_hold(on=True)
    desk.close()
    desk.twin.physics.restart()
    desk.twin.save()
    desk.open()
    desk.twin.files._get["/proc/cmdline"] = lambda: "quiet upright-bolt=off"
    desk.wait(40.0)
    assert desk.values()["sustained"] == 18.0
    assert "upright-bolt=off" in desk.status.off
    assert desk.status.active == ""
    assert "upright-bolt=off" in standing_words(desk.status)
    with pytest.raises(BadInput, match="No profile is used"):
        desk.profiles.use("quay")


def test_a_profile_of_which_nothing_is_applied_is_not_said_to_be(desk):
    desk.profiles.save_rules("")
    desk.profiles.save("claims", text_of(Profile("claims", {"core-offset": -70.0})))
    desk.profiles.use("claims")
    assert standing_words(desk.status).endswith("but all of its settings are withheld.")
    assert standing_words(desk.status).startswith("Profile claims is active")
    assert used_words(desk.status) == "Profile claims is active, but all of its settings are withheld."
    desk.profiles.use("at sea")
    assert standing_words(desk.status) == "In force: profile at sea."


def test_a_power_cut_at_every_write_of_putting_a_profile_in_force_ends_well(tmp_path):
    """Cut before the first write to the machine, before the second, and so on, until there is none left."""
    for step in range(1, 60):
        desk = Desk(tmp_path / f"{step}")
        desk.profiles.set_boot(on=True)
        desk.profiles.set_hold(on=True)
        desk.wait(400.0)
        desk.restart()
        cut = cut_at(desk, step)
        if cut:
            desk.kill()
            desk.open()
            desk.wait(5.0)
            status = desk.status
            assert status.active == "quay"
            assert {one.name for one in status.held_back} == {"core-offset", "cache-offset"}
            assert desk.values()["core-offset"] == 0.0
            assert desk.values()["sustained"] == 28.0
        assert desk.deepest_mv >= PROVEN_MV - 1.0
        desk.close()
        if not cut:
            break
    assert step > 4, "a profile of four settings has been cut at four writes at least"


class PowerCut(BaseException):
    """The power fails."""


def cut_at(desk: Desk, step: int) -> bool:
    """Put in force what the start asks for, and let the power fail before write number ``step``; tell if it did."""
    left = step

    def counted(write):
        def counting(*arguments):
            nonlocal left
            left -= 1
            if left == 0:
                raise PowerCut
            return write(*arguments)

        return counting

    desk.twin.files.write = counted(desk.twin.files.write)
    desk.twin.registers.write = counted(desk.twin.registers.write)
    try:
        desk.wait(2.0)
    except PowerCut:
        desk.twin.physics.restart()
        return True
    return False


def test_a_platform_mode_and_limits_go_together_and_what_the_firmware_does_afterwards_is_undone(desk):
    desk.profiles.save_rules("")
    settings: dict[str, Value] = {"platform-mode": "performance", "sustained": 22.0, "burst": 33.0}
    desk.profiles.save("all out", text_of(Profile("all out", settings)))
    desk.profiles.use("all out")
    assert desk.status.held_back == ()
    desk.wait(5.0)
    values = desk.values()
    assert (values["platform-mode"], values["sustained"], values["burst"]) == ("performance", 22.0, 33.0)
    assert LogKind.RESET in [entry.kind for entry in desk.profiles.log()]


def test_a_processor_that_goes_and_comes_back_holds_what_the_profile_asks_for(desk):
    desk.profiles.save_rules("")
    desk.profiles.use("at sea")
    desk.outside.processor(3, online=False)
    desk.wait(5.0)
    assert desk.status.active == "at sea"
    assert desk.status.resting == ()
    assert desk.engine.drift() == ()
    desk.outside.processor(3, online=True)
    assert desk.twin.state.epp[3] == 128
    desk.wait(5.0)
    assert desk.twin.state.epp == [192] * 12
    reset = desk.profiles.log()[-1]
    assert (reset.kind, reset.control, reset.cause) == (LogKind.RESET, "epp", Cause.PROCESSORS)


def test_without_enforcement_a_processor_that_missed_a_setting_is_waited_for(desk):
    desk.outside.processor(3, online=False)
    assert desk.shared.apply(Caller(":1.7", uid=1000, pid=4711), {"epp": 192.0}, standing=True).ok
    desk.wait(0.1)
    assert desk.outside._watched
    assert desk.shared.holding
    desk.outside.processor(3, online=True)
    desk.wait(0.1)
    assert desk.twin.state.epp == [192] * 12
    assert not desk.outside._watched


def test_a_driver_that_is_loaded_anew_holds_what_the_profile_asks_for(desk):
    desk.profiles.save_rules("")
    desk.profiles.use("at sea")
    desk.wait(10.0)
    desk.outside.load_drivers_anew()
    assert desk.twin.state.epp == [128] * 12
    desk.wait(0.5)
    assert desk.twin.state.epp == [192] * 12
    reset = desk.profiles.log()[-1]
    assert (reset.kind, reset.control, reset.cause) == (LogKind.RESET, "epp", Cause.DRIVERS)
    assert entry_words(reset) == "A driver that was loaded anew set epp to 128; 192 was put back."


def test_controls_that_vanish_with_their_driver_wait_for_it_and_nobody_is_blamed(desk):
    desk.profiles.save_rules("")
    desk.profiles.use("at sea")
    desk.wait(10.0)
    read, gone = desk.twin.files.read, [True]

    def without_driver(path):
        if gone[0] and path.startswith(paths.CPUFREQ):
            raise FileFault(path, errno.ENOENT)
        return read(path)

    names = desk.twin.files.names
    desk.twin.files.read = without_driver
    desk.twin.files.names = lambda path: [] if gone[0] and path == paths.CPUFREQ else names(path)
    desk.wait(120.0)
    assert LogKind.RESET not in {entry.kind for entry in desk.profiles.log()}
    assert desk.engine.drift() == ()
    (held,) = desk.status.held_back
    assert (held.name, held.why) == (
        "epp",
        f"the kernel has no scaling driver for this processor ({paths.CPUFREQ} holds no policy)",
    )
    assert desk.status.applied.keys() == {"sustained", "core-offset", "cache-offset"}
    gone[0] = False
    desk.outside.load_drivers_anew()
    desk.wait(0.5)
    assert desk.twin.state.epp == [192] * 12
    assert desk.profiles.log()[-1].cause is Cause.DRIVERS


def test_what_is_left_alone_is_watched_no_longer_and_costs_no_look(desk, monkeypatch):
    desk.profiles.save_rules("")
    desk.profiles.use("at sea")
    for _ in range(60):
        desk.outside.write(PREFERENCE, "64", "energy-tool (process 4711)")
        desk.outside.write(PREFERENCE, "64", f"process 4712{ENDED}")
        desk.wait(1.0)
    (resting,) = desk.status.resting
    assert resting.who == "energy-tool (process 4711)"
    looks = []
    monkeypatch.setattr(desk.profiles.reconciler, "_look", lambda *_, **__: looks.append(desk.ports.clock.now_s()))
    for _ in range(600):
        desk.outside.write(PREFERENCE, "64", "energy-tool (process 4711)")
        desk.wait(0.05)
    assert len(looks) <= 1


def resets_of(desk, writes: int, every_s: float) -> int:
    """Return how often a setting is reset that another program writes so often, and so seldom."""
    desk.profiles.save_rules("")
    desk.profiles.use("at sea")
    desk.wait(10.0)
    for _ in range(writes):
        desk.outside.write(PREFERENCE, "64", "energy-tool (process 4711)")
        desk.wait(every_s)
    return sum(entry.kind is LogKind.RESET for entry in desk.profiles.log())


def test_each_reset_of_a_setting_waits_longer_than_the_one_before(desk):
    assert 2 <= resets_of(desk, 60, 0.2) <= 3  # at once, after 1 s and after 3 s more
    assert not desk.status.resting


def test_a_program_that_writes_seldom_is_resisted_for_good(desk):
    assert resets_of(desk, 8, 200.0) == 8
    assert not desk.status.resting


def test_a_program_that_writes_while_a_look_goes_on_is_named_all_the_same(desk, monkeypatch):
    desk.profiles.save_rules("")
    desk.profiles.use("at sea")
    desk.wait(10.0)
    look = desk.profiles.reconciler._look

    def written_meanwhile(now_s, **how):
        if not [entry for entry in desk.profiles.log() if entry.kind is LogKind.RESET]:
            desk.outside.write(PREFERENCE, "64", "energy-tool (process 4711)")
        look(now_s, **how)

    monkeypatch.setattr(desk.profiles.reconciler, "_look", written_meanwhile)
    desk.profiles.reconciler.look_soon()
    desk.wait(1.0)
    reset = desk.profiles.log()[-1]
    assert (reset.kind, reset.cause, reset.who) == (LogKind.RESET, Cause.PROGRAM, "energy-tool (process 4711)")
    assert "set epp to 64;" in entry_words(reset)


def test_a_writer_whose_value_cannot_be_read_at_once_is_named_when_it_can(desk):
    desk.profiles.save_rules("")
    desk.profiles.use("at sea")
    desk.wait(10.0)
    read, half = desk.twin.files.read, [True]
    desk.twin.files.read = lambda path: b"64\nwer" if half[0] and path == PREFERENCE else read(path)
    desk.outside.write(PREFERENCE, "64", "energy-tool (process 4711)")
    desk.wait(0.1)
    half[0] = False
    desk.wait(1.5)
    reset = desk.profiles.log()[-1]
    assert (reset.kind, reset.cause, reset.who) == (LogKind.RESET, Cause.PROGRAM, "energy-tool (process 4711)")


def counted_looks(desk, monkeypatch):
    """Return when the reconciler looks from now on, as a list that grows."""
    looks, look = [], desk.profiles.reconciler._look

    def counted(now_s, **how):
        looks.append(now_s)
        look(now_s, **how)

    monkeypatch.setattr(desk.profiles.reconciler, "_look", counted)
    return looks


def test_while_a_setting_waits_to_be_put_back_further_writes_cost_no_look(desk, monkeypatch):
    desk.profiles.save_rules("")
    desk.profiles.use("at sea")
    desk.wait(10.0)
    looks = counted_looks(desk, monkeypatch)
    for _ in range(100):  # five seconds: put back at once, and after one and three seconds more
        desk.outside.write(PREFERENCE, "64", "energy-tool (process 4711)")
        desk.wait(0.05)
    assert [entry.kind for entry in desk.profiles.log()].count(LogKind.RESET) == 3
    assert len(looks) <= 8


def test_a_program_that_writes_the_same_value_again_and_again_costs_few_looks(desk, monkeypatch):
    desk.profiles.save_rules("")
    desk.profiles.use("at sea")
    desk.wait(10.0)
    looks = counted_looks(desk, monkeypatch)
    for _ in range(600):  # thirty seconds
        desk.outside.write(PREFERENCE, "192", "energy-tool (process 4711)")
        desk.wait(0.05)
    assert len(looks) <= 12
    desk.outside.write(PREFERENCE, "64", "energy-tool (process 4711)")
    desk.wait(6.0)
    assert desk.twin.state.epp == [192] * 12
    desk.wait(60.0)
    desk.outside.write(PREFERENCE, "64", "energy-tool (process 4711)")
    desk.wait(0.1)
    assert desk.twin.state.epp == [192] * 12


def test_a_processor_that_goes_in_the_middle_of_an_apply_leaves_nothing_half_done(desk):
    desk.profiles.save_rules("")
    written, write = [], desk.twin.files.write

    def going(path, data):
        written.append(path)
        if path.endswith("policy7/energy_performance_preference") and not desk.twin.state.offline:
            desk.outside.processor(7, online=False)
        write(path, data)

    desk.twin.files.write = going
    desk.profiles.use("at sea")
    assert desk.twin.state.offline == [7]
    desk.wait(5.0)
    assert desk.engine.trial is None
    assert desk.values()["epp"] == 192.0
    assert desk.values()["sustained"] == 20.0
    assert {one.name for one in desk.status.held_back} == set()
    assert [desk.twin.state.epp[cpu] for cpu in range(12) if cpu != 7] == [192] * 11


def test_a_rule_about_a_program_that_was_edited_in_by_hand_counts_from_the_next_use(tmp_path):
    desk = Desk(tmp_path / "machine", rules="")
    desk.profiles.use("stock")
    desk.wait(10.0)
    desk.profiles.files.save_rules("When program seabed-map is running, use quay.\nOtherwise, use stock.\n")
    desk.profiles.use("stock")
    assert desk.profiles.reconcile() <= 3.0
