"""Runs on their way out: plain data for JSON, telemetry as CSV."""

import csv
from collections.abc import Iterable, Sequence
from dataclasses import asdict
from itertools import chain
from pathlib import Path
from typing import Any

import numpy as np

from upright_bolt.analysis.comparison.compare import Compared
from upright_bolt.analysis.numbers import NUMBERS, numbers_of, values_of
from upright_bolt.disk import csv_cell, writing
from upright_bolt.model.catalogue import in_order
from upright_bolt.model.constraint import ORDER, Constraint
from upright_bolt.model.run import RunNumbers, RunRecord
from upright_bolt.model.work import score_quantity
from upright_bolt.session.numbers import is_held
from upright_bolt.store.runs import RunStore
from upright_bolt.text.comparison import unlike_sentences

Row = list[str | int | float | None]
Table = list[Row]


def run_data(run: RunRecord) -> dict[str, Any]:
    """Return a run as plain data; None where not measured."""
    return {
        "id": run.id,
        "label": run.head.label,
        "machine": run.head.machine,
        "workload": run.head.workload,
        "state": run.end.state.value,
        "why": run.end.why,
        "started_at": run.head.started_at,
        "asked_s": run.head.asked_s,
        "duration_s": run.end.duration_s,
        "score": run.end.score,
        "score_counts": not run.broke,
        "score_slices": [part.score for part in run.slices],
        "score_unit": score_quantity(run.head.workload, run.head.options).unit,
        **_numbers_data(run.end.numbers),
        "options": asdict(run.head.options),
        "errors": [asdict(error) for error in run.errors],
        "settings": run.head.settings,
        "tried": run.head.tried,
        "conditions": asdict(run.head.conditions),
        "identity": run.head.identity,
        "series": run.head.series,
        "role": run.head.role.value,
        "note": run.note,
        "measures": {name: asdict(measure) for name, measure in run.measures.items()},
    }


def _numbers_data(numbers: RunNumbers) -> dict[str, Any]:
    """Return the numbers as plain data, those of the workload alone among the others."""
    data = asdict(numbers)
    data.update(data.pop("extra"))
    return data


def compared_data(row: Compared) -> dict[str, Any]:
    """Return a row of a comparison as plain data.

    ``percent`` has the numbers that are compared in percent; ``change_by`` has all of them, in the number's own unit;
    ``difference`` adds the interval and the verdict: in % for those in ``percent``, else in the number's own unit.
    """
    return run_data(row.run) | {
        "percent": row.percent,
        "change_by": row.change_by,
        "difference": {key: asdict(value) for key, value in row.difference.items()},
        "spread": row.spread,
        "repeats": row.repeats,
        "base_repeats": row.base_repeats,
        "unlike": unlike_sentences(row),
    }  # fmt: skip


def export_csv(store: RunStore, run_id: int, path: Path) -> int:
    """Write a run's telemetry as CSV and return the number of rows. Empty cells were not measured.

    Raises:
        BoltError: the file cannot be written.
        NotFound: there is no such run.
    """
    store.get(run_id)
    time_s, columns = store.telemetry(run_id)
    table = [(column, is_held(name)) for name, column in columns.items()]
    rows: Iterable[Row] = (
        [f"{moment:.3f}", *(_cell(column[i], ORDER if held else None) for column, held in table)]
        for i, moment in enumerate(time_s)
    )
    write_table(chain([["time_s", *columns]], rows), path)
    return len(time_s)


def _cell(value: float, names: tuple[Constraint, ...] | None) -> str:
    if np.isnan(value):
        return ""
    return names[int(value)].value if names else f"{value:.6g}"


def runs_table(runs: Sequence[RunRecord]) -> Table:
    """Return a list of runs with all their numbers and settings, the heading first; empty cells were not measured."""
    names = in_order(name for run in runs for name in run.head.settings)
    heads = ["id", "started_at", "machine", "workload", "label", "state", "duration_s", "score_unit"]
    rows: Table = [[*heads, *(number.key for number in NUMBERS), *(f"set_{name}" for name in names), "note"]]
    for run in runs:
        head, end, values = run.head, run.end, values_of(run)
        unit = score_quantity(head.workload, head.options).unit
        rows.append([
            run.id, head.started_at, head.machine, head.workload, head.label, end.state.value, end.duration_s, unit,
            *(values[number.key] for number in NUMBERS), *(head.settings.get(name) for name in names), run.note,
        ])  # fmt: skip
    return rows


def comparison_table(rows: Sequence[Compared]) -> Table:
    """Return a comparison, a row per number and, for each run, its value, its change, the interval and the verdict.

    A change is in % where the column ``change_unit`` says so, else in the number's own unit.
    """
    heads: Row = ["number", "unit", "change_unit"]
    for row in rows:
        heads += [f"run {row.run.id} {what}" for what in ("value", "change", "low", "high", "verdict", "doubt")]
    table: Table = [heads]
    for number in numbers_of(row.run for row in rows):
        cells: Row = [number.key, number.quantity.unit, "%" if number.ratio else number.quantity.unit]
        for row in rows:
            found = row.difference.get(number.key)
            interval: Row = [None] * 4 if found is None else [found.low, found.high, found.verdict, found.doubt.value]
            change = (row.percent if number.ratio else row.change_by).get(number.key)
            cells += [row.values[number.key], change, *interval]
        table.append(cells)
    return table


def write_table(table: Iterable[Row], path: Path) -> None:
    """Write rows as CSV. Raises BoltError if the file cannot be written."""
    with writing(path) as file:
        csv.writer(file).writerows([csv_cell(cell) for cell in row] for row in table)
