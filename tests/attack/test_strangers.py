"""What strangers on the machine can do: processes of another user, each beside a control that does the same as root."""

import os
import select
import stat
import subprocess
import time
from contextlib import closing
from pathlib import Path

import pytest

from profile_support import sample_profiles
from upright_bolt.errors import BadInput, Denied
from upright_bolt.kernel.changes.programs import DeskUsers, ProgramScan
from upright_bolt.kernel.changes.writers import Writers
from upright_bolt.kernel.ports import RealFiles
from upright_bolt.model.profile import Profile
from upright_bolt.profiles.folder import ProfileFolder
from upright_bolt.profiles.text import text_of
from upright_bolt.service.client import ServiceAccess
from upright_bolt.service.names import Action
from upright_bolt.simulator.outside import tell
from waiting import until

NOBODY = 65534
SET = [Action.WATCH.value, Action.SET.value]
ALL = [each.value for each in Action]
pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="other users' processes can be started by root alone")


def as_user(uid: int, code: str, *words: str) -> subprocess.Popen[str]:
    """Start Python as another user, or as root."""
    become = f"import os; os.setgid({uid}); os.setuid({uid})\n" if uid else ""
    return subprocess.Popen(
        ["/usr/bin/python3", "-c", become + code, *words], stdout=subprocess.PIPE, stdin=subprocess.PIPE, text=True,
        cwd="/",
    )  # fmt: skip


@pytest.fixture
def public(tmp_path_factory):
    """Return a folder that everybody can read, as kernel files are."""
    folder = tmp_path_factory.mktemp("public")
    for each in (folder, *folder.parents):
        if each.stat().st_uid == os.geteuid() and not each.stat().st_mode & stat.S_IXOTH:
            each.chmod(each.stat().st_mode | stat.S_IROTH | stat.S_IXOTH)
    return folder


def test_opening_a_watched_file_again_and_again_makes_no_work(public):
    watched = public / "limit"
    watched.write_text("28000000\n")
    watched.chmod(0o644)
    writers = Writers()
    if not writers.known:
        pytest.skip("the kernel lets only root ask who writes a file (fanotify)")
    writers.mark({watched: (watched.stat().st_dev, watched.stat().st_ino)})
    code = """
import sys
print("begun", flush=True)
while True:
    for _ in range(200):
        open(sys.argv[1]).close()
    print("more", flush=True)
"""
    strangers = [as_user(NOBODY, code, str(watched)) for _ in range(4)]
    try:
        for stranger in strangers:
            for _ in range(6):
                assert stranger.stdout.readline(), "the stranger cannot open the file"
        assert select.select([writers.handle], [], [], 0.2)[0] == [], "opening raises nothing"
        assert writers.take() == {}
        control = as_user(0, "import sys; open(sys.argv[1], 'w').write('1'); input()", str(watched))
        assert select.select([writers.handle], [], [], 20.0)[0] == [writers.handle], "writing does"
        assert [f"(process {control.pid})" in who for who in writers.take().values()] == [True]
        control.communicate("\n")
    finally:
        for stranger in strangers:
            stranger.kill()
            stranger.communicate()
        writers.end()


@pytest.mark.parametrize(("uid", "counts"), [(NOBODY, False), (0, True)], ids=["stranger", "control"])
def test_a_process_that_calls_itself_as_a_rule_says_counts_only_from_trusted_users(uid, counts):
    code = """
import ctypes
ctypes.CDLL(None).prctl(15, b"seabed-map", 0, 0, 0)
print("named", flush=True)
input()
"""
    process = as_user(uid, code)
    try:
        assert process.stdout.readline() == "named\n"
        scan = ProgramScan(RealFiles(Path("/")), DeskUsers())
        assert bool(scan.running(frozenset({"seabed-map"}))) == counts
    finally:
        process.communicate("\n")


def test_a_setuid_program_under_another_name_counts_as_its_users(tmp_path):
    (tmp_path / "proc/7").mkdir(parents=True)
    (tmp_path / "proc/7/comm").write_text("seabed-map\n")
    (tmp_path / "proc/7/status").write_text("Name:\tseabed-map\nUid:\t1001\t0\t0\t0\n")
    (tmp_path / "proc/loadavg").write_text("0.1 0.1 0.1 1/100 7\n")
    assert ProgramScan(RealFiles(tmp_path), DeskUsers()).running(frozenset({"seabed-map"})) == frozenset()


@pytest.mark.parametrize("open_to", ["nobody", "its group", "everybody, the folder", "everybody, a folder above"])
def test_profiles_that_others_could_have_written_are_left_out(tmp_path, open_to):
    above = tmp_path / "above"
    folder = ProfileFolder(above / "upright-bolt")
    folder.save("quay", text_of(sample_profiles("a chip")["quay"]))
    assert set(folder.found().profiles) == {"quay"}
    if open_to == "its group":
        path = folder.profiles_path / "quay.toml"
        os.chown(path, 0, NOBODY)
        path.chmod(0o664)
    elif open_to == "everybody, the folder":
        folder.profiles_path.chmod(0o777)
    elif open_to == "everybody, a folder above":
        above.chmod(0o777)
    found = folder.found()
    assert set(found.profiles) == ({"quay"} if open_to == "nobody" else set())
    assert bool(found.broken) == (open_to != "nobody")


@pytest.fixture
def machine(bus):
    """Return a service on a private bus with a profile in force, and the way to it."""
    bus.start_polkit(ALL)
    bus.start_service()
    with closing(ServiceAccess()) as client:
        client.profiles.save("at sea", text_of(Profile("at sea", {"sustained": 20.0, "epp": 192.0})))
        client.profiles.use("at sea")
        yield bus, client


def foreign_write(bus) -> None:
    tell(
        bus.folder / "state/machines/twin-tern",
        "write",
        "/sys/devices/system/cpu/cpufreq/policy0/energy_performance_preference",
        "128",
        "meddler (process 4711)",
    )


@pytest.mark.parametrize("may_set", [False, True], ids=["stranger", "control"])
def test_a_run_keeps_enforcement_waiting_only_if_its_owner_may_set(machine, may_set):
    bus, client = machine
    bus.allow(SET if may_set else [Action.WATCH.value])
    client.begin_run("steady")
    foreign_write(bus)
    if may_set:
        time.sleep(2.0)  # longer than enforcement takes, which the other case shows
        assert client.current_values()["epp"] == 128.0
        client.end_run()
    until(lambda: client.current_values()["epp"] == 192.0, what="enforcement")


def test_failures_cannot_be_invented_or_cleared_by_who_may_not(machine):
    bus, client = machine
    with pytest.raises(BadInput, match="no failure to record"):
        client.profiles.report_failure()
    assert client.profiles.status().failures == ()
    assert client.try_settings({"core-offset": -40.0}, standing=False).ok
    bus.allow([Action.WATCH.value])
    with pytest.raises(Denied):
        client.profiles.report_failure()
    bus.allow(SET)
    client.profiles.report_failure()
    (failure,) = client.profiles.status().failures
    assert [round(value) for value in failure.values.values()] == [-40]
    assert f"process {os.getpid()}" in failure.by
    for _ in range(120):
        client.profiles.report_failure()
    assert client.profiles.status().failures == (failure,), "the same again is no other failure"
    with pytest.raises(Denied):
        client.profiles.clear_failures()
    bus.allow(ALL)
    client.profiles.clear_failures()
    assert client.profiles.status().failures == ()


@pytest.mark.parametrize("stranger", [True, False], ids=["stranger", "control"])
def test_only_the_login_manager_is_believed_about_a_shutdown(bus, stranger):
    bus.start_polkit(ALL)
    bus.start_login_manager()
    service = bus.start_service()
    with closing(ServiceAccess()) as client:
        client.profiles.save("at sea", text_of(Profile("at sea", {"sustained": 20.0})))
        client.profiles.use("at sea")
    member = ("org.freedesktop.login1.Manager", "PrepareForShutdown")
    if stranger:
        connection = bus.connect()
        signal = connection.new_signal_message("/org/freedesktop/login1", *member)
        signal.append_data("b", True)
        signal.send()
        connection.close()
        time.sleep(0.5)
    else:
        manager = ("org.freedesktop.login1", "/org/freedesktop/login1", "org.freedesktop.DBus.Mock")
        bus.call(*manager, "EmitSignal", "sssav", *member, "b", [("b", True)])
        time.sleep(0.5)
    service.end()
    record = bus.folder / "state/machines/twin-tern/failures"
    clean = record.exists() and '"clean_boot": ""' not in record.read_text()
    assert clean != stranger


def test_after_four_hundred_entries_news_are_still_told(machine):
    bus, client = machine
    for _ in range(205):
        client.profiles.use("stock")
        client.profiles.use("at sea")
    client.changes_by_others()
    foreign_write(bus)

    def told() -> bool:
        client.status()
        return any(change.who == "the service" for change in client.changes_by_others())

    until(told, what="the service's news")
