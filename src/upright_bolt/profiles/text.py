"""A profile as the text of its file: TOML in which a person's comments survive every edit by this program."""

import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import date
from hashlib import blake2b
from itertools import islice
from typing import Annotated, Any, Literal

import tomlkit
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from upright_bolt.disk import bounded
from upright_bolt.errors import BadInput, CorruptData
from upright_bolt.model.catalogue import CATALOGUE, PART_MARK, declaration_of, in_order
from upright_bolt.model.control import NONE, Value, parts_of
from upright_bolt.model.declaration import Declaration, Kind
from upright_bolt.model.profile import LONGEST_NOTE, MOST_BYTES, Profile, Proof, check_name, is_voltage
from upright_bolt.model.settings import settings_from_data
from upright_bolt.sanitize import one_line, small

UNITS = {"°C": "c", "%": "percent"}


def unit_of(declared: Declaration) -> str:
    """Return the unit of a control as it ends its key; empty for words and plain numbers."""
    unit = declared.quantity.unit
    return UNITS.get(unit, unit.lower())


def key_of(name: str) -> str:
    """Return the key of a control: ``core_offset_mv``, ``gpu1.power_limit_w``."""
    part, mark, own = name.rpartition(PART_MARK)
    unit = unit_of(declaration_of(name))
    return f"{part}{mark}{own.replace('-', '_')}{f'_{unit}' if unit else ''}"


def name_of(key: str) -> str:
    """Return the control of a key.

    Raises:
        BadInput: there is none; the sentence names the key that was meant, if one is near.
    """
    part, mark, own = key.rpartition(PART_MARK)
    keys = {key_of(name if not d.of_part else f"x{PART_MARK}{name}").rpartition(PART_MARK)[2]: name
            for name, d in CATALOGUE.items()}  # fmt: skip
    found = keys.get(own)
    if found is not None and CATALOGUE[found].of_part == bool(part):
        return f"{part}{mark}{found}"
    near = next((known for known in keys if known.startswith(own.partition("_")[0])), "")
    raise BadInput(f"{key[:64]} is no setting." + (f" Did you mean {near}?" if near else ""))


def plain_of(name: str, value: Value) -> object:
    """Return a value as it stands in a file."""
    kind = declaration_of(name).kind
    if kind is Kind.LIST:
        return parts_of(str(value))
    if kind is Kind.TABLE:
        return [float(part) for part in parts_of(str(value))]
    return value


def value_of(name: str, plain: object) -> Value:
    """Return the value that stands in a file. Raises BadInput."""
    if isinstance(plain, list):
        if declaration_of(name).kind not in (Kind.LIST, Kind.TABLE):
            raise BadInput("a list was given where one value is meant.")
        words = [f"{part:g}" if isinstance(part, float | int) else str(part) for part in plain]
        plain = ",".join(words) or NONE
    return settings_from_data({name: plain})[name]


FORMAT = "upright-bolt profile"
VERSION = 1
MOST_RUNS = 200
MOST_FAULTS = 20
"""So many faults of a file are named; more would not be read."""
MOST_SETTINGS = 200
MOST_DOTS = 40
"""A key of thousands of parts takes the reader of TOML most of a second."""
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
    check: _Word = ""


class _File(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)
    format: Literal["upright-bolt profile"]
    version: Literal[1]
    note: Annotated[str, Field(max_length=LONGEST_NOTE)] = ""
    settings: Annotated[dict[str, Any], Field(max_length=MOST_SETTINGS)]
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
    lines = _lines(text)
    faults: list[tuple[int, str]] = []
    checked: _File | None = None
    try:
        checked = _File.model_validate(plain)
    except ValidationError as fault:
        faults += [_fault(lines, each["loc"], each["type"], each["msg"]) for each in fault.errors()[:MOST_FAULTS]]
    given = plain.get("settings")
    settings = _settings(lines, given if isinstance(given, dict) else {}, faults)
    proofs = _proofs(lines, checked.proof if checked else {}, faults)
    if faults or checked is None:
        raise BadInput(_all(faults))
    profile = Profile(name, settings, {n: p for n, p in proofs.items() if n in settings}, checked.note)
    try:
        bounded(profile)
    except CorruptData as fault:
        raise BadInput(f"It holds what no profile can: {fault}.") from fault
    return profile


def _all(faults: list[tuple[int, str]]) -> str:
    """Return the sentences of all faults, as far as a person would read them."""
    said = list(dict.fromkeys(f"line {line}: {words}" if line else words for line, words in sorted(faults)))
    more = [f"There are {len(said) - MOST_FAULTS} more faults."] if len(said) > MOST_FAULTS else []
    return " ".join([*(one_line(each) for each in said[:MOST_FAULTS]), *more])


def _parsed(text: str) -> dict[str, Any]:
    if len(text) > MOST_BYTES:
        raise BadInput(f"It has {len(text):,} characters; a profile has at most {MOST_BYTES:,}.")
    if text and not text.endswith("\n"):
        raise BadInput(f"line {len(text.splitlines())}: the last line has no end; the file seems to be cut off.")
    for number, line in enumerate(text.splitlines(), start=1):
        if line.partition("=")[0].count(".") > MOST_DOTS and ("=" in line or line.startswith("[")):
            raise BadInput(f"line {number}: a key has more parts than any key of a profile.")
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as fault:
        said, _, place = str(fault).rpartition(" (at ")
        line = place.partition(",")[0].removeprefix("line ")
        where = f"line {line}: it" if line.isdecimal() else "It"
        raise BadInput(f"{where} is not TOML: {small(said or str(fault)).rstrip('.')[:120]}.") from fault
    except (ValueError, RecursionError) as fault:
        raise BadInput(f"It is not TOML: {str(fault)[:120].rstrip('.')}.") from fault


_MEANT = {
    ("format",): f"“format” is “{FORMAT}” in every profile.",
    ("version",): f"“version” is a whole number; this program reads version {VERSION}.",
    ("note",): f"“note” is a text of at most {LONGEST_NOTE} characters.",
    ("settings",): "the table [settings] is missing, or holds no settings.",
}


def _fault(lines: "_Lines", place: tuple[int | str, ...], kind: str, said: str) -> tuple[int, str]:
    """Return line and sentence of what does not fit the form of a profile."""
    words = tuple(str(part) for part in place)
    line = lines.get(words, 0)
    if kind == "extra_forbidden":
        return line, f"“{words[-1][:64]}” is no key of a profile."
    if words in _MEANT:
        return line, _MEANT[words]
    return line, f"“{'.'.join(words)[:80]}”: {small(said)}."


def _settings(lines: "_Lines", plain: Mapping[str, object], faults: list[tuple[int, str]]) -> dict[str, Value]:
    found: dict[str, Value] = {}
    for key, value in islice(_flat(plain), MOST_SETTINGS):
        try:
            name = name_of(key)
            found[name] = _lowered_only(key, name, value_of(name, value))
        except BadInput as fault:
            faults.append((lines.get(("settings", *key.split(".")), 0), str(fault)))
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


def _proofs(lines: "_Lines", found: Mapping[str, _Proof], faults: list[tuple[int, str]]) -> dict[str, Proof]:
    proofs = {}
    for key, proof in found.items():
        try:
            if proof.check:  # without one it was written by hand, and validates nothing
                proofs[name_of(key)] = _unchanged(key, proof)
        except BadInput as fault:
            faults.append((lines.get(("proof", key), 0), str(fault)))
    return proofs


def _unchanged(key: str, proof: _Proof) -> Proof:
    """Return evidence as it was written. Raises BadInput if it has changed since."""
    on = proof.on.isoformat() if proof.on else ""
    found = Proof(proof.value, one_line(proof.chip), proof.load_s, proof.all_loads_s, tuple(proof.runs), on)
    if proof.check != _check_of(name_of(key), found):
        raise BadInput(f"[proof.{key}] has changed since this program wrote it; delete that table.")
    return found


_Lines = Mapping[tuple[str, ...], int]


def line_of(text: str, place: tuple[str, ...]) -> int:
    """Return the line on which a key stands, counted from 1; of what is missing, 0."""
    return _lines(text).get(tuple(part for word in place for part in word.split(".")), 0)


def _lines(text: str) -> _Lines:
    """Return the line of every key and table, counted from 1."""
    found: dict[tuple[str, ...], int] = {}
    table: tuple[str, ...] = ()
    for number, line in enumerate(text.splitlines(), start=1):
        words = line.strip()
        if words.startswith("["):
            table = tuple(part.strip().strip('"') for part in words.partition("#")[0].strip().strip("[]").split("."))
            found.setdefault(table, number)
        elif "=" in words:
            key = words.partition("=")[0].strip().strip('"')
            found.setdefault((*table, *key.split(".")), number)
    return found


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
    proofs = {key_of(name): _plain_proof(name, proof) for name, proof in profile.proofs.items()}
    if proofs or "proof" in document:
        _put(document, "proof", proofs)
    return tomlkit.dumps(document)


def _new() -> tomlkit.TOMLDocument:
    document = tomlkit.document()
    document["format"] = FORMAT
    document["version"] = VERSION
    return document


def _plain_proof(name: str, proof: Proof) -> dict[str, object]:
    written = replace(
        proof, chip=one_line(proof.chip), load_s=round(proof.load_s, 1), all_loads_s=round(proof.all_loads_s, 1),
        runs=proof.runs[-MOST_RUNS:],
    )  # fmt: skip
    plain: dict[str, object] = {
        "value": written.value, "chip": written.chip, "load_s": written.load_s,
        "all_loads_s": written.all_loads_s, "runs": list(written.runs),
    }  # fmt: skip
    on = {"on": date.fromisoformat(written.on)} if written.on else {}
    return plain | on | {"check": _check_of(name, written)}


def _check_of(name: str, proof: Proof) -> str:
    """Return the checksum of what is written of evidence: a flipped bit must not validate another value."""
    parts = [name, float(proof.value), proof.chip, float(proof.load_s), float(proof.all_loads_s), *proof.runs, proof.on]
    return blake2b(repr(parts).encode(errors="surrogatepass"), digest_size=8).hexdigest()


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
