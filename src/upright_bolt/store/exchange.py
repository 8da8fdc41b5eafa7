"""Runs from one machine to another: a JSON file with everything that is kept of them, written and read.

The file is an object with ``format``, ``version`` and ``runs``; each run has its ``record`` (as the fields of
``RunRecord``), ``telemetry`` (times from load start in s, and a list per column, null where not measured) and
``events``. A run that comes in is given a new number, and the machine's spec with the name of where it comes from
(``host@slate``), so that it never counts as evidence for the machine it is looked at on.
"""

import json
import re
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Discriminator, ValidationError

from upright_bolt.disk import JsonCodec, read_given, writing
from upright_bolt.errors import BadInput, CorruptData
from upright_bolt.model.event import Event
from upright_bolt.model.run import RunRecord, RunState
from upright_bolt.store.checks import MOST_ROWS, check_events, check_record, check_telemetry
from upright_bolt.store.runs import RunStore

FORMAT = "upright-bolt runs"
VERSION = 2
MOST_BYTES = 128 << 20
MOST_RUNS = 2000
_NAME = re.compile(r"[^@\s][^@]{0,39}")
_RECORD: JsonCodec[RunRecord] = JsonCodec(RunRecord)
_EVENT: JsonCodec[Event] = JsonCodec(Event)

Cells = list[float | None]


class _Telemetry(BaseModel):
    model_config = ConfigDict(extra="forbid")
    time_s: list[float]
    columns: dict[str, Cells]


class _Run(BaseModel):
    model_config = ConfigDict(extra="forbid")
    record: RunRecord
    telemetry: _Telemetry
    events: list[Annotated[Event, Discriminator("kind")]]


class _File(BaseModel):
    model_config = ConfigDict(extra="forbid")
    format: Literal["upright-bolt runs"]
    version: Literal[2]
    runs: list[_Run]


@dataclass(frozen=True, slots=True)
class Imported:
    """What an import did: numbers of the new runs, and of those that were here already."""

    new: tuple[int, ...]
    known: tuple[int, ...]


def export_json(store: RunStore, run_ids: list[int], path: Path) -> int:
    """Write runs with their telemetry to ``path`` and return how many. Raises NotFound or BoltError."""
    data = {"format": FORMAT, "version": VERSION, "runs": [_run_data(store, run_id) for run_id in run_ids]}
    with writing(path) as file:
        file.write(json.dumps(data, ensure_ascii=False, allow_nan=False) + "\n")
    return len(run_ids)


def _run_data(store: RunStore, run_id: int) -> dict[str, Any]:
    record = store.get(run_id)
    time_s, columns = store.telemetry(run_id)
    return {
        "record": _RECORD.plain(record),
        "telemetry": {
            "time_s": [round(float(moment), 4) for moment in time_s],
            "columns": {name: [_cell(value) for value in column] for name, column in columns.items()},
        },
        "events": [_EVENT.plain(event) for event in store.events(run_id)],
    }


def _cell(value: float) -> float | None:
    # Nine digits bring back a 32-bit float exactly, and no sensor tells more.
    return None if np.isnan(value) else float(f"{value:.9g}")


def import_json(store: RunStore, path: Path, origin: str = "") -> Imported:
    """Take in the runs of a file; those that are here already are left alone. All of them are taken in, or none.

    Args:
        store: where they go.
        path: the file.
        origin: where they come from; the file's own name if empty.

    Raises:
        BadInput: the file is of another kind, damaged, or of a newer version; nothing was taken in then.
        BoltError: the file cannot be read.
    """
    name = origin or path.stem
    if not _NAME.fullmatch(name):
        raise BadInput(f"from: “{name}” cannot be the name of a machine: up to 40 characters without @.")
    runs = _read(path)
    # The key is drawn when a run begins, so the same run is known again however often it travels.
    known = {record.head.key: record.id for record in store.all() if record.head.key}
    if len(runs) > MOST_RUNS:
        raise BadInput(f"{path.name} holds {len(runs)} runs; {MOST_RUNS} can be taken in at once.")
    fresh = [run for run in runs if run.record.head.key not in known]
    for number, run in enumerate(fresh, start=1):
        _check(run, f"{path.name}: run {number}")
    keys = [run.record.head.key for run in fresh if run.record.head.key]
    if len(set(keys)) < len(keys):
        raise BadInput(f"{path.name} has the same run twice.")
    new = store.take_in((_renamed(run.record, name), _rows(run), run.events) for run in fresh)
    return Imported(tuple(new), tuple(known[run.record.head.key] for run in runs if run.record.head.key in known))


def _read(path: Path) -> list[_Run]:
    try:
        return _File.model_validate_json(read_given(path, MOST_BYTES)).runs
    except RecursionError as fault:
        raise BadInput(f"{path} is not a file of runs that this version reads: it is nested too deeply.") from fault
    except ValidationError as fault:
        first = fault.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        where = f" (at {place})" if place else ""
        raise BadInput(f"{path} is not a file of runs that this version reads{where}: {first['msg']}.") from fault


def _check(run: _Run, what: str) -> None:
    """Raise BadInput unless a run is sane, and its parts fit each other."""
    head, telemetry = run.record.head, run.telemetry
    if tuple(telemetry.columns) != head.columns:
        raise BadInput(f"{what}: its telemetry has other columns than it says.")
    if any(len(column) != len(telemetry.time_s) for column in telemetry.columns.values()):
        raise BadInput(f"{what}: a column of its telemetry has another length than its times.")
    if len(telemetry.time_s) > MOST_ROWS:
        raise BadInput(f"{what}: {len(telemetry.time_s)} rows of telemetry; {MOST_ROWS} are the most.")
    if run.record.end.state is RunState.RUNNING:
        raise BadInput(f"{what} was still in progress when it was written; export it again.")
    try:
        check_record(run.record)
        check_events(run.events)
        columns = {name: np.array(column, dtype=float) for name, column in telemetry.columns.items()}
        check_telemetry(np.array(telemetry.time_s), columns)
    except CorruptData as fault:
        raise BadInput(f"{what}: {str(fault).rstrip('.')}.") from fault


def _rows(run: _Run) -> list[list[float]]:
    columns = (run.telemetry.time_s, *run.telemetry.columns.values())
    return [[float("nan") if cell is None else cell for cell in row] for row in zip(*columns, strict=True)]


def _renamed(record: RunRecord, name: str) -> RunRecord:
    word = record.head.machine
    return record if "@" in word else replace(record, head=replace(record.head, machine=f"{word}@{name}"))
