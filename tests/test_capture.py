"""Captures: all that is looked at, nothing personal, and the same machine when opened again."""

import io
import json
import os
import tarfile

import pytest

from support import fresh_machine, write_tree
from trees import ports_of
from upright_bolt.app import open_session
from upright_bolt.captures.archive import NO_BOOT, collect, unpack, write
from upright_bolt.errors import BoltError
from upright_bolt.kernel import paths
from upright_bolt.kernel.clock import RealClock
from upright_bolt.kernel.survey import survey
from upright_bolt.model.control import ControlState
from upright_bolt.simulator.machine import SimulatedClock


@pytest.fixture
def captured(tmp_path):
    twin = fresh_machine()
    target = tmp_path / "tern.tar.gz"
    return twin, target, write(collect(twin.files, twin.registers, SimulatedClock(twin)), target)


def test_a_capture_opens_as_the_same_machine(captured, tmp_path):
    twin, target, done = captured
    live = survey(twin.files, twin.registers, "x")
    session = open_session(f"tree:{target}", tmp_path / "data", "a test", exclusive=True)
    assert session.about.identity == live.identity
    assert session.about.turbo_table_mhz == live.limits.turbo_table_mhz
    assert session.about.ceiling_c == 100.0
    for name, control in session.controls().items():
        if not name.endswith("-offset") and control.state is not ControlState.ABSENT:
            assert control.current == live.controls[name].read()
            assert control.settable
    sample = session.tick().sample
    names = {sensor.name for sensor in session.about.sensors}
    assert {"voltage.core", "limit.reasons", "temperature.core5", "fan.1"} <= names
    assert sample.values[session.index["temperature.package"]] > 30.0
    assert done.registers >= 6
    assert done.unreadable == ()
    session.close()


def test_what_is_set_on_a_capture_does_not_change_it(captured, tmp_path):
    _, target, _ = captured
    before = target.read_bytes()
    for _ in range(2):
        session = open_session(f"tree:{target}", tmp_path / "data", "a test", exclusive=True)
        assert session.controls()["sustained"].current == 18.0
        assert session.try_settings({"sustained": 25.0}, standing=True).ok
        session.keep()
        session.close()
    assert target.read_bytes() == before


def test_nothing_personal_is_in_it(captured):
    _, target, _ = captured
    with tarfile.open(target) as archive:
        names = archive.getnames()
        content = {name: archive.extractfile(name).read() for name in names}
    assert not [
        name for name in names if any(word in name for word in ("serial", "uuid", "address", "hostname", "asset"))
    ]
    assert content[paths.BOOT_ID.lstrip("/")] == NO_BOOT
    assert {name.split("/")[0] for name in names} == {"sys", "proc", "dev"}


PRIVATE = {
    paths.COMMAND_LINE: b"BOOT_IMAGE=/vmlinuz root=UUID=1f2e user=pilot wifi=harbour intel_pstate=passive idle=poll\n",
    paths.VERSION: b"Linux version 6.1.0-quay (pilot@wheelhouse) (gcc 12) #1 SMP Debian 6.1.1 (2026-01-01)\n",
    paths.CPUINFO: b"processor\t: 0\nmodel name\t: Halyard Q6\nflags\t\t: fpu\nSerial\t\t: 000000001f2e\n",
    paths.STAT: b"cpu  1 2 3 4 5 6 7 0 0 0\ncpu0 1 2 3 4 5 6 7 0 0 0\nbtime 1764000000\nprocesses 4242\n",
}
MICE = ("hid-dc:2c:26:aa:bb:01-battery", "hid-dc:2c:26:aa:bb:02-battery")


def test_only_what_is_looked_at_is_kept_of_files_that_hold_more(tmp_path):
    twin = fresh_machine()
    root = write_tree(twin, tmp_path / "root")
    for path, data in PRIVATE.items():
        (root / path.lstrip("/")).write_bytes(data)
    for mouse in MICE:
        folder = root / "sys/class/power_supply" / mouse
        folder.mkdir()
        (folder / "type").write_text("Battery\n")
        (folder / "scope").write_text("Device\n")
    files, registers = ports_of(root)
    target = tmp_path / "kept.tar.gz"
    write(collect(files, registers, RealClock()), target)
    with tarfile.open(target) as archive:
        names = archive.getnames()
        content = {name: archive.extractfile(name).read() for name in names}
    whole = b"".join(content.values()) + " ".join(names).encode()
    for private in (b"UUID", b"pilot", b"wheelhouse", b"harbour", b"1f2e", b"1764000000", b"4242", b"dc:2c:26"):
        assert private not in whole, private
    assert content[paths.COMMAND_LINE.lstrip("/")] == b"intel_pstate=passive idle=poll\n"
    session = open_session(f"tree:{target}", tmp_path / "data", "a test", exclusive=True)
    assert session.about.identity.kernel == "6.1.0-quay"
    assert session.about.identity.processor == "Halyard Q6"
    assert sum("device-" in name and name.endswith("/type") for name in names) == len(MICE)
    session.close()


def test_a_capture_says_that_it_is_one(captured, bolt):
    _, target, _ = captured
    told = bolt("machine", on=f"tree:{target}").stdout
    assert told.startswith(f"Opened from {target}: a copy of kernel files")
    assert "did not answer" not in told
    assert "offsets are told by a processor alone" in told


def test_this_computer_can_be_captured_and_opened(bolt, tmp_path):
    target = tmp_path / "here.tar.gz"
    told = json.loads(bolt("capture", str(target), "--json", on="host").stdout)
    assert told["files"] > 3
    with tarfile.open(target) as archive:
        whole = b"".join(archive.extractfile(member).read() for member in archive)
    if len(os.uname().nodename) > 4:  # a shorter name may be part of any word
        assert os.uname().nodename.encode() not in whole
    here = json.loads(bolt("machine", "--json", on="host").stdout)
    there = json.loads(bolt("machine", "--json", on=f"tree:{target}").stdout)
    assert there["machine"]["processor"] == here["machine"]["processor"]
    assert [c["state"] for c in there["controls"]] == [c["state"] for c in here["controls"]]


def test_a_target_that_cannot_be_written_or_is_no_archive_is_a_sentence(bolt, tmp_path):
    assert "a capture is a .tar.gz file" in bolt("capture", str(tmp_path / "x.zip")).stderr
    result = bolt("capture", str(tmp_path / "no" / "x.tar.gz"))
    assert (result.returncode, "cannot be written" in result.stderr) == (1, True)


def archive_with(path, name, data=b"x", kind=tarfile.REGTYPE):
    with tarfile.open(path, "w:gz") as archive:
        entry = tarfile.TarInfo(name)
        entry.size, entry.type, entry.linkname = len(data), kind, "/etc/passwd"
        archive.addfile(entry, io.BytesIO(data) if kind == tarfile.REGTYPE else None)
    return path


@pytest.mark.parametrize(
    ("name", "kind"),
    [
        ("../sys/x", tarfile.REGTYPE),
        ("/etc/passwd", tarfile.REGTYPE),
        ("sys/../../x", tarfile.REGTYPE),
        ("home/me", tarfile.REGTYPE),
        ("sys/link", tarfile.SYMTYPE),
        ("sys/hard", tarfile.LNKTYPE),
        ("sys/device", tarfile.CHRTYPE),
    ],
)
def test_an_archive_that_reaches_elsewhere_is_refused(tmp_path, name, kind):
    target = tmp_path / "inside"
    with pytest.raises(BoltError, match="is not a capture"):
        unpack(archive_with(tmp_path / "bad.tar.gz", name, kind=kind), target)
    assert not target.exists() or list(target.rglob("*")) == []


def test_a_file_that_is_no_archive_is_refused(bolt, tmp_path):
    path = tmp_path / "letter.tar.gz"
    path.write_text("dear harbour master")
    result = bolt("machine", on=f"tree:{path}")
    assert result.returncode == 1
    assert "cannot be opened as a capture" in result.stderr


def test_capturing_writes_nothing_but_the_question_to_the_mailbox(tmp_path):
    twin = fresh_machine()
    wrote = []
    twin.files.write = lambda path, data: wrote.append((path, data))
    state = json.dumps(twin.state.limits) + str(twin.state.offsets_mv)
    write(collect(twin.files, twin.registers, RealClock()), tmp_path / "x.tar.gz")
    assert wrote == []
    assert state == json.dumps(twin.state.limits) + str(twin.state.offsets_mv)
