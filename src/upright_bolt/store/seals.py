"""Checksums of runs: what a run proves, or has seen fail, must not change with a flipped bit on the disk.

A run is sealed as it ends, and whenever a person adds something. One that goes on has no seal, and proves nothing.
"""

import json
from collections.abc import Sequence
from hashlib import blake2b
from typing import Any

from sqlalchemy import Connection, RowMapping, select

from upright_bolt.errors import CorruptData
from upright_bolt.model.run import RunState
from upright_bolt.store import tables

Row = RowMapping


def seal_of(run: Row, slices: Sequence[Row], errors: Sequence[Row]) -> str:
    """Return the checksum of a run's row, with the rows of its slices and errors in their order."""
    own = {name: value for name, value in run.items() if name != "seal"}
    parts = [own, [dict(row) for row in slices], [dict(row) for row in errors]]
    text = json.dumps(parts, sort_keys=True, default=repr)
    return blake2b(text.encode(errors="surrogatepass"), digest_size=8).hexdigest()


def check_seal(run: Row, slices: Sequence[Row], errors: Sequence[Row]) -> None:
    """Raise CorruptData unless a run that has ended is what was sealed."""
    if run["state"] != RunState.RUNNING.value and run["seal"] != seal_of(run, slices, errors):
        raise CorruptData("its checksum is not that of its content")


def seal(connection: Connection, run_id: int) -> None:
    """Seal a run that has ended, in the transaction that has changed it."""
    row = connection.execute(select(tables.runs).where(tables.runs.c.id == run_id)).mappings().first()
    if row is None or row["state"] == RunState.RUNNING.value:
        return
    slices = children(connection, tables.slices, run_id, tables.slices.c.from_s)
    errors = children(connection, tables.errors, run_id, tables.errors.c.id)
    checksum = seal_of(row, slices, errors)
    connection.execute(tables.runs.update().where(tables.runs.c.id == run_id).values(seal=checksum))


def children(connection: Connection, table: Any, run_id: int, order: Any) -> list[Row]:  # noqa: ANN401
    """Return the rows of a table that belong to a run."""
    return list(connection.execute(select(table).where(table.c.run_id == run_id).order_by(order)).mappings())
