"""The root service on a bus of its own, with a stand-in for polkit: what it tells, sets, refuses and puts back."""

import json
import math
import os
import pwd
import subprocess
import sys
import time
import xml.etree.ElementTree as ET
from contextlib import contextmanager
from pathlib import Path

import pytest
from sdbus.sd_bus_internals import SdBusUnmappedMessageError

from bus_support import BUS_NAME, PATH, wait_for
from command_process import CommandProcess, run_command
from support import SimulatedSession
from upright_bolt.errors import BadInput, Denied, InUse, Refused
from upright_bolt.kernel.clock import RealClock
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.ports import RealFiles
from upright_bolt.model.event import ChangedByOthers
from upright_bolt.service.client import ServiceAbsent, ServiceAccess
from upright_bolt.service.verbs import MOST_SETTINGS
from upright_bolt.session.machine import Machine
from upright_bolt.session.session import Session
from upright_bolt.store.runs import RunStore
from waiting import until, within

SET = ["org.upright-bolt.watch", "org.upright-bolt.set"]
VOLTAGE = ["org.upright-bolt.set-voltage"]
ME = pwd.getpwuid(os.getuid()).pw_name


@pytest.fixture
def service(bus):
    bus.start_polkit()
    return bus.start_service()


@contextmanager
def client():
    access = ServiceAccess()
    try:
        yield access
    finally:
        access.close()


def in_force(access, name):
    return access.controls()[name].current


def raw(bus, member, form="", *data):
    return bus.call(BUS_NAME, PATH, BUS_NAME, member, form, *data)


def test_through_the_service_a_machine_is_the_same_as_directly(service, tmp_path):
    on_tern = SimulatedSession(tmp_path / "other")
    with client() as access:
        assert access.about == on_tern.session.about
        assert access.controls() == on_tern.session.controls()
        assert access.current_values() == on_tern.session.current_values()
        assert access.status() == on_tern.session.status()
        sample = access.sample()
        assert len(sample.values) == len(access.about.sensors)
        assert sample.values[access.about.index["temperature.package"]] == pytest.approx(30.0, abs=15.0)
        time.sleep(0.5)
        later = access.sample()
        assert later.time_s - sample.time_s == pytest.approx(0.5, abs=0.3)
        assert later.values[access.about.index["busy.mean"]] is not None
    on_tern.close()


def test_many_clients_that_poll_get_one_sample(service):
    with client() as one, client() as two:
        assert one.sample() == two.sample()


def test_a_trial_is_tried_kept_and_put_back(service):
    with client() as access:
        report = access.try_settings({"sustained": 25.0, "turbo": "off"}, standing=False)
        assert report.ok
        assert [(row.name, row.got) for row in report.rows] == [("sustained", 25.0), ("turbo", "off")]
        trial = access.status().trial
        assert trial is not None
        assert trial.by.startswith(f"{ME} (uid {os.getuid()}, process ")
        assert access.revert("").before_values == {"sustained": 18.0, "turbo": "on"}
        assert in_force(access, "sustained") == 18.0
        access.try_settings({"sustained": 30.0}, standing=False)
        assert access.keep().settings == {"sustained": 30.0}
        assert access.status().trial is None
        assert access.status().kept == {"sustained": 30.0}
    assert "asked for sustained 25 W, turbo off; got sustained 25.0, turbo off; in force" in service.log
    assert "kept sustained 30 W" in service.log


def test_the_machine_s_own_values_come_back_through_the_service(bus, service):
    with client() as access:
        bus.allow(SET, VOLTAGE)
        access.try_settings({"sustained": 25.0, "epp": 64.0}, standing=False)
        access.keep()
        access.try_settings({"turbo": "off"}, standing=False)
        done = access.reset_to_stock(["epp"])
        assert done.before_values == {"epp": 128.0}
        assert (in_force(access, "turbo"), in_force(access, "sustained")) == ("on", 25.0)
        assert access.status().kept == {"sustained": 25.0}
        bus.allow(["org.upright-bolt.watch"])
        with pytest.raises(Denied):
            access.reset_to_stock()
        assert in_force(access, "sustained") == 25.0
        bus.allow(SET, VOLTAGE)
        assert access.reset_to_stock().before_values["sustained"] == 18.0
        with pytest.raises(BadInput, match="own value is in force"):
            access.reset_to_stock(["window"])


def test_a_client_that_closes_puts_its_trial_back(service):
    with client() as access:
        access.try_settings({"sustained": 25.0}, standing=False)
    with client() as access:
        assert in_force(access, "sustained") == 18.0
        assert access.status().trial is None


def test_a_client_that_dies_has_its_trial_put_back_after_a_grace(service):
    dying = ServiceAccess()
    dying.try_settings({"sustained": 25.0}, standing=False)
    dying._leave()
    with client() as access:
        assert in_force(access, "sustained") == 25.0
        wait_for(lambda: access.status().trial is None)
        assert in_force(access, "sustained") == 18.0
    assert "left with a trial running" in service.log
    assert f"put back sustained 18 W, since {ME}" in service.log


def test_one_clients_trial_is_not_anothers(service):
    with client() as one, client() as two:
        one.try_settings({"sustained": 25.0}, standing=False)
        for act in (two.keep, lambda: two.try_settings({"sustained": 30.0}, standing=False)):
            with pytest.raises(Denied, match=rf"A trial of {ME} .* is running since .*: sustained 25 W"):
                act()
        assert in_force(two, "sustained") == 25.0
        assert one.keep().settings == {"sustained": 25.0}


def test_a_standing_trial_outlives_its_client_and_the_service(bus, service):
    with client() as access:
        access.try_settings({"sustained": 25.0}, standing=True)
    assert service.end() == 0
    again = bus.start_service()
    with client() as access:
        assert in_force(access, "sustained") == 25.0
        assert access.revert("").before_values == {"sustained": 18.0}
    assert again.end() == 0


def test_a_service_that_ends_puts_a_clients_trial_back(bus, service):
    with client() as access:
        access.try_settings({"sustained": 25.0}, standing=False)
        assert service.end() == 0
        again = bus.start_service()
        assert access.controls()["sustained"].current == 18.0
        access.revert = lambda _why: None  # what it would put back on closing has been put back
    assert again.end() == 0


def test_a_killed_service_is_put_right_by_the_next(bus, service):
    access = ServiceAccess()
    access.try_settings({"sustained": 25.0}, standing=False)
    service.kill()
    next_one = bus.start_service()
    assert "outlived its program, so what was in force before it was put back" in next_one.log
    assert in_force(access, "sustained") == 18.0
    with pytest.raises(BadInput, match="No trial is running"):
        access.revert("")
    access._trying = False
    access.close()


@pytest.mark.parametrize(
    ("asked", "why"),
    [
        ({"sustained": ("d", 900.0)}, None),
        ({"sustained": ("d", 0.0)}, None),
        ({"sustained": ("d", math.nan)}, "is not a number"),
        ({"sustained": ("d", math.inf)}, "is not a number"),
        ({"sustained": ("s", "25W")}, "is not a number"),
        ({"sustained": ("i", 25)}, "not of the form “i”"),
        ({"sustained": ("as", ["25"])}, "not of the form “as”"),
        ({"core-offset": ("d", 50.0)}, None),
        ({"core-offset": ("d", -900.0)}, None),
        ({"turbo": ("s", "perhaps")}, "neither on nor off"),
        ({"turbo": ("d", 1.0)}, "is not a word"),
        ({"governor": ("s", "../../etc/passwd")}, None),
        ({"governor": ("s", "x" * 5000)}, "is not a word"),
        ({"/etc/shadow": ("s", "x")}, "There is no control"),
        ({f"c{i}": ("d", 1.0) for i in range(MOST_SETTINGS + 1)}, f"{MOST_SETTINGS + 1} settings were given"),
        ({}, "nothing to try"),
    ],
)
def test_what_makes_no_sense_is_refused_and_nothing_written(bus, service, asked, why):
    with client() as access:
        before = access.current_values()
        try:
            (answer,) = (raw(bus, "Apply", "a{sv}bb", asked, False, False),)
        except SdBusUnmappedMessageError as fault:
            name, said = fault.args
            assert name in ("org.upright_bolt.Error.BadInput", "org.upright_bolt.Error.NotFound")
            assert why is not None
            assert why in said
        else:
            assert why is None
            assert all(not row["ok"] for row in json.loads(answer)["rows"])
        assert access.current_values() == before
        assert access.status().trial is None


def test_without_the_right_to_set_nothing_is_written(bus, service):
    bus.allow(["org.upright-bolt.watch"])
    with client() as access:
        with pytest.raises(Denied, match=r"You may not change settings .* Nothing was changed"):
            access.try_settings({"sustained": 25.0}, standing=False)
        assert in_force(access, "sustained") == 18.0
        bus.allow(SET)
        assert access.try_settings({"sustained": 25.0}, standing=False).ok
        with pytest.raises(Denied, match="You may not change voltages"):
            access.try_settings({"core-offset": -50.0}, standing=False)
        assert in_force(access, "core-offset") == 0.0
        bus.allow(["org.upright-bolt.watch"])
        with pytest.raises(Denied):
            access.keep()
        access.revert("")  # the way back needs no right to set
        assert in_force(access, "sustained") == 18.0


def test_without_the_right_to_watch_nothing_is_told(bus, service):
    bus.allow([])
    with pytest.raises(Denied, match="You may not read this machine"):
        ServiceAccess()


def test_polkit_that_hangs_or_is_missing_means_no(bus):
    bus.start_service()
    with pytest.raises(Denied, match="does not answer here"):
        ServiceAccess()
    bus.start_polkit()
    bus.hang_polkit(hangs=True)
    begun = time.monotonic()
    with pytest.raises((Denied, Refused), match="in time"):
        ServiceAccess()
    assert time.monotonic() - begun < within(8.0)


def test_the_bus_describes_every_method_with_the_names_of_its_arguments(bus, service):
    text = bus.call(BUS_NAME, PATH, "org.freedesktop.DBus.Introspectable", "Introspect")
    assert bus.call(BUS_NAME, PATH, "org.freedesktop.DBus.Peer", "Ping") is None
    (ours,) = [i for i in ET.fromstring(text).iter("interface") if i.get("name") == BUS_NAME]
    methods = {method.get("name"): [arg.get("name") for arg in method] for method in ours.iter("method")}
    assert methods["Apply"] == ["settings", "standing", "may_ask", "report"]
    assert methods["BeginSeries"] == ["names", "may_ask"]
    assert all(all(names) for names in methods.values())
    documented = (Path(__file__).parents[1] / "docs/service.md").read_text()
    for name in (*methods, *(signal.get("name") for signal in ours.iter("signal"))):
        assert f"`{name}`" in documented


def test_a_question_once_answered_covers_the_same_risk_for_a_series(bus, service):
    with client() as access:
        bus.allow(SET, VOLTAGE)
        bus.person("accepts")
        access.begin_series(["core-offset"])
        bus.person("dismisses")  # whoever is asked again
        for offset in (-10.0, -20.0):
            assert access.try_settings({"core-offset": offset}, standing=False).ok
            access.revert("next")
        bus.allow(["org.upright-bolt.watch"], [*VOLTAGE, "org.upright-bolt.set"])
        assert access.try_settings({"sustained": 25.0}, standing=False).ok  # less risk than was granted
        access.revert("next")
        access.end_series()
        with pytest.raises(Denied):
            access.try_settings({"core-offset": -10.0}, standing=False)


def test_a_series_of_everyday_controls_does_not_cover_voltages(bus, service):
    bus.allow(SET)
    with client() as access:
        access.begin_series(["sustained", "epp"])
        assert access.try_settings({"sustained": 25.0}, standing=False).ok
        with pytest.raises(Denied, match="voltages"):
            access.try_settings({"core-offset": -10.0}, standing=False)
        access.revert("done")
        with pytest.raises(Denied, match="voltages"):
            access.begin_series(["core-offset"])
        with pytest.raises(BadInput, match="no control “core-ofset”"):
            access.begin_series(["core-ofset"])


def test_a_series_ends_with_its_caller_and_with_changed_rules(bus, service):
    with client() as first:
        first.begin_series(["sustained"])
    bus.allow(["org.upright-bolt.watch"])
    with client() as second, pytest.raises(Denied):
        second.try_settings({"sustained": 25.0}, standing=False)


def test_what_others_do_is_heard_and_not_taken_for_the_firmware(bus, service, data):
    script = "import sys; from upright_bolt.cli import run; sys.exit(run(sys.argv[1:]))"
    with client() as access:
        session = Session(Machine(MachinePorts("host", RealFiles(Path("/")), None, RealClock()), "x"), access)
        session.tick()
        done = subprocess.run(
            [sys.executable, "-c", script, "set", "sustained=25W"],
            env=bus.environment,
            check=False,
            capture_output=True,
        )
        assert done.returncode == 0, done.stderr
        heard = []
        until(lambda: heard.extend(session.tick().events) or heard)
        assert [type(event) for event in heard] == [ChangedByOthers]
        assert (heard[0].what, "process" in heard[0].who) == ("tried", True)


def test_without_service_or_bus_it_says_so(bus, monkeypatch):
    with pytest.raises(ServiceAbsent, match="not installed"):
        ServiceAccess()
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path=/nonexistent")
    with pytest.raises(ServiceAbsent, match="cannot be reached"):
        ServiceAccess()


def test_it_ends_when_idle_but_not_while_it_holds_a_trial(bus):
    bus.start_polkit()
    service = bus.start_service("--idle", "1s")
    with client() as access:
        access.try_settings({"sustained": 25.0}, standing=True)
        time.sleep(2.5)
        assert service.process.poll() is None
        access.revert("")
    assert service.process.wait(6.0) == 0
    assert "ending" in service.log


def test_there_is_one_service_at_a_time(bus, service):
    second = bus.start_service()
    assert second.process.wait(10) == 1
    assert "is taken: another service is running" in second.log
    with client() as access:
        assert access.controls()["sustained"].settable


def test_a_machine_held_by_another_program_is_told_and_taken_once_free(bus):
    bus.start_polkit()
    state = bus.folder / "state"
    held = SimulatedSession(state)
    service = bus.start_service()
    with client() as access:
        with pytest.raises(Exception, match="run by root holds this machine"):
            access.try_settings({"sustained": 25.0}, standing=False)
        held.close()
        assert access.try_settings({"sustained": 25.0}, standing=False).ok
    assert service.process.poll() is None


def test_the_command_line_goes_through_the_service(bus, service, tmp_path):
    def bolt(*words):
        command = [sys.executable, "-m", "upright_bolt", "--data", str(tmp_path / "mine"), *words]
        return subprocess.run(command, capture_output=True, text=True, env=bus.environment, check=False, timeout=60)

    machine = json.loads(bolt("machine", "--json").stdout)
    assert machine["machine"]["name"] == "tern"
    assert bolt("set", "sustained=25W").returncode == 0
    status = json.loads(bolt("status", "--json").stdout)
    assert status["trial"]["settings"] == {"sustained": 25.0}
    assert bolt("keep").stdout.startswith("Kept: sustained 25 W.")
    assert bolt("sample").returncode == 0
    bus.allow(["org.upright-bolt.watch"])
    denied = bolt("set", "turbo=off")
    assert denied.returncode == 1
    assert denied.stderr.startswith("You may not change settings of this machine: ")


def test_through_the_service_there_is_one_run_at_a_time_too(bus, service, tmp_path):
    """Two programs with data folders of their own, which share nothing but the machine."""
    out = tmp_path / "out"
    out.touch()
    words = ["run", "watch", "--duration", "10min"]
    first = CommandProcess(["--data", str(tmp_path / "one"), *words], out, out, bus.environment)
    try:
        until(lambda: runs_kept(tmp_path / "one"), what="the first run to begin")
        second = run_command(["--data", str(tmp_path / "two"), *words], within(60), bus.environment)
        assert second.returncode == 1
        assert f"A run of {ME} (uid {os.getuid()}, process {first.pid}) is going on since" in second.stderr
    finally:
        first.kill()
        first.wait()
    with client() as access:
        until(lambda: not refused_run(access), what="the dead program's run to be over")


def runs_kept(data) -> int:
    """Count the runs of a data folder, which a run joins once it has the machine; asking the service would take it."""
    if not (data / "runs.sqlite").exists():
        return 0
    store = RunStore(data / "runs.sqlite")
    try:
        return len(store.all())
    finally:
        store.close()


def refused_run(access) -> bool:
    try:
        access.begin_run("mine")
    except InUse:
        return True
    access.end_run()
    return False


def test_a_look_at_this_computer_through_the_service(bus, tmp_path):
    bus.start_polkit()
    bus.start_service(on="host")
    with client() as access:
        assert access.about.topology.cpus
        assert set(access.controls()) >= {"sustained", "turbo", "core-offset"}
        first, second = access.sample(), time.sleep(0.6) or access.sample()
        assert second.time_s > first.time_s
        assert second.values[access.about.index["busy.mean"]] is not None
