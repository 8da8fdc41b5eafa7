"""What this computer tells of changes from outside: the kernel's own notifications, on files of the test's own."""

import os
import select
import subprocess
import sys

import pytest

from upright_bolt.kernel import paths
from upright_bolt.kernel.changes.programs import DeskUsers, ProgramScan
from upright_bolt.kernel.changes.real import RealChanges
from upright_bolt.kernel.changes.writers import Writers
from upright_bolt.kernel.ports import RealFiles
from upright_bolt.model.change import ChangeKind
from waiting import until

LIMIT = "/sys/class/powercap/intel-rapl:0/constraint_0_power_limit_uw"
OTHER = "/sys/class/powercap/intel-rapl:0/name"


@pytest.fixture
def root(tmp_path):
    for path in (LIMIT, OTHER):
        (tmp_path / path[1:]).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / path[1:]).write_text("28000000\n")
    return tmp_path


@pytest.fixture
def changes(root):
    made = RealChanges(root)
    yield made
    made.close()


@pytest.fixture
def named(root):
    writers = Writers()
    if not writers.known:
        pytest.skip("the kernel lets only root ask who writes a file (fanotify)")
    made = RealChanges(root, writers)
    yield made
    made.close()
    writers.end()


def written_by_another(root, path, text="1"):
    code = "import sys, pathlib; pathlib.Path(sys.argv[1]).write_text(sys.argv[2])"
    done = subprocess.Popen([sys.executable, "-c", code, str(root / path[1:]), text])
    done.wait()
    return done.pid


def test_nothing_is_opened_until_something_is_watched(changes):
    assert changes.handles() == ()
    assert changes.take() == []


def test_a_write_is_told_once_and_only_of_what_is_watched(changes, root):
    changes.watch([LIMIT, paths.CORE_OFFSET])
    written_by_another(root, OTHER)
    assert changes.take() == []
    written_by_another(root, LIMIT)
    assert [(c.kind, c.path, c.who) for c in changes.take()] == [(ChangeKind.WRITTEN, LIMIT, "")]
    assert changes.take() == []
    changes.watch([OTHER])
    written_by_another(root, LIMIT)
    assert [c.path for c in changes.take()] == []


def test_its_descriptor_is_silent_while_nothing_happens(changes, root):
    changes.watch([LIMIT])
    (handle,) = changes.handles()
    assert select.select([handle], [], [], 0.2)[0] == []
    written_by_another(root, LIMIT)
    assert select.select([handle], [], [], 10.0)[0] == [handle]
    changes.take()
    assert select.select([handle], [], [], 0.2)[0] == []


def test_who_wrote_is_named_and_this_program_s_own_writes_are_not_told(named, root):
    named.watch([LIMIT])
    (root / LIMIT[1:]).write_text("2")
    assert named.take() == []
    number = written_by_another(root, LIMIT)
    (change,) = named.take()
    assert change.path == LIMIT
    assert str(number) in change.who
    assert "python" in change.who or "ended" in change.who


def test_a_writer_that_lives_until_it_is_looked_at_is_named(named, root):
    named.watch([LIMIT])
    code = "import sys; f = open(sys.argv[1], 'w'); f.write('3'); f.close(); print('written', flush=True); input()"
    writer = subprocess.Popen(
        [sys.executable, "-c", code, str(root / LIMIT[1:])], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    with writer:
        assert writer.stdout.readline() == "written\n"
        (change,) = named.take()
        writer.stdin.write("\n")
        writer.stdin.flush()
        writer.wait()
    assert change.who.startswith("python") or "python" in change.who
    assert change.who.endswith(f"(process {writer.pid})")


def test_a_limit_that_lies_in_a_register_may_be_written_through_the_register_device_too(root):
    device = root / "dev/cpu/0/msr"
    device.parent.mkdir(parents=True)
    device.write_text("")
    own = 0
    changes = RealChanges(root, own_writes=lambda: own)
    changes.watch([LIMIT, OTHER])
    written_by_another(root, paths.msr_device(0))
    assert [(c.kind, c.path, c.who) for c in changes.take()] == [
        (ChangeKind.WRITTEN, path, "") for path in (LIMIT, OTHER)
    ]
    own += 1
    device.write_text("offset")
    assert changes.take() == [], "this program's own writes are no news"
    changes.close()


def test_after_closing_it_can_watch_again(named, root):
    named.watch([LIMIT])
    named.close()
    assert named.handles() == ()
    named.watch([LIMIT])
    written_by_another(root, LIMIT)
    assert [change.path for change in named.take()] == [LIMIT]


def test_a_name_that_is_known_is_not_lost_to_a_writer_that_has_ended(named, root):
    named.watch([LIMIT])
    file = root / LIMIT[1:]
    lasting = subprocess.Popen(
        [sys.executable, "-c", f"open({str(file)!r}, 'r+').write('3'); print(flush=True); input()"],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    with lasting:
        lasting.stdout.readline()
        written_by_another(root, LIMIT)
        for _ in range(100):
            file.read_text()
        (change,) = named.take()
        lasting.communicate("\n")
    assert change.who.endswith(f"(process {lasting.pid})")


def test_files_that_vanish_return_or_are_made_anew_are_told_once_and_watched_again(named, root):
    file = root / LIMIT[1:]
    named.watch([LIMIT, OTHER])
    assert not named.replaced()
    file.unlink()
    assert named.replaced()
    assert not named.replaced()
    file.write_text("28000000\n")
    assert named.replaced()
    assert not named.replaced()
    anew = file.with_name("anew")
    anew.write_text("28000000\n")
    anew.rename(file)
    named.watch([LIMIT, OTHER])  # whoever watches on before asking does not miss it
    assert named.replaced()
    written_by_another(root, LIMIT)
    assert [(c.kind, c.path) for c in named.take()] == [(ChangeKind.WRITTEN, LIMIT)]


def test_a_write_to_a_register_is_told_unless_this_program_has_written_one_itself(root):
    device = root / "dev/cpu/3/msr"
    device.parent.mkdir(parents=True)
    device.write_bytes(bytes(64))
    own = [0]
    changes = RealChanges(root, None, lambda: own[0])
    changes.watch([paths.CORE_OFFSET, paths.CLAMP])
    device.write_bytes(bytes(64))
    own[0] += 1
    assert changes.take() == []
    device.read_bytes()
    assert changes.take() == []
    written_by_another(root, "/dev/cpu/3/msr")
    assert [(c.kind, c.path, c.who) for c in changes.take()] == [
        (ChangeKind.WRITTEN, paths.CORE_OFFSET, ""),
        (ChangeKind.WRITTEN, paths.CLAMP, ""),
    ]
    changes.close()


def test_a_scaling_driver_that_is_switched_is_told_as_a_driver_that_changes(named, root):
    clock, switch = "/sys/devices/system/cpu/cpufreq/policy0/scaling_max_freq", paths.DRIVER_SWITCHES[0]
    for path in (clock, switch):
        (root / path[1:]).parent.mkdir(parents=True, exist_ok=True)
        (root / path[1:]).write_text("active\n")
    named.watch([LIMIT])
    written_by_another(root, switch)
    assert named.take() == []
    named.watch([LIMIT, clock])
    written_by_another(root, switch)
    assert [c.kind for c in named.take()] == [ChangeKind.DRIVERS]


def test_a_program_is_found_when_it_begins_and_missed_when_it_ends(tmp_path):
    program = tmp_path / "harbour-map-with-a-long-name"
    program.write_text("#!/bin/sh\nsleep 60 & wait\n")
    program.chmod(0o755)
    scan = ProgramScan(RealFiles(tmp_path.__class__("/")), DeskUsers())
    names = frozenset({program.name, "no-such-program"})
    assert scan.running(names) == frozenset()
    running = subprocess.Popen([str(program)], start_new_session=True)
    try:
        until(lambda: scan.running(names) == {program.name}, what="the program is found")
    finally:
        os.killpg(running.pid, 15)
        running.wait()
    until(lambda: scan.running(names) == frozenset(), what="the program is gone")


def test_while_no_process_begins_nothing_is_scanned(tmp_path):
    """The list of processes is read only if the newest process is another one than at the last look."""
    (tmp_path / "proc/7").mkdir(parents=True)
    (tmp_path / "proc/7/comm").write_text("seabed-map\n")
    (tmp_path / "proc/loadavg").write_text("0.1 0.1 0.1 1/100 7\n")
    listed = []

    class Counting(RealFiles):
        def names(self, path):
            listed.append(path)
            return super().names(path)

    (tmp_path / "proc/7/status").write_text("Name:\tseabed-map\nUid:\t0\t0\t0\t0\n")
    scan = ProgramScan(Counting(tmp_path), lambda uid: uid == 0)
    for _ in range(5):
        assert scan.running(frozenset({"seabed-map"})) == {"seabed-map"}
    assert len(listed) == 2
    (tmp_path / "proc/loadavg").write_text("0.1 0.1 0.1 1/100 8\n")
    scan.running(frozenset({"seabed-map"}))
    assert len(listed) == 3
