"""Runs on their way out and in: JSON there and back, tables, frame times, a report that needs no network."""

import csv
import json
import re

import numpy as np
import pytest

from support import SimulatedSession
from test_commands import data_of, one_sentence
from upright_bolt.analysis.comparison.compare import compare
from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model.run import Measure
from upright_bolt.model.start import Start
from upright_bolt.reports.export import comparison_table, runs_table
from upright_bolt.reports.report import export_html
from upright_bolt.store.exchange import export_json, import_json
from upright_bolt.store.frame_file import read_frame_times
from upright_bolt.store.runs import RunStore


@pytest.fixture
def pair(on_tern: SimulatedSession):
    """Two runs, the second at a flat limit, with a name that a page must not take for its own."""
    on_tern.run(90.0, "stock", start=Start.RESTED)
    on_tern.session.try_settings({"sustained": 25.0, "burst": 25.0}, standing=False)
    on_tern.run(90.0, "<b>25 W & flat</b>", start=Start.RESTED)
    on_tern.session.revert()
    on_tern.store.annotate(2, "windy", {"noise": Measure(38.5, "dB")})
    return on_tern


@pytest.fixture
def elsewhere(tmp_path):
    store = RunStore(tmp_path / "elsewhere" / "runs.sqlite")
    yield store
    store.close()


def test_runs_come_in_as_they_went_out(pair: SimulatedSession, elsewhere, tmp_path):
    file = tmp_path / "slate.json"
    assert export_json(pair.store, [1, 2], file) == 2
    brought = import_json(elsewhere, file)
    assert (brought.new, brought.known) == ((1, 2), ())
    for run_id in (1, 2):
        mine, its = pair.store.get(run_id), elsewhere.get(run_id)
        assert its.head.machine == "twin:tern@slate"
        assert its.head.settings == mine.head.settings
        assert its.end == mine.end
        assert its.slices == mine.slices
        assert (its.note, its.measures) == (mine.note, mine.measures)
        assert elsewhere.events(run_id) == pair.store.events(run_id)
        (mine_s, mine_c), (its_s, its_c) = pair.store.telemetry(run_id), elsewhere.telemetry(run_id)
        assert np.allclose(mine_s, its_s, atol=1e-3)
        assert all(np.allclose(mine_c[name], its_c[name], rtol=1e-6, equal_nan=True) for name in mine_c)


def test_the_same_run_comes_in_once(pair: SimulatedSession, elsewhere, tmp_path):
    file = tmp_path / "slate.json"
    export_json(pair.store, [1], file)
    import_json(elsewhere, file, "old boat")
    export_json(pair.store, [1, 2], file)
    brought = import_json(elsewhere, file, "old boat")
    assert (brought.new, brought.known) == ((2,), (1,))
    assert elsewhere.get(2).head.machine == "twin:tern@old boat"
    assert import_json(pair.store, file).known == (1, 2)


def broken(text, change):
    data = json.loads(text)
    change(data)
    return json.dumps(data)


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda d: d.update(format="other"), "not a file of runs"),
        (lambda d: d.update(version=3), "not a file of runs"),
        (lambda d: d["runs"][1]["record"].pop("end"), r"runs\.1\.record\.end"),
        (lambda d: d["runs"][1]["telemetry"]["columns"].popitem(), "other columns"),
        (lambda d: d["runs"][1]["telemetry"]["time_s"].pop(), "another length"),
        (lambda d: d["runs"][1]["telemetry"]["time_s"].reverse(), "do not go forward"),
        (lambda d: d["runs"][1]["record"]["head"].update(workload="dance"), "none that this version knows"),
        (lambda d: d["runs"][1]["record"]["end"].update(state="running"), "still in progress"),
        (lambda d: d["runs"][1]["record"]["end"].update(score="high"), "score"),
    ],
)
def test_a_damaged_file_brings_nothing_in(pair: SimulatedSession, elsewhere, tmp_path, change, said):
    file = tmp_path / "slate.json"
    export_json(pair.store, [1, 2], file)
    file.write_text(broken(file.read_text(), change))
    with pytest.raises(BadInput, match=said):
        import_json(elsewhere, file)
    assert elsewhere.all() == []


@pytest.mark.parametrize("content", [b"", b"{", b"\xff\xfe\x00", b"[1, 2]", b"null"])
def test_what_is_no_file_of_runs_is_told(elsewhere, tmp_path, content):
    file = tmp_path / "x.json"
    file.write_bytes(content)
    with pytest.raises(BadInput, match="not a file of runs"):
        import_json(elsewhere, file)


def test_files_that_cannot_be_read_or_written_are_told(pair: SimulatedSession, tmp_path):
    with pytest.raises(BoltError, match="cannot be read"):
        import_json(pair.store, tmp_path / "none.json")
    with pytest.raises(BadInput, match="cannot be the name of a machine"):
        import_json(pair.store, tmp_path / "none.json", "a@b")
    for write in (lambda p: export_json(pair.store, [1], p), lambda p: export_html(pair.store, rows(pair), p)):
        with pytest.raises(BoltError, match="cannot be written"):
            write(tmp_path / "no" / "such" / "folder.x")


def rows(on_tern):
    records = [on_tern.store.get(1), on_tern.store.get(2)]
    return compare(records, records[0], on_tern.store.all())


def test_a_report_stands_by_itself(pair: SimulatedSession, tmp_path):
    page = tmp_path / "report.html"
    export_html(pair.store, rows(pair), page)
    text = page.read_text()
    reached = set(re.findall(r"""(?:href|src|url)\s*[=(]\s*["']?([^"')> ]+)""", text))
    assert all(link.startswith("#") for link in reached), reached
    assert "<script" not in text
    assert "@import" not in text
    assert text.count("<svg") == 2
    assert "<b>25 W" not in text
    assert "&lt;b&gt;25 W &amp; flat&lt;/b&gt;" in text
    told = ("at its peak", "Settings that differ", "noise 38.5 dB", "windy", "sustained limit", "Beside it")
    assert [words for words in (*told, "25 W</td>", "Processor", "never did") if words not in text] == []
    again = tmp_path / "again.html"
    export_html(pair.store, rows(pair), again)
    drawn = [re.findall(r"<svg.*?</svg>", one.read_text(), re.S) for one in (page, again)]
    assert drawn[0] == drawn[1]


def test_a_report_of_a_machine_that_measures_nothing_says_so(bolt, tmp_path):
    bolt("run", "steady", "--duration", "5s", "--threads", "1", on="host")
    page = tmp_path / "one.html"
    bolt("runs", "export", "1", "--html", str(page))
    text = page.read_text()
    assert "there is nothing to compare it with" in text
    assert "not measured" in text or "W</td>" in text


def test_tables_hold_numbers_not_words(pair: SimulatedSession):
    table = runs_table(pair.store.all())
    by_name = dict(zip(table[0], table[1], strict=True))
    assert by_name["id"] == 2
    assert by_name["set_sustained"] == 25.0
    assert isinstance(by_name["score"], float)
    assert by_name["latency_median_ms"] is None
    lines = {line[0]: line for line in comparison_table(rows(pair))}
    parts = ("value", "change", "low", "high", "verdict", "doubt")
    assert lines["number"][2:9] == ["change_unit", *(f"run 1 {part}" for part in parts)]
    assert lines["power_sustained_w"][-2:] == ["higher", ""]
    assert (lines["power_sustained_w"][2], lines["temp_max_c"][2]) == ("%", "°C")


def lines_of(path):
    with open(path, newline="") as file:
        return list(csv.DictReader(file))


def test_the_command_line_carries_runs_out_and_in(bolt, tmp_path):
    for _ in range(2):
        bolt("run", "steady", "--duration", "20s")
    files = [str(tmp_path / name) for name in ("t.csv", "r.json", "r.html", "l.csv", "c.csv")]
    told = data_of(bolt("runs", "export", "1", "--csv", files[0], "--to-json", files[1], "--html", files[2], "--json"))
    assert (told["rows"], told["runs"]) == (len(lines_of(files[0])), [1])
    assert "written to" in bolt("runs", "export", "1", "2", "--to-json", files[1], "--html", files[2]).stdout
    assert bolt("runs", "--csv", files[3]).returncode == 0
    assert bolt("compare", "1", "2", "--csv", files[4]).returncode == 0
    assert [row["id"] for row in lines_of(files[3])] == ["2", "1"]
    assert lines_of(files[4])[0]["number"] == "score"
    assert data_of(bolt("runs", "import", files[1], "--json")) == {"new": [], "known": [1, 2]}
    assert one_sentence(bolt("runs", "export", "1"), 2) == "Say where to: --csv FILE, --to-json FILE or --html FILE."
    assert "one run goes into one" in one_sentence(bolt("runs", "export", "1", "2", "--csv", files[0]), 2)
    assert "no run 9" in one_sentence(bolt("runs", "export", "9", "--to-json", files[1]), 2)
    assert "cannot be read" in one_sentence(bolt("runs", "import", str(tmp_path / "none")), 2)


# frame times of another program


def test_frame_times_are_read_from_a_column_in_any_usual_form(tmp_path):
    for text in (
        "frame;ms;gpu\n1;16,6;3\n2;33,2;4\n",
        "frame\tms\n1\t16.6\n2\t33.2\n",
        "\ufeffframe,ms\n1,16.6\n\n2,33.2\n",
    ):
        file = tmp_path / "frames.csv"
        file.write_text(text)
        assert read_frame_times(file, "ms", "ms") == pytest.approx([0.0166, 0.0332])
    file.write_text("ms\n16.6\n")
    assert read_frame_times(file, "", "ms") == pytest.approx([0.0166])


@pytest.mark.parametrize(
    ("text", "column", "unit", "said"),
    [
        ("a,b\n1,2\n", "c", "ms", "no column “c”; it has: a, b"),
        ("a,b\n1,2\n", "", "ms", "say which column"),
        ("a\nx\n", "a", "ms", "line 2: “x” is not a frame time"),
        ("a\n0\n", "a", "ms", "not a frame time above zero"),
        ("a,b\n1\n", "b", "ms", "“” is not a frame time"),
        ("a\n1\n", "a", "fps", "write s, ms or us"),
        ("", "a", "ms", "it has: none"),
    ],
)
def test_bad_frame_times_name_their_line(tmp_path, text, column, unit, said):
    file = tmp_path / "frames.csv"
    file.write_text(text)
    with pytest.raises(BadInput, match=re.escape(said)):
        read_frame_times(file, column, unit)


def test_frame_times_go_with_a_run_that_watched(bolt, tmp_path):
    file = tmp_path / "frames.csv"
    file.write_text("t,frame time\n" + "\n".join(f"{i},{16.0 if i % 100 else 40.0}" for i in range(1, 1001)) + "\n")
    bolt("run", "watch", "--duration", "10s")
    words = ("runs", "note", "1", "--frame-times", str(file), "--column", "frame time")
    told = data_of(bolt(*words, "--json"))
    assert told["low_1_fps"] == pytest.approx(25.0)
    assert told["rate_fps"] == pytest.approx(1000 / (0.016 * 990 + 0.04 * 10), rel=1e-6)
    assert "1 % low" in bolt("runs", "show", "1").stdout
    bolt("run", "steady", "--duration", "10s")
    assert "only watched" in one_sentence(bolt(*("2" if word == "1" else word for word in words)), 2)
    assert "cannot be read" in one_sentence(bolt("runs", "note", "1", "--frame-times", "/nowhere.csv"), 2)
