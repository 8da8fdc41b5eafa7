"""Attacks by files of others, by several programs at once, and by what is shown: each as it was once done."""

import csv
import gzip
import io
import json
import os
import sqlite3
import subprocess
import sys
import tarfile
import time

import pytest
from hammering import memory_kb

from command_process import CommandProcess, run_command
from support import SimulatedSession, fresh_machine, write_tree
from upright_bolt.captures import reader
from upright_bolt.captures.archive import collect, unpack, write
from upright_bolt.disk import csv_cell
from upright_bolt.errors import BadInput, BoltError, FileFault, InUse
from upright_bolt.kernel.ports import CopiedFiles
from upright_bolt.model.work import Options, check_options, number_in
from upright_bolt.privileges import check_own
from upright_bolt.settings.lock import MachineLock
from upright_bolt.simulator.machine import SimulatedClock
from upright_bolt.store.exchange import export_json
from waiting import until, within
from window_support import drop
from window_support import until as shown

MOST_MB = 150
"""A capture may unpack to 32 MB; nothing foreign takes much more than a few times that."""


def packed(path, listed, level=9):
    with tarfile.open(path, "w:gz", compresslevel=level) as archive:
        for name, size in listed:
            entry = tarfile.TarInfo(name)
            entry.size = size
            archive.addfile(entry, io.BytesIO(bytes(size)))
    return path


def deep_name(depth):
    return "/".join(["sys", *["d"] * depth, "f"])


def pax_bomb(path):
    header = tarfile.TarInfo("x")
    header.type, header.size = tarfile.XHDTYPE, 900 << 20
    with gzip.open(path, "wb", compresslevel=1) as file:
        file.write(header.tobuf(tarfile.USTAR_FORMAT))
        for _ in range(120):
            file.write(bytes(1 << 20))
    return path


BOMBS = {
    "one huge file": lambda p: packed(p, [("sys/a", 40 << 20)]),
    "many large files": lambda p: packed(p, [(f"sys/{i}", 3 << 20) for i in range(20)]),
    "21,000 entries": lambda p: packed(p, [(f"sys/{i}", 0) for i in range(21_000)], 1),
    "1,500 folders deep": lambda p: packed(p, [(deep_name(1500), 1)]),
    "a header of 900 MB": pax_bomb,
    "a long name": lambda p: packed(p, [("sys/" + "x" * 1000, 1)]),
    "a link": lambda p: linked(p, tarfile.SYMTYPE),
    "a device": lambda p: linked(p, tarfile.CHRTYPE),
    "a file twice": lambda p: packed(p, [("sys/a", 1), ("sys/a", 1)]),
    "a file that is a folder": lambda p: packed(p, [("sys/a", 1), ("sys/a/b", 1)]),
    "outside": lambda p: packed(p, [("sys/../../etc/passwd", 1)]),
    "absolute": lambda p: packed(p, [("/etc/passwd", 1)]),
    "20 MB of rubbish": lambda p: p.write_bytes(os.urandom(20 << 20)) and p,
}


def linked(path, kind):
    with tarfile.open(path, "w:gz") as archive:
        entry = tarfile.TarInfo("sys/a")
        entry.type, entry.linkname = kind, "/etc/passwd"
        archive.addfile(entry)
    return path


@pytest.mark.parametrize("kind", BOMBS)
def test_a_hostile_capture_is_refused_in_little_memory_and_leaves_nothing(bolt, tmp_path, kind):
    path = BOMBS[kind](tmp_path / "c.tar.gz")
    before, begun = memory_kb(), time.monotonic()
    with pytest.raises(BoltError):
        unpack(path, tmp_path / "out")
    assert memory_kb() - before < MOST_MB << 10
    assert time.monotonic() - begun < within(5.0)
    done = bolt("machine", on=f"tree:{path}")
    assert done.returncode == 1
    assert len(done.stderr.splitlines()) == 1
    assert "is not a capture" in done.stderr or "cannot be opened as a capture" in done.stderr
    assert not list((tmp_path / "data").rglob("unpacked/*"))


HOSTILE = ("one huge file", "1,500 folders deep", "a link", "a device", "a file twice", "outside", "absolute")


def test_hostile_captures_that_are_dropped_leave_the_machine_open(open_app, tmp_path):
    app = open_app("twin:tern")
    window = app.window
    for number, kind in enumerate(HOSTILE):
        path = BOMBS[kind](tmp_path / f"{number}.tar.gz")
        app.presenter.outcome = ""
        drop(window, path)
        shown(lambda: app.presenter.outcome.startswith("✕"))
        assert f"{number}.tar.gz" in app.presenter.outcome, kind
    pipe = tmp_path / "pipe.tar.gz"
    os.mkfifo(pipe)
    app.presenter.outcome = ""
    drop(window, pipe)
    shown(lambda: app.presenter.outcome.startswith("✕"))
    assert app.window is window
    assert app.presenter.outline.spec == "twin:tern"
    assert not list(tmp_path.rglob("unpacked/*"))


def good_capture(path):
    twin = fresh_machine()
    write(collect(twin.files, twin.registers, SimulatedClock(twin)), path)
    return path


def test_a_capture_cut_off_or_flipped_anywhere_is_refused(tmp_path, times):
    path = good_capture(tmp_path / "c.tar.gz")
    whole = path.read_bytes()
    assert sum(1 for _ in reader.members(path)) > 100
    for number in range(times(40, 400)):
        at = (number * 7919) % len(whole)
        if 4 <= at < 10:
            continue  # date, compression level and system in gzip's own header mean nothing
        for data in (whole[:at], whole[:at] + bytes([whole[at] ^ 0x10]) + whole[at + 1 :]):
            path.write_bytes(data)
            try:
                listed = [member.parts for member in reader.members(path)]
            except BoltError:
                continue
            assert listed
            assert len(data) == len(whole), "a capture that was cut off was taken in"
    path.write_bytes(whole + whole)
    with pytest.raises(BoltError, match="something follows its end"):
        list(reader.members(path))


def test_links_in_a_copied_folder_lead_nowhere_outside_it(tmp_path, bolt):
    root = write_tree(fresh_machine(), tmp_path / "tree")
    victim = tmp_path / "precious"
    victim.write_text("precious")
    limit = root / "sys/class/powercap/intel-rapl:0/constraint_0_power_limit_uw"
    limit.unlink()
    limit.symlink_to(victim)
    (root / "sys/inside").symlink_to(root / "proc/stat")
    os.mkfifo(root / "sys/pipe")
    files = CopiedFiles(root)
    for act in (files.read, files.opener, lambda path: files.write(path, b"overwritten")):
        for path in ("/sys/class/powercap/intel-rapl:0/constraint_0_power_limit_uw", "/sys/pipe", "/../precious"):
            with pytest.raises(FileFault):
                act(path)
    assert files.read("/sys/inside") == (root / "proc/stat").read_bytes()
    files.close()
    bolt("set", "sustained=20W", on=f"tree:{root}")
    assert victim.read_text() == "precious"


def test_a_lock_says_who_holds_it_as_the_kernel_sees_it(tmp_path):
    folder = tmp_path / "m"
    mine = MachineLock(folder, "the window")
    mine.acquire()
    with pytest.raises(InUse, match=rf"in use by the window \(process {os.getpid()}\)"):
        MachineLock(folder, "another").acquire()
    mine.release()
    script = "import fcntl, os, sys, time; fcntl.flock(os.open(sys.argv[1], os.O_RDONLY), fcntl.LOCK_EX); print(1, flush=True); time.sleep(60)"  # noqa: E501
    other = subprocess.Popen([sys.executable, "-c", script, str(folder)], stdout=subprocess.PIPE)
    try:
        other.stdout.readline()
        with pytest.raises(InUse, match=rf"in use by “python\S*” of \S+ \(process {other.pid}\)"):
            MachineLock(folder, "another").acquire()
    finally:
        other.kill()
        other.wait()
        other.stdout.close()


def test_folders_that_others_could_have_written_are_not_trusted(tmp_path):
    open_to_all = tmp_path / "shared"
    open_to_all.mkdir()
    open_to_all.chmod(0o777)
    (open_to_all / "mine").mkdir(mode=0o700)
    for path in (open_to_all, open_to_all / "mine"):
        with pytest.raises(BoltError, match=r"can be changed by everybody, so what .* is not trusted"):
            check_own(path)
    if os.geteuid() == 0:
        theirs = tmp_path / "theirs"
        theirs.mkdir()
        os.chown(theirs, 1, 1)
        with pytest.raises(BoltError, match="belongs to daemon, so what it holds is not trusted"):
            MachineLock(theirs, "x").acquire()
    assert MachineLock(tmp_path / "own", "x").acquire() is None
    assert (tmp_path / "own").stat().st_mode & 0o777 == 0o700


def test_many_programs_on_one_data_folder(tmp_path, times):
    """Each has a machine of its own, and all of them one database."""
    data = tmp_path / "data"
    count = times(12, 100)
    out = tmp_path / "out"
    out.touch()
    machines = ["twin:tern", "twin:skerry", "twin:plover"]
    processes = [
        CommandProcess(["-m", machines[i % 3], "--data", str(data), "run", "steady", "--duration", "30s"], out, out)
        for i in range(count)
    ]  # fmt: skip
    codes = [process.wait(within(300)) for process in processes]
    said = out.read_text()
    assert "locked" not in said
    done = codes.count(0)
    assert done >= 3
    refused = said.count("This machine is in use by the command line (process")
    assert done + refused == count, said
    listed = run_command(["--data", str(data), "runs", "--json"], within(60))
    assert len(json.loads(listed.stdout)) == done


def test_a_run_that_goes_on_is_neither_deleted_nor_declared_dead(bolt, data, tmp_path):
    out = tmp_path / "out"
    out.touch()
    words = ["--data", str(data), "run", "watch", "--duration", "10min"]
    process = CommandProcess(words, out, out)
    try:
        until(lambda: '"running"' in bolt("runs", "--json", on="host").stdout, what="the run to begin")
        refused = bolt("runs", "delete", "1", on="host")
        assert (refused.returncode, refused.stderr) == (1, "Run 1 is in progress; stop it first.\n")
        second = bolt("run", "watch", "--duration", "5s", on="host")
        assert second.returncode == 1
        assert "in use by" in second.stderr
        elsewhere = run_command(["--data", str(tmp_path / "b"), "run", "watch", "--duration", "5s"], within(60))
        assert "in use by" in elsewhere.stderr  # another data folder is no way around it
        bolt("-m", "twin:tern", "run", "idle", "--duration", "5s")
        assert json.loads(bolt("runs", "show", "1", "--json", on="host").stdout)["state"] == "running"
    finally:
        process.kill()
        process.wait()
    assert bolt("runs", "delete", "1", on="host").returncode == 0


def test_no_cell_is_a_formula(on_tern: SimulatedSession, bolt, tmp_path):
    for text in ("=1+1", "+cmd|' /C calc'!A0", "-2+3", "@SUM(1)", "\t=1"):
        assert str(csv_cell(text)).startswith("'")
    for plain in ("-12.5", "+3", -4.0, "", "a=b", "25 W"):
        assert csv_cell(plain) == plain
    on_tern.run(20.0, "=cmd()")
    on_tern.store.annotate(1, "@note")
    on_tern.close()
    assert bolt("runs", "--csv", str(tmp_path / "list.csv")).returncode == 0
    row = next(csv.DictReader((tmp_path / "list.csv").read_text().splitlines()))
    assert (row["label"], row["note"]) == ("'=cmd()", "'@note")


def test_a_label_is_only_a_label_in_a_report(on_tern: SimulatedSession, bolt, tmp_path):
    labels = ["costs $5 and $x", "$\\frac{1}{0}$", "<script>alert(1)</script>", "_hidden", "%s {0}"]
    for label in labels:
        on_tern.run(30.0, label)
    on_tern.close()
    numbers = [str(number) for number in range(1, len(labels) + 1)]
    done = bolt("runs", "export", *numbers, "--html", str(tmp_path / "r.html"))
    assert done.returncode == 0, done.stderr
    page = (tmp_path / "r.html").read_text()
    assert "<script>alert" not in page
    for label in labels:
        assert label.split()[0].replace("<", "&lt;").replace(">", "&gt;") in page


def test_control_characters_never_reach_a_terminal(on_tern: SimulatedSession, bolt, tmp_path):
    evil = "\x1b]0;owned\x07\x1b[2Jlabel\x9b31m\u202e"
    with pytest.raises(BadInput, match="control characters"):
        on_tern.run(20.0, evil)
    on_tern.run(20.0, "good")
    with pytest.raises(BadInput, match="control characters"):
        on_tern.store.annotate(1, evil)
    on_tern.close()
    with sqlite3.connect(on_tern.data / "runs.sqlite") as database:  # as an earlier version, or somebody else, wrote it
        database.execute("UPDATE runs SET why = ?, note = ?", (evil, evil))
    database.close()
    calls = [("runs",), ("runs", "show", "1"), ("runs", "--json"), ("set", f"{evil}=1"), (evil,), ("compare", evil),
             ("runs", "import", evil), ("sweep", evil), ("run", evil), ("--machine", evil, "machine")]  # fmt: skip
    for words in calls:
        done = bolt(*words)
        for char in "\x1b\x07\x9b\u202e":
            assert char not in done.stdout + done.stderr, words


@pytest.mark.parametrize("pattern", [r"(a+)+$", r"(a|aa)+$", r"(.*)*x", r"(\d+)\s*$", r"((a{0,50}){0,50}){0,50}"])
def test_a_pattern_takes_no_longer_than_its_text(pattern):
    text = "a" * 64_000 + "!"
    begun = time.monotonic()
    try:
        check_options("command", Options(("true",), pattern))
        number_in(text, pattern)
    except BoltError:
        pass
    assert time.monotonic() - begun < within(1.0)


def test_a_data_folder_that_can_only_be_read_still_shows_its_runs(on_tern: SimulatedSession, bolt, data):
    on_tern.run(20.0, "a")
    on_tern.close()
    run_command(["--data", str(data), "runs"], within(60))
    if os.geteuid() != 0 or os.system(f"mount --bind {data} {data} 2>/dev/null && mount -o remount,ro,bind {data}"):
        pytest.skip("needs the right to mount")
    try:
        listed = bolt("runs")
        assert (listed.returncode, listed.stderr) == (0, "")
        assert " a" in listed.stdout
        assert bolt("status", on="host").returncode == 0
        assert "cannot be" in bolt("run", "steady", "--duration", "5s").stderr
    finally:
        os.system(f"umount {data}")


def test_runs_of_a_stranger_come_in_whole_or_not_at_all(on_tern: SimulatedSession, bolt, tmp_path):
    on_tern.run(20.0, "a")
    export_json(on_tern.store, [1], tmp_path / "good.json")
    on_tern.close()
    good = json.loads((tmp_path / "good.json").read_text())
    for place, value, why in (
        (("record", "end", "duration_s"), float("inf"), "duration_s"),
        (("record", "end", "score"), float("nan"), "score"),
        (("record", "head", "started_at"), "yesterday", "no date and time"),
        (("record", "head", "settings"), {"warp": 9.0}, "There is no control “warp”"),
        (("record", "head", "settings"), {"sustained": "on"}, "is not a number"),
        (("record", "head", "label"), "\x1b[2J", "control characters"),
        (("record", "head", "workload"), "mine", "none that this version knows"),
        (("telemetry", "time_s"), [2.0, 1.0], "another length|do not go forward"),
    ):
        bad = json.loads(json.dumps(good))
        holder = bad["runs"][0]
        for part in place[:-1]:
            holder = holder[part]
        holder[place[-1]] = value
        bad["runs"] = [good["runs"][0], bad["runs"][0]]
        bad["runs"][0]["record"]["head"]["key"] = "another"
        bad["runs"][1]["record"]["head"]["key"] = "bad"
        (tmp_path / "bad.json").write_text(json.dumps(bad))
        done = bolt("runs", "import", str(tmp_path / "bad.json"))
        assert done.returncode == 2, place
        assert len(done.stderr.splitlines()) == 1
        assert any(part in done.stderr for part in why.split("|")), done.stderr
    assert len(json.loads(bolt("runs", "--json").stdout)) == 1
