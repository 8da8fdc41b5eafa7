"""JsonCodec data in files: what goes in comes out, what is damaged is named, what is older is brought up."""

import json
import os
from contextlib import suppress
from dataclasses import dataclass, field

import pytest
from hypothesis import given
from hypothesis import strategies as st

from upright_bolt.disk import Document, JsonCodec, write_atomically
from upright_bolt.errors import BoltError, CorruptData


@dataclass(frozen=True)
class Buoy:
    name: str
    depth_m: float
    marks: dict[str, float | str] = field(default_factory=dict)


def buoys(path, version=2):
    return Document(path, "buoys", version, JsonCodec(tuple[Buoy, ...]))


def checked(version, data):
    """Return the bytes of a file with a sound checksum, whatever its data is."""
    check = buoys(None)._check(version, data)
    return json.dumps({"format": "buoys", "version": version, "check": check, "data": data}).encode()


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
        (b'[{"name": "Skate"}]', "holds no object"),
        (b'{"Skate": 7.5}', "does not say what it holds"),
        (json.dumps({"format": "charts", "version": 1, "data": []}).encode(), "holds “charts” where buoys"),
        (json.dumps({"format": "buoys", "version": 3, "data": []}).encode(), "newer version"),
        (json.dumps({"format": "buoys", "version": 2, "data": []}).encode(), "its checksum is not that"),
        (checked(2, [{"name": "a"}]), r"\[0\]: .* field depth_m"),
        (checked(2, [{"name": 1, "depth_m": 2}]), r"\[0\]\.name"),
        (checked(2, [{"name": "a", "depth_m": 2, "colour": "red"}]), "unknown key “colour”"),
    ],
)
def test_what_a_file_should_not_hold_is_named(tmp_path, content, said):
    path = tmp_path / "buoys.json"
    path.write_bytes(content)
    with pytest.raises(CorruptData, match=said):
        buoys(path).load()


def test_an_earlier_version_is_read(tmp_path):
    path = tmp_path / "buoys.json"
    path.write_bytes(checked(1, [{"name": "Skate", "depth_m": 7.5}]))
    assert buoys(path).load() == (Buoy("Skate", 7.5),)


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


def test_json_that_is_nested_too_deeply_is_damaged_and_no_end_of_the_program():
    for text in ("[" * 200_000, '{"a":' * 100_000):
        with pytest.raises(CorruptData):
            JsonCodec(dict[str, object]).from_text(text)


@given(made, st.data())
def test_a_flipped_bit_is_damage_or_changes_nothing(tmp_path_factory, held, data):
    document = buoys(tmp_path_factory.mktemp("d") / "buoys.json")
    document.save(held)
    content = bytearray(document.path.read_bytes())
    bit = data.draw(st.integers(0, 8 * len(content) - 1))
    content[bit // 8] ^= 1 << bit % 8
    document.path.write_bytes(content)
    with suppress(CorruptData):
        assert document.load() == held
