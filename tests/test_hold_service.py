"""Profiles kept in force by the real service on a real bus, while things happen to a twin from outside."""

import subprocess
import sys
import time
from contextlib import closing

import pytest

from bus_support import PrivateBus
from profile_support import PREFERENCE, RULES, sample_profiles
from support import write_tree
from upright_bolt.analysis.chip import chip_on_board
from upright_bolt.errors import BadInput, BoltError, Denied
from upright_bolt.kernel.changes.writers import Writers
from upright_bolt.model.control import ControlState
from upright_bolt.model.hold import Cause, LogKind
from upright_bolt.model.profile import Profile
from upright_bolt.profiles.text import text_of
from upright_bolt.service.client import ServiceAccess
from upright_bolt.simulator.machine import open_simulated
from upright_bolt.simulator.outside import tell
from waiting import until

PROFILES = "org.upright-bolt.manage-profiles"
ALL = ["org.upright-bolt.watch", "org.upright-bolt.set", "org.upright-bolt.set-voltage", PROFILES]


class Served:
    """The service with profiles of a twin, a client, and the world outside."""

    def __init__(self, bus: PrivateBus) -> None:
        self.bus = bus
        bus.start_polkit(ALL)
        self.service = bus.start_service()
        self.client = ServiceAccess()
        self.profiles = self.client.profiles
        chip = chip_on_board(self.client.about.identity)
        for name, profile in sample_profiles(chip).items():
            self.profiles.save(name, text_of(profile))
        self.profiles.save_rules(RULES)

    def outside(self, *words: str | float) -> None:
        tell(self.bus.folder / "state/machines/twin-tern", *words)

    def value(self, name: str):
        return self.client.current_values()[name]

    def kinds(self) -> list[LogKind]:
        return [entry.kind for entry in self.profiles.log()]

    def wait_for(self, condition, what: str) -> float:
        """Return after how many seconds it was so."""
        began = time.monotonic()
        until(condition, what=what)
        return time.monotonic() - began


@pytest.fixture
def served(bus):
    made = Served(bus)
    with closing(made.client):
        yield made


def test_a_charger_that_is_pulled_changes_the_profile_and_the_firmware_s_own_reset_is_undone(served):
    served.profiles.set_hold(on=True)
    served.wait_for(lambda: served.value("sustained") == 28.0, "quay in force")
    served.outside("plug", "out")
    served.wait_for(lambda: served.profiles.status().active == "night watch", "night watch in force")
    served.wait_for(lambda: LogKind.RESET in served.kinds(), "the firmware's reset seen")
    reset = served.profiles.log()[-1]
    assert (reset.control, reset.got, reset.expected, reset.cause) == ("sustained", 12.0, 10.0, Cause.FIRMWARE)
    assert served.value("sustained") == 10.0
    assert served.value("turbo") == "off"
    assert "The firmware, or something unseen, set sustained to 12 W; 10 W was put back." in served.service.log


def test_the_vendor_s_mode_key_chooses_the_profile(served):
    served.profiles.set_hold(on=True)
    served.outside("mode", "quiet")
    served.wait_for(lambda: served.profiles.status().active == "at sea", "at sea in force")
    served.wait_for(lambda: LogKind.RESET in served.kinds(), "the firmware's reset seen")
    assert served.value("sustained") == 20.0


def test_what_sleep_has_lost_is_put_back_on_waking(served):
    served.profiles.set_hold(on=True)
    served.wait_for(lambda: round(served.value("core-offset")) == -80, "quay in force")
    served.outside("sleep", 600.0)
    served.wait_for(lambda: served.profiles.log()[-1].cause is Cause.WAKE, "awake")
    assert round(served.value("core-offset")) == -80
    assert served.value("sustained") == 28.0


def test_a_program_that_writes_again_and_again_is_named_resisted_and_left_alone(served):
    served.profiles.use("at sea")
    for _ in range(400):
        served.outside("write", PREFERENCE, "64", "energy-tool (process 4711)")
        if served.profiles.status().resting:
            break
        time.sleep(0.25)
    (resting,) = served.profiles.status().resting
    assert (resting.control, resting.who) == ("epp", "energy-tool (process 4711)")
    assert served.kinds().count(LogKind.RESET) == 5
    assert "energy-tool (process 4711) sets epp again and again; it is left at 64 instead of 192." in served.service.log
    served.profiles.set_hold(on=True)
    served.wait_for(lambda: served.value("epp") == 192.0, "hold begins again")


def test_a_killed_service_goes_on_where_it_was(served, bus):
    served.profiles.use("at sea")
    served.client.close()
    served.service.process.kill()
    served.service.process.wait()
    bus.start_service()
    with closing(ServiceAccess()) as client:
        until(lambda: client.profiles.status().active == "at sea", what="at sea again")
        assert client.current_values()["sustained"] == 20.0
        assert [entry.kind for entry in client.profiles.log()] == [LogKind.USED]


def test_a_power_cut_while_a_profile_settles_keeps_its_voltages_out_until_a_person_chooses(served, bus):
    served.profiles.set_boot(on=True)
    served.profiles.set_hold(on=True)
    served.wait_for(lambda: round(served.value("core-offset")) == -80, "quay in force")
    served.outside("restart")
    served.service.process.wait()
    served.client.close()
    bus.start_service()
    with closing(ServiceAccess()) as client:
        until(lambda: client.profiles.status().active == "quay", what="quay again")
        status = client.profiles.status()
        assert client.current_values()["sustained"] == 28.0
        assert client.current_values()["core-offset"] == 0.0
        assert {one.name for one in status.held_back} == {"core-offset", "cache-offset"}
        assert "went down uncleanly with the profile quay" in status.suspects
        client.profiles.use("quay")
        assert round(float(client.current_values()["core-offset"])) == -80
        assert client.profiles.status().suspects == ""


def test_without_the_right_nothing_is_changed(bus):
    bus.start_polkit(["org.upright-bolt.watch", "org.upright-bolt.set"])
    bus.start_service()
    with closing(ServiceAccess()) as client:
        with pytest.raises(Denied, match="manage profiles for the whole machine"):
            client.profiles.save_rules("Otherwise, use stock.\n")
        with pytest.raises(Denied):
            client.profiles.set_boot(on=True)
        assert client.profiles.status().rules == ()
        client.profiles.use("stock")
        assert client.profiles.status().active == "stock"


def test_what_the_service_cannot_write_is_said_as_it_is(bus):
    bus.start_polkit(ALL)
    bus.start_service()
    with closing(ServiceAccess()) as client:
        client.profiles.save("at sea", text_of(Profile("at sea", {"sustained": 20.0})))
        (file,) = bus.folder.rglob("at sea.toml")
        for each in file.parent.iterdir():
            each.unlink()
        file.parent.rmdir()
        file.parent.write_text("in the way")
        with pytest.raises(BoltError) as refused:
            client.profiles.save("at sea", text_of(Profile("at sea", {"sustained": 21.0})))
    assert "could not be asked" not in str(refused.value)
    assert str(file.parent) in str(refused.value)


def test_a_trial_wins_and_the_rule_that_counts_afterwards_is_used(served):
    served.profiles.set_hold(on=True)
    served.wait_for(lambda: served.value("sustained") == 28.0, "quay in force")
    served.client.try_settings({"sustained": 31.0}, standing=False)
    served.outside("plug", "out")
    with pytest.raises(BadInput, match="A trial is running"):
        served.profiles.use("at sea")
    assert served.profiles.status().active == "quay"
    served.client.revert("enough")
    served.wait_for(lambda: served.value("turbo") == "off", "night watch in force")


OVERWRITER = """
import sys, time
for _ in range(120):
    with open(sys.argv[1], "r+") as file:  # at once and whole, as a kernel file takes it
        file.write(f"{sys.argv[2]:<30}\\n")
    time.sleep(1.0)
"""
LIMIT = "/sys/class/powercap/intel-rapl:0/constraint_0_power_limit_uw"


@pytest.mark.parametrize(
    ("path", "text", "control", "value"),
    [(PREFERENCE, "performance", "epp", 192.0), (LIMIT, "15000000", "sustained", 20.0)],
)
def test_on_real_files_another_program_is_named_by_the_kernel_resisted_and_left_alone(
    bus, tmp_path, path, text, control, value
):
    root = write_tree(open_simulated("tern", None), tmp_path / "copy")
    bus.start_polkit(ALL)
    service = bus.start_service(on=f"tree:{root}")
    file = root / path.lstrip("/")
    if not Writers().known:
        pytest.skip("the kernel lets only root ask who writes a file (fanotify)")
    with closing(ServiceAccess()) as client:
        client.profiles.save("at sea", text_of(Profile("at sea", {control: value})))
        client.profiles.use("at sea")
        assert client.current_values()[control] == value
        meddler = subprocess.Popen([sys.executable, "-c", OVERWRITER, str(file), text])
        try:
            until(lambda: client.profiles.status().resting, what="the hold rests")
        finally:
            meddler.kill()
            meddler.wait()
        (resting,) = client.profiles.status().resting
        assert f"process {meddler.pid}" in resting.who
        resets = [entry for entry in client.profiles.log() if entry.kind is LogKind.RESET]
        assert len(resets) == 5
        assert {entry.cause for entry in resets} == {Cause.PROGRAM}
        assert "python" in resets[0].who
        assert "again and again" in service.log


def test_the_login_manager_s_word_of_waking_has_everything_looked_at_at_once(bus, tmp_path):
    root = write_tree(open_simulated("tern", None), tmp_path / "copy")  # a copy tells nothing of sleep itself
    bus.start_polkit(ALL)
    bus.start_login_manager()
    bus.start_service(on=f"tree:{root}")
    with closing(ServiceAccess()) as client:
        client.profiles.save("at sea", text_of(Profile("at sea", {"epp": 192.0})))
        client.profiles.use("at sea")
        (root / PREFERENCE.lstrip("/")).write_text("128\n")
        manager = ("org.freedesktop.login1", "/org/freedesktop/login1", "org.freedesktop.DBus.Mock")
        for asleep in (True, False):
            bus.call(*manager, "EmitSignal", "sssav", "org.freedesktop.login1.Manager", "PrepareForSleep", "b",
                     [("b", asleep)])  # fmt: skip
        until(lambda: client.profiles.log()[-1].cause is Cause.WAKE, what="awake")
        assert client.current_values()["epp"] == 192.0


def test_a_stranger_s_word_of_sleep_is_not_believed(served):
    served.profiles.use("quay")
    before = len(served.profiles.log())
    connection = served.bus.connect()
    signal = connection.new_signal_message(
        "/org/freedesktop/login1", "org.freedesktop.login1.Manager", "PrepareForSleep"
    )
    signal.append_data("b", False)
    signal.send()
    connection.close()
    time.sleep(1.0)
    assert len(served.profiles.log()) == before


def test_a_sleeping_graphics_chip_is_left_asleep_by_the_service_and_its_clients(served):
    limit = "gpu03.power-limit"
    served.profiles.save("chart table", text_of(Profile("chart table", {"sustained": 20.0, limit: 30.0})))
    served.profiles.save_rules("When on battery, use chart table.\nOtherwise, use stock.\n")
    served.profiles.set_hold(on=True)
    served.outside("plug", "out")
    served.wait_for(lambda: served.value("sustained") == 20.0, "the profile in force but for the chip")
    ends = time.monotonic() + 10.0
    while time.monotonic() < ends:
        served.client.sample()
        assert served.client.controls()[limit].state is ControlState.ASLEEP
        assert [held.name for held in served.profiles.status().held_back] == [limit]
        served.client.status()
        time.sleep(0.2)
    served.service.end()
    twin = open_simulated("tern", served.bus.folder / "state/machines/twin-tern/twin.json")
    chip = twin.physics.graphics.chips[1]
    assert chip.state.asleep
    assert chip.state.woken == 0
