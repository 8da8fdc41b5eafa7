"""Between records and the database's rows. What has no table of its own is kept as JSON, checked when it is read."""

import zlib
from collections.abc import Sequence
from dataclasses import fields
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray
from pydantic import Discriminator
from sqlalchemy import RowMapping

from upright_bolt.disk import Typed
from upright_bolt.model.control import Value
from upright_bolt.model.event import Event, Remark
from upright_bolt.model.run import (
    Conditions,
    Measure,
    RunEnd,
    RunHead,
    RunNumbers,
    RunRecord,
    RunState,
    Slice,
    WorkError,
)
from upright_bolt.model.work import Options

TypedEvent = Annotated[Event, Discriminator("kind")]
_SETTINGS: Typed[dict[str, Value]] = Typed(dict[str, Value])
_IDENTITY: Typed[dict[str, Any]] = Typed(dict[str, Any])
_CONDITIONS: Typed[Conditions] = Typed(Conditions)
_COLUMNS: Typed[tuple[str, ...]] = Typed(tuple[str, ...])
_NUMBERS: Typed[RunNumbers] = Typed(RunNumbers)
_OPTIONS: Typed[Options] = Typed(Options)
_MEASURES: Typed[dict[str, Measure]] = Typed(dict[str, Measure])
_EVENT: Typed[Event] = Typed(TypedEvent)


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
    """Return the event of a row. Raises Damaged."""
    if not row["data"]:
        return Remark(row["time_s"], row["text"], row["kind"])
    return _EVENT.from_text(row["data"])


def columns_of(text: str) -> tuple[str, ...]:
    """Return the names of telemetry columns from a column's text. Raises Damaged."""
    return _COLUMNS.from_text(text)


def record_of(row: RowMapping, slices: Sequence[RowMapping], errors: Sequence[RowMapping]) -> RunRecord:
    """Return the record of a row, with the rows of its slices and errors. Raises Damaged."""
    head = RunHead(
        machine=row["machine"],
        identity=_IDENTITY.from_text(row["identity"]),
        workload=row["workload"],
        label=row["label"],
        asked_s=row["asked_s"],
        settings=_SETTINGS.from_text(row["settings"]),
        tried=_SETTINGS.from_text(row["tried"]),
        conditions=_CONDITIONS.from_text(row["conditions"]),
        started_at=row["started_at"],
        columns=columns_of(row["columns"]),
        series=row["series"],
        options=_OPTIONS.from_text(row["options"]),
        key=row["key"],
        boot_id=row["boot_id"],
    )
    numbers = _NUMBERS.from_text(row["numbers"])
    return RunRecord(
        int(row["id"]),
        head,
        RunEnd(RunState(row["state"]), row["why"], row["duration_s"], row["score"], numbers),
        tuple(Slice(s["from_s"], s["to_s"], s["units"], s["score"]) for s in slices),
        tuple(WorkError(**{field.name: e[field.name] for field in fields(WorkError)}) for e in errors),
        row["note"],
        _MEASURES.from_text(row["measures"]),
    )


def packed(table: list[list[float]]) -> dict[str, Any]:
    """Return telemetry rows as the columns of one part."""
    return {"rows": len(table), "data": zlib.compress(np.asarray(table, dtype="<f8").tobytes(), 1)}


def unpacked(parts: Sequence[bytes], width: int) -> NDArray[np.float64]:
    """Return the rows of several parts, shape (n, width)."""
    flat = np.concatenate([np.frombuffer(zlib.decompress(part), dtype="<f8") for part in parts])
    return flat.reshape(-1, width)
