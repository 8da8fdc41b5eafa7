"""Every decoder of what may come from a stranger or a damaged disk, with generated and mutated input."""

import asyncio
import gzip
import io
import json
import shutil
import sqlite3
import struct
import tarfile
import time
from contextlib import suppress
from pathlib import Path

import pytest
from hammering import ODD, altered, as_json, fed, hammer, mutated, mutations
from hypothesis import strategies as st
from test_record import Scene

from support import SimulatedSession, fresh_machine
from upright_bolt import checksummed_log as seals
from upright_bolt.analysis.comparison.compare import compare
from upright_bolt.captures import reader
from upright_bolt.captures.archive import collect, write
from upright_bolt.cli.output import print_list, print_run
from upright_bolt.errors import BadInput, BoltError, CorruptData
from upright_bolt.model.catalogue import CATALOGUE
from upright_bolt.model.trial import Trial
from upright_bolt.model.work import Options, check_options, number_in
from upright_bolt.reports.details import details_data, details_of
from upright_bolt.reports.export import export_csv, run_data, runs_table
from upright_bolt.reports.report import export_html
from upright_bolt.sanitize import one_line
from upright_bolt.service import helper, verbs, wire
from upright_bolt.settings import journal as journals
from upright_bolt.settings.journal import Entry, EntryKind, Journal, Stock
from upright_bolt.simulator.machine import SimulatedClock
from upright_bolt.simulator.state import document
from upright_bolt.store.exchange import export_json, import_json
from upright_bolt.store.frame_file import read_frame_times
from upright_bolt.store.runs import RunStore
from upright_bolt.text.events import during_run

ASKED = {"sustained": 25.0, "epp": 96.0}
SHOWN_S = 3.0
"""To show all that can be shown of two runs: a model of the cooling is fitted to each of them twice."""


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    """Good input of every kind, made by running: a journal, a database, an export, a capture, answers on the bus."""
    data = tmp_path_factory.mktemp("good")
    session = SimulatedSession(data)
    session.session.try_settings(ASKED, standing=False)
    session.session.keep()
    session.session.try_settings({"turbo": "off"}, standing=True)
    session.run(40.0, "a")
    session.run(40.0, "b", workload="bursts")
    export_json(session.store, [1, 2], data / "runs.json")
    twin = fresh_machine()
    write(collect(twin.files, twin.registers, SimulatedClock(twin)), data / "c.tar.gz")
    access = session.session.access
    answers = {
        "describe": wire.describe(access.about, None), "controls": wire.controls(access.controls()),
        "status": wire.status(access.status(), 0), "trial": wire.trial(access.status().trial),
    }  # fmt: skip
    (data / "answers.json").write_text(json.dumps(answers))
    session.close()
    return data


def sealed(payload: bytes) -> bytes:
    return seals.sealed(journals.VERSION, payload)


def test_journals_with_anything_done_to_them(made, tmp_path, times, record_property):
    good = (made / "machines/twin-tern/journal").read_bytes()
    path = tmp_path / "journal"

    def check(operations):
        path.write_bytes(mutated(good, operations))
        with suppress(CorruptData):
            Journal(path).read()

    hammer(times(300, 30_000), mutations, check, record_property)


def test_journals_of_sound_lines_that_say_anything(made, tmp_path, times, record_property):
    """The checksum is right, what stands there is not: a start still ends well."""
    lines = (made / "machines/twin-tern/journal").read_bytes().splitlines()
    good = [json.loads(line.split(b" ", 3)[3]) for line in lines]
    scene = Scene(tmp_path / "record")
    boot = scene.start()._memory.boot_id
    scene.die()
    for entry in good:
        for part in (entry, entry["data"] or {}):
            if part.get("boot_id"):
                part["boot_id"] = boot

    def check(operations):
        shutil.rmtree(scene.folder)
        scene.folder.mkdir(mode=0o700)
        entries = altered(good, operations)
        path = scene.folder / "journal"
        path.write_bytes(b"".join(sealed(as_json(entry)) for entry in entries))
        engine = scene.start()
        engine.status()
        if engine.trial is not None:
            with suppress(BoltError):
                engine.revert()
        engine.close()

    hammer(times(40, 3000), mutations, check, record_property)


names = st.sampled_from([*CATALOGUE, "", "no such"])
values = st.one_of(st.floats(), st.text(max_size=30))
settings_of = st.dictionaries(names, values, max_size=4)
texts_of = st.dictionaries(st.text(max_size=40), st.text(max_size=40), max_size=4)
trials = st.builds(Trial, st.text(max_size=12), settings_of, texts_of, settings_of, st.text(max_size=30),
                   st.text(max_size=30), st.booleans(), st.text(max_size=40))  # fmt: skip
entries = st.builds(
    Entry, st.sampled_from(EntryKind), st.text(max_size=12), st.text(max_size=30), st.none() | trials,
    st.text(max_size=40), st.none() | st.builds(Stock, settings_of, texts_of), settings_of, st.text(max_size=30),
    st.lists(st.text(max_size=30), max_size=3).map(tuple),
)  # fmt: skip


def test_journals_made_up(tmp_path, times, record_property):
    path = tmp_path / "journal"

    def check(lines):
        path.write_bytes(b"".join(map(_line, lines)))
        found = Journal(path).read()
        Journal(path).compact()
        assert found.unreadable or Journal(path).read().entries[-1:] == found.entries[-1:]

    hammer(times(200, 12_000), st.lists(entries, max_size=6), check, record_property)


def _line(entry):
    try:
        return Journal(Path("journal")).log.line(entry)
    except UnicodeEncodeError:
        return b"\n"


def test_captures_with_anything_done_to_them(made, tmp_path, times, record_property):
    packed = (made / "c.tar.gz").read_bytes()
    plain = gzip.decompress(packed)[:60_000]
    path = tmp_path / "c.tar.gz"

    def check(case):
        inside, operations = case
        path.write_bytes(gzip.compress(mutated(plain, operations), 1) if inside else mutated(packed, operations))
        with suppress(BoltError):
            for _ in reader.members(path):
                pass

    hammer(times(150, 5000), st.tuples(st.booleans(), mutations), check, record_property)


members = st.lists(
    st.tuples(
        st.text(max_size=60) | st.sampled_from(["sys/a", "sys/a/b", "../x", "/etc/passwd", "dev/cpu/0/msr", "sys"]),
        st.binary(max_size=600), st.sampled_from([b"0", b"5", b"1", b"2", b"3", b"6", b"L", b"x", b"g", b"S"]),
    ),
    max_size=6,
)  # fmt: skip


def test_captures_made_up(tmp_path, times, record_property):
    path = tmp_path / "c.tar.gz"

    def check(listed):
        packed = io.BytesIO()
        with tarfile.open(fileobj=packed, mode="w:gz", compresslevel=1) as archive:
            for name, content, kind in listed:
                entry = tarfile.TarInfo(name)
                entry.size, entry.type, entry.linkname = len(content), kind, name
                with suppress(UnicodeEncodeError, ValueError):
                    archive.addfile(entry, io.BytesIO(content))
        path.write_bytes(packed.getvalue())
        with suppress(BoltError):
            for member in reader.members(path):
                assert member.parts[0] in reader.TOP_FOLDERS
                assert ".." not in member.parts

    hammer(times(150, 5000), members, check, record_property)


def everything_is_shown(store: RunStore, folder, *, report: bool) -> None:
    """Do all that can be done with runs; only sentences may come out."""
    records = store.all()
    with suppress(BoltError):
        print_list(records, as_json=False)
    json.dumps([run_data(record) for record in records], allow_nan=False)
    runs_table(records)
    for record in records:
        with suppress(BoltError):
            print_run(store, record, 85.0, as_json=False)
            json.dumps(details_data(details_of(store, record)), allow_nan=False)
            export_csv(store, record.id, folder / "x.csv")
            during_run(store.events(record.id))
    if records:
        rows = compare(records[:6], records[0], records)
        if report:
            with suppress(BoltError):
                export_html(store, rows, folder / "x.html")
        with suppress(BoltError):
            export_json(store, [record.id for record in records], folder / "x.json")
    for damaged in store.damaged.values():
        assert one_line(damaged) == damaged


@pytest.mark.parametrize("report", [False, True])
def test_imports_with_anything_done_to_them(made, tmp_path, times, record_property, capsys, report):
    good = json.loads((made / "runs.json").read_bytes())
    path = tmp_path / "in.json"
    store = RunStore(tmp_path / "runs.sqlite")

    def check(operations):
        path.write_bytes(as_json(altered(good, operations)))
        try:
            brought = import_json(store, path)
        except BoltError as fault:
            assert one_line(str(fault)) == str(fault)
            return
        everything_is_shown(store, tmp_path, report=report)
        capsys.readouterr()
        assert store.damaged == {}
        for run_id in brought.new:
            store.delete(run_id)

    try:
        if report:  # to draw one takes most of a second by itself
            hammer(times(10, 400), mutations, check, record_property, longest_s=5.0)
        else:
            hammer(times(60, 5000), mutations, check, record_property, longest_s=SHOWN_S)
    finally:
        store.close()


def test_a_run_of_others_with_very_many_changes_is_drawn_in_a_moment(made, tmp_path):
    data = json.loads((made / "runs.json").read_bytes())
    run = data["runs"][0]
    rows = 20_000
    run["telemetry"]["time_s"] = [index * 0.001 for index in range(rows)]
    columns = run["telemetry"]["columns"]
    for name in columns:
        columns[name] = [float(index // 3 % 2) for index in range(rows)]
    data["runs"] = [run]
    path = tmp_path / "in.json"
    path.write_bytes(as_json(data))
    store = RunStore(tmp_path / "runs.sqlite")
    import_json(store, path)
    begun = time.process_time()
    export_html(store, compare(store.all(), store.all()[0], store.all()), tmp_path / "x.html")
    assert time.process_time() - begun < 15.0
    store.close()


def test_imports_of_anything_at_all(made, tmp_path, times, record_property):
    good = (made / "runs.json").read_bytes()[:20_000]
    path = tmp_path / "in.json"
    store = RunStore(tmp_path / "runs.sqlite")

    def check(case):
        raw, operations = case
        path.write_bytes(raw if len(raw) > 3 else mutated(good, operations))
        with suppress(BoltError):
            import_json(store, path)

    try:
        hammer(times(100, 6000), st.tuples(st.binary(max_size=200), mutations), check, record_property)
    finally:
        store.close()


def columns_of(path):
    with sqlite3.connect(path) as database:
        tables = [name for (name,) in database.execute("SELECT name FROM sqlite_master WHERE type='table'")]
        found = {name: [row[1] for row in database.execute(f"PRAGMA table_info({name})")] for name in tables}
    ours = ("runs", "slices", "errors", "events", "telemetry")
    return [(name, column) for name in ours for column in found[name] if column not in ("id", "run_id")]


def test_databases_with_anything_in_a_column(made, tmp_path, times, record_property, capsys):
    path = tmp_path / "runs.sqlite"
    shutil.copy(made / "runs.sqlite", path)
    places = columns_of(path)

    def check(case):
        where, what, raw, operations = case
        table, column = places[where % len(places)]
        shutil.copy(made / "runs.sqlite", path)
        with sqlite3.connect(path) as database:
            (old,) = database.execute(f"SELECT {column} FROM {table}").fetchone() or (None,)
            value = ODD[what % len(ODD)]
            if isinstance(old, bytes):
                value = mutated(old, operations)
            elif isinstance(old, str) and raw:
                value = mutated(old.encode(), operations).decode("utf-8", "replace")
            elif not isinstance(value, str | float | int | None) or (isinstance(value, int) and abs(value) >= 2**63):
                value = raw
            with suppress(sqlite3.IntegrityError, UnicodeEncodeError):
                database.execute(f"UPDATE {table} SET {column} = ?", (value,))
        database.close()
        try:
            store = RunStore(path)
        except BoltError:
            return
        try:
            everything_is_shown(store, tmp_path, report=False)
            capsys.readouterr()
            store.mark_unfinished("twin:tern", "b")
            for run_id in (1, 2):
                store.delete(run_id)
        finally:
            store.close()

    cases = st.tuples(st.integers(0, 999), st.integers(0, 999), st.binary(max_size=20), mutations)
    hammer(times(25, 4000), cases, check, record_property, longest_s=SHOWN_S)


def test_answers_of_a_service_that_says_anything(made, times, record_property):
    answers = json.loads((made / "answers.json").read_text())
    readers = [wire.read_description, wire.read_controls, wire.read_status, wire.read_trial, wire.read_report]

    def check(case):
        which, operations = case
        good = list(answers.values())[which % len(answers)]
        for text in (mutated(good.encode(), operations), as_json(altered(json.loads(good), operations))):
            for read in readers:
                with suppress(BoltError):
                    read(text.decode("utf-8", "replace"))

    hammer(times(150, 8000), st.tuples(st.integers(0, 9), mutations), check, record_property)


variants = st.tuples(st.sampled_from(["d", "s", "i", "as"]), st.floats() | st.text(max_size=80) | st.integers())


def test_settings_of_a_call_that_asks_for_anything(times, record_property):
    def check(asked):
        try:
            settings = verbs.unpack_settings(asked)
        except BadInput:
            return
        assert set(settings) <= set(CATALOGUE)

    asked = st.dictionaries(st.sampled_from(list(CATALOGUE)) | st.text(max_size=150), variants, max_size=5)
    hammer(times(300, 12_000), asked, check, record_property)


def test_bytes_on_the_bus(times, record_property):
    """A connection reads whatever comes: it ends, or hands on messages that are small."""
    body = b"\x05\0\0\0hello\0"
    fields = b"\x01\x01o\0\x02\0\0\0/a\0\0\0\0\0\0\x03\x01s\0\x01\0\0\0A\0\0\0\0\0\0\0\x08\x01g\0\x01s\0\0"
    good = struct.pack("<cBBBIII", b"l", 1, 0, 1, len(body), 1, len(fields)) + fields
    good += b"\0" * (-len(good) % 8) + body

    runner = asyncio.Runner()
    hammer(times(300, 16_000), mutations, lambda ops: runner.run(fed(mutated(good * 3, ops))), record_property)
    runner.close()


def test_questions_to_the_helper(tmp_path, times, record_property):
    scene = Scene(tmp_path / "record")
    engine = scene.start()
    good = b'["Apply", {"sustained": ["d", 25.0]}, false]'

    def check(operations):
        line = mutated(good, operations).decode("utf-8", "replace")
        json.dumps(helper._answer(engine, line))

    hammer(times(100, 4000), mutations, check, record_property)
    engine.close()


def test_frame_files_twins_and_patterns(made, tmp_path, times, record_property):
    twin = (made / "machines/twin-tern/twin.json").read_bytes()
    path = tmp_path / "x"

    def check(case):
        raw, operations, words = case
        path.write_bytes(raw)
        with suppress(BoltError):
            read_frame_times(path, "", "ms")
        path.write_bytes(mutated(twin, operations))
        with suppress(BoltError):
            document(path).load()
        with suppress(BadInput):
            check_options("command", Options(("true",), words))
            number_in("a" * 3000 + "1 2 3", words)

    words = st.text(max_size=30) | st.sampled_from([r"(a+)+$", r"(a|a)*b", r"(.*)*x", r"(?=a)a", r"\d+", "(" * 300])
    hammer(times(100, 6000), st.tuples(st.binary(max_size=300), mutations, words), check, record_property)
