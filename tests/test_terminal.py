"""The command in a terminal that is closed, full, old or in a hurry: a sentence, and never a traceback."""

import csv
import os
import re
import signal
import subprocess
import sys
import time

import pytest

import waiting
from upright_bolt.cli import in_order
from upright_bolt.text.times import date_and_time

COMMAND = [sys.executable, "-m", "upright_bolt"]


@pytest.fixture
def start(data):
    """Start the command; a test that fails leaves nothing running."""
    started = []

    def run(*words, **how):
        command = [*COMMAND, "--data", str(data), "--machine", "twin:tern", *words]
        pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE}
        started.append(subprocess.Popen(command, text=True, **{**pipes, **how}))
        return started[-1]

    yield run
    for going in started:
        if going.poll() is None:
            going.kill()
        going.communicate()


def shell(line, data, **environment):
    command = f"{' '.join(COMMAND)} --data {data} --machine twin:tern"
    return subprocess.run(
        ["sh", "-c", line.replace("COMMAND", command)],
        capture_output=True, text=True, env={**os.environ, **environment}, check=False,
    )  # fmt: skip


def does(pid, what, number):
    """Tell whether a process catches a signal (``SigCgt``) or ignores it (``SigIgn``)."""
    with open(f"/proc/{pid}/status") as file:
        mask = next(line for line in file if line.startswith(f"{what}:"))
    return bool(int(mask.split()[1], 16) & 1 << number - 1)


def catches_interrupts(pid):
    return does(pid, "SigCgt", signal.SIGINT)


@pytest.mark.parametrize("after_s", [0.0, 0.05, 0.15, 0.3, 0.6])
def test_an_interrupt_in_the_first_second_prints_no_traceback(data, after_s, start):
    going = start("run", "steady", "--duration", "24h")
    # Python's own start is over once it catches interrupts; then the program lets one end it at once
    for caught in (True, False):
        waiting.until(lambda caught=caught: catches_interrupts(going.pid) is caught, pause=lambda: time.sleep(0.0005))
    time.sleep(after_s)
    going.send_signal(signal.SIGINT)
    _, said = going.communicate(timeout=120)
    assert "Traceback" not in said
    assert going.returncode in (1, -signal.SIGINT)


def test_in_the_background_of_a_script_only_what_is_not_ignored_ends_a_run(data, start):
    """A shell's script ignores interrupts for what it starts with "&": they are meant for what is in front."""

    def ignore():
        signal.signal(signal.SIGINT, signal.SIG_IGN)

    going = start("run", "steady", "--duration", "24h", preexec_fn=ignore)
    waiting.until(lambda: does(going.pid, "SigCgt", signal.SIGTERM))
    assert does(going.pid, "SigIgn", signal.SIGINT)
    going.send_signal(signal.SIGTERM)
    _, said = going.communicate(timeout=120)
    assert "Traceback" not in said
    assert going.returncode == 1


@pytest.mark.parametrize("line", ["COMMAND machine >&-", "COMMAND status 2>&- >&-", "COMMAND machine | true"])
def test_a_closed_stream_is_no_fault(data, line):
    done = shell(line, data)
    assert done.returncode == 0
    assert done.stderr == ""


def test_a_full_disk_behind_standard_output_is_named(data):
    done = shell("COMMAND machine >/dev/full", data)
    assert done.returncode == 1
    assert done.stderr == "Standard output: No space left on device.\n"


def test_a_full_disk_behind_a_table_names_the_file(data):
    done = shell("COMMAND sample --csv /dev/full", data)
    assert done.returncode == 1
    assert done.stderr == "/dev/full cannot be written: No space left on device.\n"


@pytest.mark.parametrize("words", ["machine", "runs", "run steady --duration 10s --start at-once --label bö"])
def test_a_terminal_of_ascii_alone_gets_plain_letters(data, words):
    locale = {"LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0", "PYTHONIOENCODING": ""}
    done = shell(f"COMMAND {words}", data, **locale)
    assert done.returncode == 0, done.stderr
    assert done.stdout.isascii()
    assert "\\u" not in done.stdout + done.stderr
    assert "Traceback" not in done.stderr


def test_a_label_that_the_locale_does_not_know_is_kept_as_typed(data):
    locale = {"LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0", "PYTHONIOENCODING": ""}
    shell("COMMAND run steady --duration 10s --start at-once --label Brücke", data, **locale)
    assert "Brücke" in shell("COMMAND runs", data, PYTHONIOENCODING="utf-8").stdout


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_a_stopped_table_of_samples_keeps_what_was_read(data, number, tmp_path, start):
    table = tmp_path / "samples.csv"
    going = start("sample", "--count", "100000", "--interval", "50ms", "--csv", str(table))
    waiting.until(lambda: table.exists() and len(table.read_text().splitlines()) > 3)
    going.send_signal(number)
    _, said = going.communicate(timeout=120)
    assert said == "Stopped.\n"
    rows = list(csv.reader(table.read_text().splitlines()))
    assert len(rows) > 3
    assert {len(row) for row in rows} == {len(rows[0])}


def test_a_terminal_that_goes_away_ends_a_run_as_stopped(data, start):
    going = start("run", "steady", "--duration", "24h", "--start", "at-once")
    waiting.until(lambda: "running" in shell("COMMAND runs", data).stdout)
    going.send_signal(signal.SIGHUP)
    going.communicate(timeout=120)
    assert "stopped" in shell("COMMAND runs", data).stdout


def test_nohup_lets_a_command_go_on(data):
    line = "trap '' HUP; COMMAND run steady --duration 10s --start at-once & sleep 0.5; kill -HUP $!; wait $!"
    assert shell(line, data).returncode == 0


def test_options_of_every_command_may_stand_anywhere():
    assert in_order(["run", "steady", "--json", "-m", "twin:tern", "--data=d"]) == [
        "-m", "twin:tern", "--data=d", "run", "steady", "--json",
    ]  # fmt: skip
    assert in_order(["runs", "--", "--json"]) == ["runs", "--", "--json"]
    assert in_order(["status", "--machine"]) == ["--machine", "status"]


def test_times_are_shown_in_the_zone_of_this_computer(monkeypatch):
    monkeypatch.setenv("TZ", "Asia/Tokyo")
    time.tzset()
    try:
        assert date_and_time("2026-05-04T23:10:00+00:00") == "2026-05-05 08:10"
        assert date_and_time("2026-05-04T23:10:00") == "2026-05-04 23:10"
        assert date_and_time("once") == "once"
        assert date_and_time("0001-01-01T00:00:00+14:00") == "0001-01-01T00:00:00+14:00"
    finally:
        monkeypatch.undo()
        time.tzset()


def test_times_in_json_have_their_zone(data):
    shell("COMMAND run steady --duration 10s --start at-once", data)
    assert re.search(r'"started_at": "[-0-9]+T[:0-9.]+[+-]\d\d:\d\d"', shell("COMMAND runs --json", data).stdout)
