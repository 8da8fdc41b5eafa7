"""A profile as the text of its file: TOML in which a person's comments survive every edit by this program."""

from collections.abc import Iterable, Mapping
from datetime import date
from typing import Annotated, Any, Literal

import tomlkit
from pydantic import BaseModel, ConfigDict, Field, ValidationError
from tomlkit.exceptions import ParseError, TOMLKitError

from upright_bolt.errors import BadInput
from upright_bolt.model.catalogue import in_order
from upright_bolt.model.control import Value
from upright_bolt.model.profile import LONGEST_NOTE, MOST_BYTES, Profile, Proof, check_name, is_voltage
from upright_bolt.plain_text import one_line, small
from upright_bolt.profiles.keys import key_of, name_of, plain_of, value_of

FORMAT = "upright-bolt profile"
VERSION = 1
MOST_RUNS = 200
_Seconds = Annotated[float, Field(ge=0.0, le=1e9)]
_Word = Annotated[str, Field(max_length=200)]


class _Proof(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)
    value: Annotated[float, Field(ge=-1e6, le=1e6)]
    chip: _Word
    load_s: _Seconds
    all_loads_s: _Seconds = 0.0
    runs: Annotated[list[Annotated[int, Field(ge=0, le=1 << 53)]], Field(max_length=MOST_RUNS)] = []
    on: date | None = None


class _File(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)
    format: Literal["upright-bolt profile"]
    version: Literal[1]
    note: Annotated[str, Field(max_length=LONGEST_NOTE)] = ""
    settings: Annotated[dict[str, Any], Field(max_length=200)]
    proof: dict[str, _Proof] = {}


def profile_of(name: str, text: str) -> Profile:
    """Return the profile of a file's text.

    Args:
        name: the profile's name, which is the file's.
        text: what the file holds.

    Raises:
        BadInput: one sentence for each fault with its line, all at once.
    """
    name = check_name(name)
    plain = _parsed(text)
    if plain.get("format") == FORMAT and isinstance(plain.get("version"), int) and plain["version"] > VERSION:
        raise BadInput("It was written by a newer version of this program.")
    faults: list[tuple[int, str]] = []
    checked: _File | None = None
    try:
        checked = _File.model_validate(plain)
    except ValidationError as fault:
        faults += [_fault(text, each["loc"], each["type"], each["msg"]) for each in fault.errors()]
    given = plain.get("settings")
    settings = _settings(text, given if isinstance(given, dict) else {}, faults)
    proofs = _proofs(text, checked.proof if checked else {}, faults)
    if faults or checked is None:
        said = dict.fromkeys(f"line {line}: {words}" if line else words for line, words in sorted(faults))
        raise BadInput(" ".join(one_line(each) for each in said))
    return Profile(name, settings, {n: p for n, p in proofs.items() if n in settings}, checked.note)


def _parsed(text: str) -> dict[str, Any]:
    if len(text) > MOST_BYTES:
        raise BadInput(f"It has {len(text):,} characters; a profile has at most {MOST_BYTES:,}.")
    if text and not text.endswith("\n"):
        raise BadInput(f"line {len(text.splitlines())}: the last line has no end; the file seems to be cut off.")
    try:
        plain: dict[str, Any] = tomlkit.parse(text).unwrap()
    except ParseError as fault:
        raise BadInput(f"line {fault.line}: it is not TOML: {_plainly(str(fault))}") from fault
    except (TOMLKitError, ValueError, RecursionError, TypeError, AttributeError, KeyError, IndexError) as fault:
        raise BadInput(f"It is not TOML: {_plainly(str(fault))}") from fault
    return plain


def _plainly(words: str) -> str:
    return words.partition(" at line ")[0].rstrip(".")[:120] + "."


_MEANT = {
    ("format",): f"“format” is “{FORMAT}” in every profile.",
    ("version",): f"“version” is a whole number; this program reads version {VERSION}.",
    ("note",): f"“note” is a text of at most {LONGEST_NOTE} characters.",
    ("settings",): "the table [settings] is missing, or holds no settings.",
}


def _fault(text: str, place: tuple[int | str, ...], kind: str, said: str) -> tuple[int, str]:
    """Return line and sentence of what does not fit the form of a profile."""
    words = tuple(str(part) for part in place)
    line = line_of(text, words)
    if kind == "extra_forbidden":
        return line, f"“{words[-1][:64]}” is no key of a profile."
    if words in _MEANT:
        return line, _MEANT[words]
    return line, f"“{'.'.join(words)[:80]}”: {small(said)}."


def _settings(text: str, plain: Mapping[str, object], faults: list[tuple[int, str]]) -> dict[str, Value]:
    found: dict[str, Value] = {}
    for key, value in _flat(plain):
        try:
            name = name_of(key)
            found[name] = _lowered_only(key, name, value_of(name, value))
        except BadInput as fault:
            faults.append((line_of(text, ("settings", key)), str(fault)))
    return {name: found[name] for name in in_order(found)}


def _lowered_only(key: str, name: str, value: Value) -> Value:
    if isinstance(value, float) and is_voltage(name) and value > 0.0:
        raise BadInput(f"{key}: {value:g} would raise the voltage; only 0 and below are accepted.")
    return value


def _flat(plain: Mapping[str, object]) -> Iterable[tuple[str, object]]:
    """Yield keys and values; a table below is a part of the machine with its own settings."""
    for key, value in plain.items():
        if isinstance(value, dict):
            yield from ((f"{key}.{own}", inner) for own, inner in value.items())
        else:
            yield key, value


def _proofs(text: str, found: Mapping[str, _Proof], faults: list[tuple[int, str]]) -> dict[str, Proof]:
    proofs = {}
    for key, proof in found.items():
        try:
            on = proof.on.isoformat() if proof.on else ""
            proofs[name_of(key)] = Proof(
                proof.value, one_line(proof.chip), proof.load_s, proof.all_loads_s, tuple(proof.runs), on
            )
        except BadInput as fault:
            faults.append((line_of(text, ("proof", key)), str(fault)))
    return proofs


def line_of(text: str, place: tuple[str, ...]) -> int:
    """Return the line on which a key stands, counted from 1; of what is missing, 0."""
    table: tuple[str, ...] = ()
    for number, line in enumerate(text.splitlines(), start=1):
        words = line.strip()
        if words.startswith("["):
            table = tuple(part.strip().strip('"') for part in words.partition("#")[0].strip().strip("[]").split("."))
            if table == place:
                return number
            continue
        key = words.partition("=")[0].strip().strip('"')
        if (*table, *key.split(".")) == place or (*table, key) == place:
            return number
    return 0


def text_of(profile: Profile, earlier: str = "") -> str:
    """Return a profile as a file's text.

    Args:
        profile: the profile.
        earlier: the text to be changed, whose comments and order stay; empty for a new one.
    """
    document = tomlkit.parse(earlier) if earlier else _new()
    if profile.note or "note" in document:
        document["note"] = profile.note
    _put(document, "settings", {key_of(n): plain_of(n, profile.settings[n]) for n in in_order(profile.settings)})
    proofs = {key_of(name): _plain_proof(proof) for name, proof in profile.proofs.items()}
    if proofs or "proof" in document:
        _put(document, "proof", proofs)
    return tomlkit.dumps(document)


def _new() -> tomlkit.TOMLDocument:
    document = tomlkit.document()
    document["format"] = FORMAT
    document["version"] = VERSION
    return document


def _plain_proof(proof: Proof) -> dict[str, object]:
    plain: dict[str, object] = {
        "value": proof.value, "chip": proof.chip, "load_s": round(proof.load_s, 1),
        "all_loads_s": round(proof.all_loads_s, 1), "runs": list(proof.runs[-MOST_RUNS:]),
    }  # fmt: skip
    return plain | ({"on": date.fromisoformat(proof.on)} if proof.on else {})


def _put(document: tomlkit.TOMLDocument, name: str, wanted: Mapping[str, object]) -> None:
    """Make a table hold what is wanted, touching only what differs."""
    if name not in document:
        document[name] = tomlkit.table()
    table: Any = document[name]
    present = table.unwrap()
    for key in [key for key in present if key not in wanted]:
        table.remove(key)
    for key, value in wanted.items():
        if key not in present or present[key] != value:
            table[key] = value
