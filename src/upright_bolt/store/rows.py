"""Between records and the database's rows. What has no table of its own is kept as JSON, checked when it is read."""

import zlib
from collections.abc import Sequence
from dataclasses import fields
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import RowMapping

from upright_bolt.disk import JsonCodec
from upright_bolt.errors import CorruptData
from upright_bolt.model.control import Value
from upright_bolt.model.event import Event
from upright_bolt.model.run import (
    Conditions,
    Measure,
    RunEnd,
    RunHead,
    RunNumbers,
    RunRecord,
    RunRole,
    RunState,
    Slice,
    WorkError,
)
from upright_bolt.model.work import Options
from upright_bolt.store.checks import MOST_ROWS, check_record
from upright_bolt.store.seals import check_seal

T = TypeVar("T")
_SETTINGS: JsonCodec[dict[str, Value]] = JsonCodec(dict[str, Value])
_IDENTITY: JsonCodec[dict[str, Any]] = JsonCodec(dict[str, Any])
_CONDITIONS: JsonCodec[Conditions] = JsonCodec(Conditions)
_COLUMNS: JsonCodec[tuple[str, ...]] = JsonCodec(tuple[str, ...])
_NUMBERS: JsonCodec[RunNumbers] = JsonCodec(RunNumbers)
_OPTIONS: JsonCodec[Options] = JsonCodec(Options)
_MEASURES: JsonCodec[dict[str, Measure]] = JsonCodec(dict[str, Measure])
_EVENT: JsonCodec[Event] = JsonCodec(Event)


def of_head(head: RunHead) -> dict[str, Any]:
    """Return the columns of a run that begins."""
    return {
        "machine": head.machine,
        "workload": head.workload,
        "label": head.label,
        "started_at": head.started_at,
        "asked_s": head.asked_s,
        "identity": _IDENTITY.text(head.identity),
        "settings": _SETTINGS.text(head.settings),
        "tried": _SETTINGS.text(head.tried),
        "conditions": of_conditions(head.conditions),
        "columns": _COLUMNS.text(head.columns),
        "state": RunState.RUNNING.value,
        "why": "",
        "duration_s": 0.0,
        "numbers": of_numbers(RunNumbers()),
        "series": head.series,
        "options": _OPTIONS.text(head.options),
        "key": head.key,
        "boot_id": head.boot_id,
        "role": head.role.value,
    }


def of_end(end: RunEnd) -> dict[str, Any]:
    """Return the columns of how a run ended."""
    return {
        "state": end.state.value,
        "why": end.why,
        "duration_s": end.duration_s,
        "score": end.score,
        "numbers": of_numbers(end.numbers),
    }


def of_notes(record: RunRecord) -> dict[str, Any]:
    """Return the columns of what a person added."""
    return {"note": record.note, "measures": of_measures(record.measures)}


def of_conditions(conditions: Conditions) -> str:
    """Return conditions as a column's text."""
    return _CONDITIONS.text(conditions)


def of_numbers(numbers: RunNumbers) -> str:
    """Return a run's numbers as a column's text."""
    return _NUMBERS.text(numbers)


def of_measures(measures: dict[str, Measure]) -> str:
    """Return measures taken by hand as a column's text."""
    return _MEASURES.text(measures)


def of_event(event: Event) -> dict[str, Any]:
    """Return the columns of an event."""
    return {"time_s": event.time_s, "kind": event.kind, "text": "", "data": _EVENT.text(event)}


def event_of(row: RowMapping) -> Event:
    """Return the event of a row. Raises CorruptData."""
    return _EVENT.from_text(row["data"])


def columns_of(text: str) -> tuple[str, ...]:
    """Return the names of telemetry columns from a column's text. Raises CorruptData."""
    return _COLUMNS.from_text(text)


def record_of(row: RowMapping, slices: Sequence[RowMapping], errors: Sequence[RowMapping]) -> RunRecord:
    """Return the record of a row, with the rows of its slices and errors. Raises CorruptData."""
    # The seal first: what was changed outside of this program is refused as such, whatever it holds.
    check_seal(row, slices, errors)
    try:
        record = _record_of(row, slices, errors)
    except (TypeError, ValueError, KeyError) as fault:
        raise CorruptData(f"a column holds something else: {str(fault)[:80]}") from fault
    check_record(record)
    return record


def _column(row: RowMapping, name: str, form: JsonCodec[T]) -> T:
    """Return what a column holds as JSON. Raises CorruptData."""
    try:
        return form.from_text(row[name])
    except CorruptData as fault:
        raise CorruptData(f"{name}: {fault}") from fault


def _record_of(row: RowMapping, slices: Sequence[RowMapping], errors: Sequence[RowMapping]) -> RunRecord:
    head = RunHead(
        machine=row["machine"],
        identity=_column(row, "identity", _IDENTITY),
        workload=row["workload"],
        label=row["label"],
        asked_s=row["asked_s"],
        settings=_column(row, "settings", _SETTINGS),
        tried=_column(row, "tried", _SETTINGS),
        conditions=_column(row, "conditions", _CONDITIONS),
        started_at=row["started_at"],
        columns=columns_of(row["columns"]),
        series=row["series"],
        options=_column(row, "options", _OPTIONS),
        key=row["key"],
        boot_id=row["boot_id"],
        role=RunRole(row["role"]),
    )
    numbers = _column(row, "numbers", _NUMBERS)
    return RunRecord(
        int(row["id"]),
        head,
        RunEnd(RunState(row["state"]), row["why"], row["duration_s"], row["score"], numbers),
        tuple(Slice(s["from_s"], s["to_s"], s["units"], s["score"]) for s in slices),
        tuple(WorkError(**{field.name: e[field.name] for field in fields(WorkError)}) for e in errors),
        row["note"],
        _column(row, "measures", _MEASURES),
    )


def packed(table: list[list[float]]) -> dict[str, Any]:
    """Return telemetry rows as the columns of one part."""
    # Level 1: higher ones take several times as long for a few per cent, while a run goes on.
    return {"rows": len(table), "data": zlib.compress(np.asarray(table, dtype="<f8").tobytes(), 1)}


def unpacked(parts: Sequence[RowMapping], width: int) -> NDArray[np.float64]:
    """Return the rows of several parts, shape (n, width). Raises CorruptData."""
    tables = [_unpacked_part(part["rows"], part["data"], width) for part in parts]
    if sum(len(table) for table in tables) > MOST_ROWS:
        raise CorruptData("too many rows of telemetry")
    return np.concatenate(tables) if tables else np.empty((0, width))


def _unpacked_part(rows: object, data: object, width: int) -> NDArray[np.float64]:
    if not isinstance(rows, int) or not isinstance(data, bytes) or not 0 <= rows <= MOST_ROWS:
        raise CorruptData("a part of its telemetry is no table")
    size = rows * width * 8
    opener = zlib.decompressobj()
    try:
        flat = opener.decompress(data, size + 1)  # no more than it says: a few bytes can stand for gigabytes
    except zlib.error as fault:
        raise CorruptData("a part of its telemetry cannot be unpacked") from fault
    # Something left over is as wrong as something missing: the part is then not what was written.
    if len(flat) != size or not opener.eof:
        raise CorruptData("a part of its telemetry is longer or shorter than it says")
    return np.frombuffer(flat, dtype="<f8").reshape(-1, width)
