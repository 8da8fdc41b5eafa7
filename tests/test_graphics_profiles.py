"""Profiles that set a graphics chip: they wait for it to wake, and never wake it."""

import pytest

from profile_support import Desk
from upright_bolt.model.hold import Cause, LogKind
from upright_bolt.model.profile import Profile
from upright_bolt.profiles.text import text_of
from upright_bolt.simulator.graphics_state import GraphicsDemand

LIMIT = "gpu03.power-limit"


@pytest.fixture
def desk(tmp_path):
    made = Desk(tmp_path / "d", rules="")
    made.profiles.save("chart table", text_of(Profile("chart table", {"sustained": 20.0, LIMIT: 30.0})))
    yield made
    made.close()


def chip_of(desk):
    return desk.twin.physics.graphics.chips[1]


def used(desk):
    """Return how often a profile was put in force."""
    return sum(entry.kind is LogKind.USED for entry in desk.profiles.log())


def work(desk, demand):
    chip_of(desk).work(demand, desk.twin.state.time_s)


def test_a_profile_waits_for_a_sleeping_chip_and_is_put_in_force_once_it_wakes(desk):
    desk.profiles.set_hold(on=True)
    desk.profiles.use("chart table")
    desk.wait(30.0)
    assert desk.values()["sustained"] == 20.0
    (held,) = desk.status.held_back
    assert (held.name, held.why) == (LIMIT, "waits until gpu03 wakes")
    assert chip_of(desk).state.limit_w == 48.0
    work(desk, GraphicsDemand())
    desk.wait(3.0)
    assert chip_of(desk).state.limit_w == 30.0
    assert desk.status.held_back == ()
    assert desk.profiles.log()[-1].cause is Cause.CHIP_AWAKE
    assert chip_of(desk).state.woken == 0


def test_what_was_set_before_a_chip_slept_is_no_change_and_no_reason_to_wake_it(desk):
    desk.profiles.set_hold(on=True)
    work(desk, GraphicsDemand())
    desk.profiles.use("chart table")
    desk.wait(2.0)
    assert chip_of(desk).state.limit_w == 30.0
    work(desk, None)
    before = used(desk)
    desk.wait(600.0)
    assert chip_of(desk).state.asleep
    assert chip_of(desk).state.woken == 0
    assert desk.status.held_back == ()
    assert desk.engine.drift() == ()
    assert used(desk) == before
    work(desk, GraphicsDemand())
    desk.wait(60.0)
    assert chip_of(desk).state.limit_w == 30.0
    assert used(desk) == before


def test_what_a_profile_leaves_is_put_back_to_a_sleeping_chip_once_it_wakes(desk):
    desk.profiles.set_hold(on=True)
    work(desk, GraphicsDemand())
    desk.profiles.use("chart table")
    desk.wait(2.0)
    work(desk, None)
    desk.wait(60.0)
    assert chip_of(desk).state.asleep
    desk.profiles.use("stock")
    desk.wait(30.0)
    assert desk.values()["sustained"] == 18.0
    assert chip_of(desk).state.limit_w == 30.0
    assert chip_of(desk).state.woken == 0
    work(desk, GraphicsDemand())
    desk.wait(5.0)
    assert chip_of(desk).state.limit_w == 48.0


def test_an_hour_of_rules_and_hold_on_battery_wakes_nothing(desk):
    desk.profiles.set_hold(on=True)
    desk.profiles.use("chart table")
    desk.outside.plug(charger=False)
    desk.wait(3600.0)
    assert chip_of(desk).state.asleep
    assert chip_of(desk).state.woken == 0


def test_profiles_carry_settings_of_chips_in_their_files(desk):
    text = desk.profiles.files.found().profiles["chart table"]
    assert text.settings[LIMIT] == 30.0
    assert '"gpu03.power_limit_w" = 30.0' in text_of(text)
