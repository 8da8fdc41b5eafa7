"""The run store: what a session writes while a run goes on, and what comparisons read.

Every call is one transaction, so a killed program loses at most the telemetry of the last ten seconds.
"""

from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection, RowMapping, Table, func, select

from upright_bolt.errors import BadInput, BoltError, CorruptData, NotFound
from upright_bolt.model.event import Event
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
from upright_bolt.model.workloads import workload
from upright_bolt.sanitize import capital
from upright_bolt.session.numbers import run_numbers, with_work
from upright_bolt.store import tables
from upright_bolt.store.checks import check_events, check_record, check_telemetry
from upright_bolt.store.database import is_current, open_database, upgrade
from upright_bolt.store.rows import (
    columns_of,
    event_of,
    of_conditions,
    of_end,
    of_event,
    of_head,
    of_measures,
    of_notes,
    of_numbers,
    packed,
    record_of,
    unpacked,
)
from upright_bolt.store.running import RunningRuns
from upright_bolt.store.seals import children, seal

Floats = NDArray[np.float64]
UNFINISHED = "the program ended, or its disk was full, in the middle of it"
WholeRun = tuple[RunRecord, list[list[float]], list[Event]]
"""A record, its telemetry rows (time, then columns) and its events."""


class RunStore:
    """The database of runs.

    Args:
        path: the file; it is made if missing.

    Attributes:
        damaged: a sentence for each run that could not be read, by id, as ``all`` found it.

    Raises:
        BoltError: the file cannot be opened or is of a newer version.
    """

    def __init__(self, path: Path) -> None:
        self.damaged: dict[int, str] = {}
        self._engine = open_database(path)
        self._running = RunningRuns(path.with_name(f"{path.name}-running"))
        with self._engine.connect() as connection:
            current = is_current(connection)
        if not current:
            with self._writing() as connection:
                upgrade(connection)

    @contextmanager
    def _writing(self) -> Iterator[Connection]:
        """Open a transaction that writes: it waits for its turn as it begins, and never fails for that later."""
        with self._engine.connect().execution_options(immediate=True) as connection, connection.begin():
            yield connection

    def close(self) -> None:
        """Close the file."""
        self._engine.dispose()
        self._running.close()

    def begin(self, head: RunHead) -> int:
        """Keep a new run and return its id; it goes on until ``finish``, or until this process ends.

        Raises:
            BadInput: its label, or another part of it, is not what could be shown later.
        """
        _check_given(RunRecord(0, head, RunEnd(RunState.RUNNING, "", 0.0, None, RunNumbers())))
        with self._writing() as connection:
            run_id = int(connection.execute(tables.runs.insert().values(**of_head(head))).lastrowid)
            # Within the transaction: no other program may take the new run for one whose program is gone.
            self._running.begin(run_id)
        return run_id

    def take_in(self, runs: Iterable[WholeRun]) -> list[int]:
        """Keep whole runs that were measured elsewhere, all of them or none, and return their ids."""
        with self._writing() as connection:
            return [self._take_in(connection, *run) for run in runs]

    @staticmethod
    def _take_in(connection: Connection, record: RunRecord, table: list[list[float]], events: list[Event]) -> int:
        values = {**of_head(record.head), **of_end(record.end), **of_notes(record)}
        run_id = int(connection.execute(tables.runs.insert().values(**values)).lastrowid)
        for into, rows in (
            (tables.slices, [asdict(item) for item in record.slices]),
            (tables.errors, [asdict(item) for item in record.errors]),
            (tables.events, [of_event(event) for event in events]),
        ):
            if rows:
                connection.execute(into.insert(), [{"run_id": run_id, **row} for row in rows])
        # A run from elsewhere comes in one part; one that is measured here comes in parts of ten seconds.
        if table:
            connection.execute(tables.telemetry.insert().values(run_id=run_id, part=0, **packed(table)))
        seal(connection, run_id)
        return run_id

    def append(self, run_id: int, rows: list[list[float]]) -> None:
        """Keep telemetry rows."""
        if not rows:
            return
        with self._writing() as connection:
            part = self._count(connection, run_id)
            connection.execute(tables.telemetry.insert().values(run_id=run_id, part=part, **packed(rows)))

    @staticmethod
    def _count(connection: Connection, run_id: int) -> int:
        query = select(func.count()).where(tables.telemetry.c.run_id == run_id)
        return int(connection.execute(query).scalar_one())

    def add_slices(self, run_id: int, slices: list[Slice]) -> None:
        """Keep slices."""
        self._add(tables.slices, run_id, map(asdict, slices))

    def add_errors(self, run_id: int, errors: list[WorkError]) -> None:
        """Keep wrong results and deaths."""
        self._add(tables.errors, run_id, map(asdict, errors))

    def add_events(self, run_id: int, events: list[Event]) -> None:
        """Keep events."""
        self._add(tables.events, run_id, map(of_event, events))

    def _add(self, table: Table, run_id: int, columns: Iterable[dict[str, Any]]) -> None:
        rows = [{"run_id": run_id, **row} for row in columns]
        if rows:
            with self._writing() as connection:
                connection.execute(table.insert(), rows)
                seal(connection, run_id)

    def update_conditions(self, run_id: int, conditions: Conditions) -> None:
        """Keep the conditions measured before the load began."""
        with self._writing() as connection:
            connection.execute(
                tables.runs.update().where(tables.runs.c.id == run_id).values(conditions=of_conditions(conditions))
            )

    def finish(self, run_id: int, end: RunEnd) -> None:
        """Keep how a run ended. Raises BoltError if it is not in the database any more."""
        with self._writing() as connection:
            done = connection.execute(tables.runs.update().where(tables.runs.c.id == run_id).values(**of_end(end)))
            if not done.rowcount:
                raise BoltError(f"Run {run_id} is not in the database any more.")
            seal(connection, run_id)
        self._running.end(run_id)

    def mark_unfinished(self, machine: str, boot_id: str) -> list[int]:
        """Close runs of ``machine`` that a dead process left open, with the numbers of what is there.

        A run that goes on in whichever process is left alone, and so is a damaged one.

        Args:
            machine: its word.
            boot_id: its present boot: a run of an earlier one ended with the machine itself.

        Returns:
            The ids.
        """
        with self._engine.connect() as connection:
            query = select(tables.runs.c.id).where(
                tables.runs.c.machine == machine, tables.runs.c.state == RunState.RUNNING.value
            )
            ids = [int(row[0]) for row in connection.execute(query)]
        ended = []
        for run_id in ids:
            if self._running.goes_on(run_id):
                continue
            with suppress(CorruptData):
                self.finish(run_id, self._partial_end(run_id, boot_id))
                ended.append(run_id)
        return ended

    def _partial_end(self, run_id: int, boot_id: str) -> RunEnd:
        record = self.get(run_id)
        time_s, columns = self.telemetry(run_id)
        duration = max(0.0, min(float(time_s[-1]), record.head.asked_s)) if time_s.size else 0.0
        sliced = record.slices[-1].to_s if record.slices else 0.0
        units = sum(part.units for part in record.slices)
        score = units * workload(record.head.workload).per_s / sliced if sliced else None
        numbers = RunNumbers()
        if time_s.size:
            table = np.column_stack([time_s, *columns.values()])
            numbers = run_numbers(table, tuple(columns), 0.0, duration, score)
        # Runs of the first weeks, and of machines that name no boot, tell nothing of a restart.
        restarted = bool(record.head.boot_id and boot_id) and record.head.boot_id != boot_id
        state = RunState.RESTARTED if restarted else RunState.UNFINISHED
        why = "the machine went down in the middle of it" if restarted else UNFINISHED
        return RunEnd(state, why, duration, score, with_work(numbers, units, record.slices))

    def get(self, run_id: int) -> RunRecord:
        """Return a run with its slices and errors.

        Raises:
            NotFound: there is no such run.
            CorruptData: what the database holds of it makes no sense.
        """
        with self._engine.connect() as connection:
            row = connection.execute(select(tables.runs).where(tables.runs.c.id == run_id)).mappings().first()
            if row is None:
                raise _no_run(run_id)
            slices = children(connection, tables.slices, run_id, tables.slices.c.from_s)
            errors = children(connection, tables.errors, run_id, tables.errors.c.id)
        try:
            return self._as_it_is(record_of(row, slices, errors))
        except CorruptData as fault:
            raise CorruptData(_damaged(run_id, fault)) from fault

    def _as_it_is(self, record: RunRecord) -> RunRecord:
        """Return a run whose program is gone as unfinished, though nobody has written that down yet."""
        if record.end.state is not RunState.RUNNING or self._running.goes_on(record.id):
            return record
        return replace(record, end=replace(record.end, state=RunState.UNFINISHED, why=UNFINISHED))

    def all(self) -> list[RunRecord]:
        """Return all runs that can be read, newest first; ``damaged`` has the others."""
        with self._engine.connect() as connection:
            rows = connection.execute(select(tables.runs).order_by(tables.runs.c.id.desc())).mappings().all()
            slices = _by_run(connection, tables.slices, tables.slices.c.from_s)
            errors = _by_run(connection, tables.errors, tables.errors.c.id)
        found, damaged = [], {}
        for row in rows:
            try:
                record = record_of(row, slices.get(row["id"], ()), errors.get(row["id"], ()))
                found.append(self._as_it_is(record))
            except CorruptData as fault:
                damaged[int(row["id"])] = _damaged(row["id"], fault)
        self.damaged = damaged
        return found

    def annotate(
        self,
        run_id: int,
        note: str | None = None,
        measures: Mapping[str, Measure] | None = None,
        score: float | None = None,
        figures: Mapping[str, float] | None = None,
    ) -> RunRecord:
        """Add what a person says of a run: a note in place of the old one, measures beside the old ones.

        Args:
            run_id: the run.
            note: the note; None leaves it.
            measures: by name; one of the same name is replaced.
            score: a result entered by hand, for a run that has none of its own.
            figures: numbers computed from what another program has measured, by the keys of ``RunNumbers.extra``.

        Raises:
            NotFound: there is no such run.
            BadInput: it has a score, or such numbers, of its own; or what is given could not be shown later.
        """
        record = self.get(run_id)
        if figures and not workload(record.head.workload).rests:
            raise BadInput(f"Run {run_id} measured its own work; frame times go with a run that only watched.")
        own = record.end.score is not None and not workload(record.head.workload).rests
        if score is not None and own:
            raise BadInput(f"Run {run_id} has a score of its own, which was measured; enter yours as a measure.")
        together = {**record.measures, **(measures or {})}
        numbers = replace(record.end.numbers, extra={**record.end.numbers.extra, **(figures or {})})
        _check_given(replace(record, note=record.note if note is None else note, measures=together))
        values: dict[str, object] = {
            "note": record.note if note is None else note,
            "measures": of_measures(together),
            "score": record.end.score if score is None else score,
            "numbers": of_numbers(numbers),
        }
        with self._writing() as connection:
            connection.execute(tables.runs.update().where(tables.runs.c.id == run_id).values(**values))
            seal(connection, run_id)
        return self.get(run_id)

    def events(self, run_id: int) -> list[Event]:
        """Return what happened during a run, times from load start. Raises CorruptData."""
        with self._engine.connect() as connection:
            rows = children(connection, tables.events, run_id, tables.events.c.id)
        try:
            events = [event_of(row) for row in rows]
            check_events(events)
        except CorruptData as fault:
            raise CorruptData(_damaged(run_id, fault)) from fault
        return events

    def telemetry(self, run_id: int) -> tuple[Floats, dict[str, Floats]]:
        """Return sample times from load start in s, shape (n,), and each column, NaN where not measured.

        Raises:
            NotFound: there is no such run.
            CorruptData: what the database holds of it makes no sense.
        """
        with self._engine.connect() as connection:
            names = connection.execute(select(tables.runs.c.columns).where(tables.runs.c.id == run_id)).scalar()
            if names is None:
                raise _no_run(run_id)
            parts = children(connection, tables.telemetry, run_id, tables.telemetry.c.part)
        try:
            columns = columns_of(names)
            table = unpacked(parts, len(columns) + 1)
            by_name = {name: table[:, i + 1] for i, name in enumerate(columns)}
            check_telemetry(table[:, 0], by_name)
        except CorruptData as fault:
            raise CorruptData(_damaged(run_id, fault)) from fault
        return table[:, 0], by_name

    def delete(self, run_id: int) -> None:
        """Delete a run and everything of it, damaged or not. Raises NotFound, or BoltError if it goes on."""
        with self._writing() as connection:
            row = connection.execute(select(tables.runs.c.id).where(tables.runs.c.id == run_id)).first()
            if row is None:
                raise _no_run(run_id)
            if self._running.goes_on(run_id):
                raise BoltError(f"Run {run_id} is in progress; stop it first.")
            connection.execute(tables.runs.delete().where(tables.runs.c.id == run_id))


def _check_given(record: RunRecord) -> None:
    """Raise BadInput unless what a person gave can be shown again."""
    try:
        check_record(record)
    except CorruptData as fault:
        raise BadInput(f"{capital(str(fault).rstrip('.'))}; nothing was kept.") from fault


def _no_run(run_id: int) -> NotFound:
    return NotFound(f"There is no run {run_id}. “upright-bolt runs” lists what is there.")


def _damaged(run_id: int, fault: CorruptData) -> str:
    what = str(fault).rstrip(".")
    return f"Run {run_id} is damaged in the database ({what}). “runs delete {run_id}” takes it away."


def _by_run(connection: Connection, table: Any, order: Any) -> dict[int, list[RowMapping]]:  # noqa: ANN401
    """Return a whole table by run: one query, where a thousand runs would else take two thousand."""
    found: dict[int, list[RowMapping]] = {}
    for row in connection.execute(select(table).order_by(table.c.run_id, order)).mappings():
        found.setdefault(row["run_id"], []).append(row)
    return found
