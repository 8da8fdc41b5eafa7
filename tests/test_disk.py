"""Typed data in files: what goes in comes out, what is damaged is named, what is older is brought up."""

import json
import os
from dataclasses import dataclass, field

import pytest
from hypothesis import given
from hypothesis import strategies as st

from upright_bolt.disk import Document, Typed, write_atomically
from upright_bolt.errors import BoltError, Damaged
from upright_bolt.model.trial import Trial
from upright_bolt.settings.journal import COMPACT_BYTES, KEPT_ENTRIES, Entry, EntryKind, Journal


@dataclass(frozen=True)
class Buoy:
    name: str
    depth_m: float
    marks: dict[str, float | str] = field(default_factory=dict)


def buoys(path, version=2, upgrade=None):
    return Document(path, "buoys", version, Typed(tuple[Buoy, ...]), upgrade=upgrade)


words = st.text(max_size=20)
values = st.dictionaries(words, st.one_of(words, st.floats(allow_nan=False, allow_infinity=False)), max_size=4)
made = st.lists(st.builds(Buoy, words, st.floats(0, 1e4), values), max_size=5).map(tuple)


@given(made)
def test_what_goes_in_comes_out(tmp_path_factory, held):
    document = buoys(tmp_path_factory.mktemp("d") / "buoys.json")
    document.save(held)
    assert document.load() == held


def test_no_file_is_no_value(tmp_path):
    assert buoys(tmp_path / "none.json").load() is None


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"", "cannot be read"),
        (b"\xff\x00", "cannot be read"),
        (b"[]", "holds no object"),
        (json.dumps({"format": "charts", "version": 1, "data": []}).encode(), "holds “charts” where buoys"),
        (json.dumps({"format": "buoys", "version": 3, "data": []}).encode(), "newer version"),
        (json.dumps({"format": "buoys", "version": 2, "data": [{"name": "a"}]}).encode(), "at 0.depth_m"),
        (json.dumps({"format": "buoys", "version": 2, "data": [{"name": 1, "depth_m": 2}]}).encode(), "at 0.name"),
    ],
)
def test_what_a_file_should_not_hold_is_named(tmp_path, content, said):
    path = tmp_path / "buoys.json"
    path.write_bytes(content)
    with pytest.raises(Damaged, match=said):
        buoys(path).load()


def test_an_earlier_form_is_brought_up(tmp_path):
    path = tmp_path / "buoys.json"
    seen = []

    def upgrade(version, data):
        seen.append(version)
        return [{"name": name, "depth_m": depth} for name, depth in data.items()]

    path.write_text(json.dumps({"Mew Rock": 4.0}))  # from before files had versions
    assert buoys(path, upgrade=upgrade).load() == (Buoy("Mew Rock", 4.0),)
    path.write_text(json.dumps({"format": "buoys", "version": 1, "data": {"Skate": 7.5}}))
    assert buoys(path, upgrade=upgrade).load() == (Buoy("Skate", 7.5),)
    assert seen == [0, 1]


def test_a_write_that_fails_leaves_the_old_content_and_no_rubbish(tmp_path, monkeypatch):
    path = tmp_path / "x"
    write_atomically(path, b"old")

    def full(_source, _target):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "replace", full)
    with pytest.raises(BoltError, match="No space left"):
        write_atomically(path, b"new")
    assert path.read_bytes() == b"old"
    assert [entry.name for entry in tmp_path.iterdir()] == ["x"]


def test_modes_are_set_and_not_inherited(tmp_path):
    before = os.umask(0o077)
    try:
        write_atomically(tmp_path / "x", b"1")
    finally:
        os.umask(before)
    assert (tmp_path / "x").stat().st_mode & 0o777 == 0o644


def trial(name):
    texts = {f"/sys/{i}": "1" * 40 for i in range(20)}
    return Trial(name, {"epp": 96.0}, texts, {"epp": 128.0}, "2026-04-06T06:02:00+00:00", "a test", True, "b")


def test_a_journal_that_has_grown_is_compacted_and_its_open_trial_stays(tmp_path):
    path = tmp_path / "journal.jsonl"
    journal = Journal(path)
    journal.begin(trial("open"), "now")
    journal.append(Entry(EntryKind.APPLIED, "open", "now"))
    journal.compact()
    assert len(journal.entries()) == 2  # short as it is, nothing is left out
    closed = tmp_path / "closed.jsonl"
    long = Journal(closed)
    while not closed.exists() or closed.stat().st_size <= COMPACT_BYTES:
        with closed.open("a") as file:  # as ``append`` writes, without waiting for the disk each time
            for i in range(50):
                for entry in (
                    Entry(EntryKind.BEGIN, f"t{i}", "now", trial(f"t{i}")),
                    Entry(EntryKind.KEPT, f"t{i}", ""),
                ):
                    file.write(Typed(Entry).text(entry) + "\n")
    long.begin(trial("open"), "now")
    long.append(Entry(EntryKind.APPLIED, "open", "now"))
    long.compact()
    assert closed.stat().st_size < COMPACT_BYTES
    assert json.loads(closed.read_text().splitlines()[0]) == {"format": "upright-bolt journal", "version": 2}
    assert len(long.entries()) == KEPT_ENTRIES
    assert long.open_trial() == (trial("open"), True)


def test_a_journal_of_a_newer_version_is_left_alone(tmp_path):
    path = tmp_path / "journal.jsonl"
    path.write_text('{"format": "upright-bolt journal", "version": 9}\n')
    with pytest.raises(Damaged, match="newer version"):
        Journal(path).open_trial()


@pytest.mark.parametrize("version", ["nine", None, [1], {"a": 1}])
def test_a_journal_whose_head_is_damaged_still_tells_of_its_trial(tmp_path, version):
    path = tmp_path / "journal.jsonl"
    path.write_text(json.dumps({"format": "upright-bolt journal", "version": version}) + "\n")
    journal = Journal(path)
    journal.begin(trial("t"), "now")
    assert journal.open_trial() == (trial("t"), False)


def test_a_journal_from_before_versions_is_read(tmp_path):
    path = tmp_path / "journal.jsonl"
    path.write_text(Typed(Entry).text(Entry(EntryKind.BEGIN, "t", "now", trial("t"))) + "\n")
    assert Journal(path).open_trial() == (trial("t"), False)
