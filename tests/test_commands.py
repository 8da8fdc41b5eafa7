"""The command line, as processes: its JSON, its sentences, its exit codes, and being killed."""

import csv
import json
import os
import signal
import subprocess
import sys
from itertools import pairwise

import pytest

from command_process import run_command
from waiting import until, within

OFFSETS = ["core-offset", "cache-offset", "gpu-offset", "agent-offset"]
CONTROLS = [
    "sustained", "burst", "window", "peak", "board", "current", "clamp", "limiter", "turbo", "epp", "governor",
    "clock-min", "clock-max", "turbo-table", "idle-off", "platform-mode", "heat-ceiling", *OFFSETS, "hot-signal",
]  # fmt: skip


def data_of(result):
    assert result.returncode == 0, result.stderr
    return json.loads(result.stdout)


def one_sentence(result, code):
    assert result.returncode == code, (result.stdout, result.stderr)
    lines = result.stderr.strip().splitlines()
    assert len(lines) == 1, result.stderr
    assert lines[0].endswith((".", "?", "”.", "!"))
    return lines[0]


def test_machine_tells_identity_controls_sensors_and_gaps(bolt):
    told = data_of(bolt("machine", "--json"))
    assert {"name", "vendor", "processor", "cores", "threads", "kernel", "driver"} <= told["machine"].keys()
    assert (told["machine"]["name"], told["machine"]["driver"]) == ("tern", "intel_pstate")
    names = [control["name"] for control in told["controls"]]
    assert names[: len(CONTROLS)] == CONTROLS
    parts = [name.partition(".")[0] for name in names[len(CONTROLS) :]]
    assert parts == sorted(parts)
    assert set(parts) == {chip["part"] for chip in told["graphics_chips"]} == {"gpu00-02", "gpu03"}
    keys = {"name", "quantity", "unit", "min", "max", "step", "stock", "current", "state", "reason"}
    assert all(keys <= control.keys() for control in told["controls"])
    assert all({"name", "quantity", "unit"} <= sensor.keys() for sensor in told["sensors"])
    assert told["missing"] == []
    assert "Halyard Q6-4200T" in bolt("machine").stdout


def test_machine_on_this_computer_says_why_for_each_missing_thing(bolt):
    told = data_of(bolt("machine", "--json", on="host"))
    assert all(entry["what"] and entry["why"] for entry in told["missing"])
    for control in told["controls"]:
        assert control["state"] == "settable" or control["reason"]
        assert control["current"] is not None or control["state"] != "settable"
    words = bolt("machine", on="host").stdout
    assert all(entry["why"][1:] in words for entry in told["missing"])


def test_sample_gives_numbers_by_sensor_and_null_for_the_rest(bolt, tmp_path):
    sample = data_of(bolt("sample", "--json"))
    assert sample["values"]["limit.sustained"] == 18.0
    assert sample["values"]["power.package"] > 0.5
    assert sample["constraint"] == "no work"
    lines = bolt("sample", "--json", "--count", "3", "--interval", "2s").stdout.splitlines()
    times = [json.loads(line)["time_s"] for line in lines]
    assert [round(b - a, 6) for a, b in pairwise(times)] == [2.0, 2.0]
    path = tmp_path / "samples.csv"
    assert bolt("sample", "--count", "4", "--csv", str(path)).returncode == 0
    with path.open() as file:
        rows = list(csv.DictReader(file))
    assert len(rows) == 4
    assert rows[0]["held_by"] == "no work"
    host = data_of(bolt("sample", "--json", "--interval", "0.1s", on="host"))
    assert host["values"]["busy.mean"] is not None
    assert None not in host["values"].values() or host["values"]["clock.mean"] is None


def test_set_status_keep_and_put_back(bolt):
    rows = data_of(bolt("set", "sustained=25W", "window=28s", "turbo=off", "epp=96", "--json"))
    assert [(row["name"], row["asked"], row["ok"]) for row in rows] == [
        ("sustained", 25.0, True), ("window", 28.0, True), ("turbo", "off", True), ("epp", 96.0, True),
    ]  # fmt: skip
    assert rows[1]["got"] == pytest.approx(27.98, abs=0.01)
    assert "27.98 s" in rows[1]["why"]
    status = data_of(bolt("status", "--json"))
    assert status["drift"] == []
    assert status["trial"]["settings"]["turbo"] == "off"
    assert status["trial"]["by"] == "the command line"
    assert status["trial"]["since"][:2] == "20"
    assert "A trial is running since" in bolt("status").stdout
    assert data_of(bolt("put-back", "--json"))["revert"]["sustained"] == 18.0
    assert data_of(bolt("status", "--json"))["trial"] is None
    data_of(bolt("set", "epp=balance_power", "--keep", "--json"))
    assert data_of(bolt("status", "--json"))["kept"] == {"epp": 192.0}
    assert one_sentence(bolt("keep"), 2) == "No trial is running."


def test_plugging_shows_as_drift(bolt):
    bolt("set", "sustained=25W")
    assert "unplugged" in bolt("plug", "out").stdout
    drift = data_of(bolt("status", "--json"))["drift"]
    assert drift == [{"name": "sustained", "expected": 25.0, "got": 12.0, "why": ""}]
    assert "25 W was set; the firmware has set 12 W since the charger was unplugged" in bolt("status").stdout
    for machine in ("host", "twin:skerry"):
        assert "Only the charger of a twin with a battery" in one_sentence(bolt("plug", "in", on=machine), 2)


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (["set", "sustained=25"], 2, "write it with W or mW"),
        (["set", "sustained=999W"], 2, "6 W to 60 W"),
        (["set", "governor=performance", "epp=96"], 2, "governor=powersave"),
        (["set", "sustaned=25W"], 2, "Did you mean sustained?"),
        (["set", "foo"], 2, "NAME=VALUE"),
        (["set"], 2, "--help"),
        (["set", "platform-mode=loud"], 2, "quiet, balanced, performance"),
        (["set", "platform-mode=quiet", "sustained=25W"], 2, "Set the mode first"),
        (["set", "core-offset=80mV"], 2, "Did you mean −80 mV?"),
        (["set", "core-offset=-0.08mV"], 2, "Did you mean -80 mV?"),
        (["set", "core-offset=-300mV"], 2, "−250 mV to 0 mV"),
        (["run", "dance"], 2, "Workloads: steady"),
        (["run", "steady", "--duration", "10"], 2, "duration: “10” has no unit"),
        (["run", "steady", "--duration", "2s"], 2, "from 5 s to 24 h"),
        (["run", "steady", "--with", "burst=9kW"], 2, "unit kW"),
        (["runs", "show", "one"], 2, "not a run number"),
        (["runs", "show", "²"], 2, "not a run number"),
        (["runs", "show", "7"], 2, "There is no run 7"),
        (["runs", "delete", "7"], 2, "There is no run 7"),
        (["runs", "export", "7", "--csv", "x.csv"], 2, "There is no run 7"),
        (["compare", "1"], 2, "needs two runs"),
        (["compare", "1", "2"], 2, "There is no run 1"),
        (["sample", "--count", "0"], 2, "at least one"),
        (["sample", "--count", "many"], 2, "is not a valid int"),
        (["sample", "--interval", "1day"], 2, "interval"),
        (["dance"], 2, "No such command"),
        (["machines"], 2, "Did you mean 'machine'? Try"),
        (["put-back"], 2, "No trial is running"),
        (["plug", "sideways"], 2, "neither in nor out"),
    ],
)
def test_bad_input_is_one_sentence_and_code_2(bolt, words, code, said):
    assert said in one_sentence(bolt(*words), code)


def test_a_setting_that_this_computer_does_not_offer_is_refused_with_code_1(bolt):
    controls = {c["name"]: c for c in data_of(bolt("machine", "--json", on="host"))["controls"]}
    if controls["sustained"]["state"] == "settable":
        pytest.skip("this computer's power limits could be set, and tests do not set them")
    sentence = one_sentence(bolt("set", "sustained=25W", on="host"), 1)
    assert controls["sustained"]["reason"].lower() in sentence.lower()


@pytest.mark.parametrize("on", ["twin:albatross", "tree:/no/such", "ship"])
def test_an_unknown_machine_is_one_sentence(bolt, on):
    one_sentence(bolt("machine", on=on), 2)


def test_a_data_folder_that_cannot_be_made_is_one_sentence(tmp_path):
    blocked = tmp_path / "file"
    blocked.write_text("")
    command = [sys.executable, "-m", "upright_bolt", "-m", "twin:tern", "--data", str(blocked / "data"), "status"]
    result = subprocess.run(command, capture_output=True, text=True, check=False)
    assert "Not a directory" in one_sentence(result, 1)


def test_run_list_compare_export_delete(bolt, tmp_path):
    stock = data_of(bolt("run", "steady", "--duration", "1min", "--label", "stock", "--json"))
    flat = data_of(
        bolt("run", "steady", "--duration", "60s", "--with", "sustained=25W", "--with", "burst=25W", "--json")
    )
    assert (stock["id"], stock["label"], stock["state"]) == (1, "stock", "finished")
    assert len(stock["score_slices"]) == 6
    assert stock["errors"] == []
    assert flat["settings"]["burst"] == 25.0
    assert flat["tried"] == {"sustained": 25.0, "burst": 25.0}
    assert data_of(bolt("status", "--json"))["trial"] is None  # --with lasted for the run alone
    rows = data_of(bolt("compare", "1", "2", "--json"))
    assert rows["baseline"] == 1
    assert rows["runs"][1]["percent"]["power_burst_w"] < -20
    assert rows["runs"][0]["percent"]["score"] == 0
    assert data_of(bolt("compare", "1", "--against", "2", "--json"))["baseline"] == 2
    words = bolt("compare", "1", "2").stdout
    assert "Run 2 against run 1:" in words
    assert "Held back by" in words
    listed = data_of(bolt("runs", "--json"))
    assert [run["id"] for run in listed] == [2, 1]
    assert data_of(bolt("runs", "show", "1", "--json")) == stock
    path = tmp_path / "run.csv"
    assert (
        data_of(bolt("runs", "export", "1", "--csv", str(path), "--json"))["rows"]
        == len(path.read_text().splitlines()) - 1
    )
    bolt("runs", "delete", "1")
    assert [run["id"] for run in data_of(bolt("runs", "--json"))] == [2]


def test_a_run_with_settings_of_its_own_waits_for_the_end_of_a_trial(bolt):
    bolt("set", "sustained=25W")
    assert "“keep” or “put-back”" in one_sentence(bolt("run", "steady", "--duration", "10s", "--with", "epp=0"), 2)
    assert data_of(bolt("run", "steady", "--duration", "10s", "--json"))["tried"] == {"sustained": 25.0}


def test_the_real_thing_on_this_computer(bolt):
    run = data_of(bolt("run", "steady", "--duration", "6s", "--json", on="host"))
    assert run["score"] > 50
    assert run["errors"] == []
    known = {sensor["name"] for sensor in data_of(bolt("machine", "--json", on="host"))["sensors"]}
    if "power.package" not in known:
        assert run["power_burst_w"] is None
    if "temperature.package" not in known:
        assert run["temp_max_c"] is None


def start(data, *words, on="twin:tern"):
    command = [sys.executable, "-m", "upright_bolt", "--machine", on, "--data", str(data), *words]
    return subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def wait_for(condition, process):
    def ended_or_done():
        assert process.poll() is None, process.stderr.read()
        return condition()

    until(ended_or_done)


def telemetry_parts(data) -> int:
    import sqlite3

    path = data / "runs.sqlite"
    if not path.exists():
        return 0
    connection = sqlite3.connect(path)
    try:
        return connection.execute("SELECT count(*) FROM telemetry").fetchone()[0]
    except sqlite3.OperationalError:
        return 0
    finally:
        connection.close()


def end(process, number):
    process.send_signal(number)
    out, err = process.communicate(timeout=within(60))
    return subprocess.CompletedProcess([], process.returncode, out, err)


def test_kill_in_the_middle_of_a_run_with_settings_loses_neither_record_nor_safety(bolt, data):
    words = ("run", "steady", "--duration", "6h", "--with", "sustained=25W", "--with", "turbo=off")
    process = start(data, *words)
    wait_for(lambda: telemetry_parts(data) >= 3, process)
    busy = bolt("set", "epp=0")
    assert "in use by the command line (process" in one_sentence(busy, 1)
    assert data_of(bolt("status", "--json"))["trial"]["settings"] == {"sustained": 25.0, "turbo": "off"}
    assert end(process, signal.SIGKILL).returncode == -signal.SIGKILL
    after = bolt("status", "--json")
    assert "outlived its program" in after.stderr
    assert data_of(after)["trial"] is None
    controls = {c["name"]: c["current"] for c in data_of(bolt("machine", "--json"))["controls"]}
    assert (controls["sustained"], controls["turbo"]) == (18.0, "on")
    result = bolt("run", "steady", "--duration", "10s", "--json")
    assert "kept as unfinished" in result.stderr
    partial = data_of(bolt("runs", "show", "1", "--json"))
    assert partial["state"] == "unfinished"
    assert partial["duration_s"] > 10
    assert partial["score"] > 500


def test_stopping_a_real_run_keeps_it_as_stopped(bolt, data):
    process = start(data, "run", "steady", "--duration", "10min", on="host")
    wait_for(lambda: telemetry_parts(data) >= 1, process)
    result = end(process, signal.SIGTERM)
    assert "kept as stopped" in one_sentence(result, 1)
    record = data_of(bolt("runs", "show", "1", "--json"))
    assert (record["state"], record["why"]) == ("stopped", "stopped by the user")
    assert record["score"] > 50


def test_help_names_every_command(bolt):
    words = bolt("--help").stdout
    for command in (
        "machine",
        "sample",
        "set",
        "put-back",
        "keep",
        "status",
        "run",
        "runs",
        "compare",
        "window",
        "demo",
    ):
        assert command in words
    assert bolt("--version").stdout.startswith("upright-bolt ")


@pytest.mark.timeout(500)
@pytest.mark.long
def test_the_demonstration_plays_through_the_window_and_prints_the_comparison(data, tmp_path):
    pictures = tmp_path / "pictures"
    command = [sys.executable, "-m", "upright_bolt", "--data", str(data), "demo", "--play", "--pictures", str(pictures)]
    bare = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
    result = subprocess.run(
        [*command, "--real-seconds", "5"], capture_output=True, text=True, env=bare, check=False, timeout=within(480)
    )
    assert result.returncode == 0, result.stderr
    for words in ("Score", "Held back by", "It peaks cooler although it draws more", "This computer", "Kept until"):
        assert words in result.stdout
    names = {path.stem for path in pictures.glob("*.png")}
    assert names == {
        "machine", "workbench", "workbench-draft", "workbench-result", "compare", "compare-heat", "compare-sweep",
        "edge", "profiles",
    }  # fmt: skip
    assert all(path.stat().st_size > 50_000 for path in pictures.glob("*.png"))
    history = subprocess.run(
        [*command[:5], "--machine", "twin:tern", "edge", "history", "--json"],
        capture_output=True, text=True, env=bare, check=True,
    )  # fmt: skip
    profiles = subprocess.run(
        [*command[:5], "--machine", "twin:tern", "profile", "list", "--json"],
        capture_output=True, text=True, env=bare, check=True,
    )  # fmt: skip
    views = json.loads(profiles.stdout)["profiles"]
    assert [view["profile"]["name"] for view in views] == ["at sea", "night watch", "quay"]
    assert all(view["profile"]["proofs"]["core-offset"]["runs"] and not view["held_back"] for view in views)
    hasty, thorough = json.loads(history.stdout)
    assert hasty["freezes"] == 1
    assert thorough["state"] == "found"
    assert len(thorough["rungs"]) > 10, "what the freeze has shown must not end the next search before it begins"


def test_without_a_display_the_window_says_so(data):
    bare = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
    command = [sys.executable, "-m", "upright_bolt", "--data", str(data), "window"]
    result = subprocess.run(command, capture_output=True, text=True, env=bare, check=False)
    assert "no display" in one_sentence(result, 1)


def test_a_window_told_to_end_puts_its_machine_down_in_order(bolt, data):
    script = (
        "import sys\nfrom upright_bolt.cli import run\n"
        "from upright_bolt.presentation import presenter as p\n"
        "once = p.Presenter.take\n"
        "def take(self, snapshot):\n"
        "    once(self, snapshot)\n"
        "    if self.status.trial is None and not self.draft:\n"
        "        self.draft_values({'sustained': 25.0})\n"
        "        self.try_draft()\n"
        "p.Presenter.take = take\n"
        f"sys.exit(run(['-m', 'twin:tern', '--data', {str(data)!r}, 'window']))"
    )
    process = subprocess.Popen(
        [sys.executable, "-c", script], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=dict(os.environ)
    )
    journal = data / "machines/twin-tern/journal"
    wait_for(lambda: journal.exists() and '"applied"' in journal.read_text(), process)
    assert data_of(bolt("status", "--json"))["trial"]["by"] == "the window"
    assert end(process, signal.SIGTERM).returncode == 0
    status = bolt("status", "--json")
    assert status.stderr == ""
    assert data_of(status)["trial"] is None
    assert '"put back"' in journal.read_text()


@pytest.mark.parametrize(
    "words", [("status",), ("--help",), ("hold", "log"), ("profile", "list"), ("profile", "use", "stock")]
)
def test_light_commands_load_neither_numbers_nor_window(data, words):
    code = (
        "import sys\nfrom upright_bolt.cli import run\n"
        f"code = run(['-m', 'twin:tern', '--data', {str(data)!r}, *{words!r}])\n"
        "heavy = {'numpy', 'scipy', 'PyQt6', 'sqlalchemy', 'alembic', 'pyqtgraph'} & set(sys.modules)\n"
        "sys.exit(f'loaded {heavy}' if heavy else code)"
    )
    subprocess.run([sys.executable, "-c", code], check=True, capture_output=True)


HUGE = "99999999999999999999"
HUGE_NUMBERS = (("runs", "show", HUGE), ("runs", "delete", HUGE), ("compare", "1", "--against", HUGE))


@pytest.mark.parametrize(
    "words", [("runs", "show", HUGE), ("runs", "delete", HUGE), ("compare", "1", "--against", HUGE)]
)
def test_a_run_number_longer_than_any_is_bad_input(bolt, words):
    assert "longer than any run number" in one_sentence(bolt(*words), 2)


def test_a_data_folder_is_named_and_is_a_folder(tmp_path):
    taken = tmp_path / "taken"
    taken.write_text("no folder")
    for given, said in (("", "nothing was given; name a folder"), (str(taken), "is a file; name a folder")):
        done = run_command(["-m", "twin:tern", "--data", given, "runs"], within(60.0))
        assert said in one_sentence(done, 2)


def test_json_may_stand_anywhere_and_errors_are_json_then_too(bolt):
    assert data_of(bolt("--json", "status"))["trial"] is None
    assert data_of(bolt("status", "--json"))["trial"] is None
    for words in (
        ("--json", "run", "steady", "--duration", "long"),
        ("runs", "show", "7", "--json"),
        ("sing", "--json"),
    ):
        done = bolt(*words)
        assert done.stdout == ""
        said = json.loads(done.stderr)
        assert said["code"] == done.returncode > 0
        assert said["error"].endswith((".", "”."))
