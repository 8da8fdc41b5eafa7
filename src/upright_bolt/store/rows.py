"""Between records and the database's rows. What has no table of its own is kept as JSON."""

import json
import zlib
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import RowMapping

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


def of_head(head: RunHead) -> dict[str, Any]:
    """Return the columns of a run that begins."""
    return {
        "machine": head.machine,
        "workload": head.workload,
        "label": head.label,
        "started_at": head.started_at,
        "asked_s": head.asked_s,
        "identity": json.dumps(head.identity),
        "settings": json.dumps(head.settings),
        "tried": json.dumps(head.tried),
        "conditions": json.dumps(asdict(head.conditions)),
        "columns": json.dumps(head.columns),
        "state": RunState.RUNNING.value,
        "why": "",
        "duration_s": 0.0,
        "numbers": json.dumps(asdict(RunNumbers())),
        "series": head.series,
        "options": json.dumps(asdict(head.options)),
        "key": head.key,
    }


def of_end(end: RunEnd) -> dict[str, Any]:
    """Return the columns of how a run ended."""
    return {
        "state": end.state.value,
        "why": end.why,
        "duration_s": end.duration_s,
        "score": end.score,
        "numbers": json.dumps(asdict(end.numbers)),
    }


def of_notes(record: RunRecord) -> dict[str, Any]:
    """Return the columns of what a person added."""
    measures = {name: asdict(measure) for name, measure in record.measures.items()}
    return {"note": record.note, "measures": json.dumps(measures)}


def record_of(row: RowMapping, slices: Sequence[RowMapping], errors: Sequence[RowMapping]) -> RunRecord:
    """Return the record of a row, with the rows of its slices and errors."""
    head = RunHead(
        machine=row["machine"],
        identity=json.loads(row["identity"]),
        workload=row["workload"],
        label=row["label"],
        asked_s=row["asked_s"],
        settings=json.loads(row["settings"]),
        tried=json.loads(row["tried"]),
        conditions=Conditions(**json.loads(row["conditions"])),
        started_at=row["started_at"],
        columns=tuple(json.loads(row["columns"])),
        series=row["series"],
        options=_options(json.loads(row["options"])),
        key=row["key"],
    )
    numbers = RunNumbers(**json.loads(row["numbers"]))
    return RunRecord(
        int(row["id"]),
        head,
        RunEnd(RunState(row["state"]), row["why"], row["duration_s"], row["score"], numbers),
        tuple(Slice(s["from_s"], s["to_s"], s["units"], s["score"]) for s in slices),
        tuple(WorkError(**{name: e[name] for name in WorkError.__dataclass_fields__}) for e in errors),
        row["note"],
        {name: Measure(**measure) for name, measure in json.loads(row["measures"]).items()},
    )


def _options(told: dict[str, Any]) -> Options:
    return Options(**{**told, "command": tuple(told.get("command", ()))})


def packed(table: list[list[float]]) -> dict[str, Any]:
    """Return telemetry rows as the columns of one part."""
    return {"rows": len(table), "data": zlib.compress(np.asarray(table, dtype="<f8").tobytes(), 1)}


def unpacked(parts: Sequence[bytes], width: int) -> NDArray[np.float64]:
    """Return the rows of several parts, shape (n, width)."""
    flat = np.concatenate([np.frombuffer(zlib.decompress(part), dtype="<f8") for part in parts])
    return flat.reshape(-1, width)
