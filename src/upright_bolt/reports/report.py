"""A comparison as one self-contained HTML page: findings, pictures, numbers, conditions, settings, machines."""

import logging
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from upright_bolt import __version__
from upright_bolt.analysis.comparison.compare import Compared
from upright_bolt.analysis.comparison.conditions import conditions
from upright_bolt.analysis.numbers import numbers_of
from upright_bolt.disk import writing
from upright_bolt.model.catalogue import in_order, title_of
from upright_bolt.model.control import show_value
from upright_bolt.model.run import LETTERS, RunRecord
from upright_bolt.reports.details import details_of, telemetry_of
from upright_bolt.store.runs import RunStore
from upright_bolt.text import comparison
from upright_bolt.text import events as event_words
from upright_bolt.text import runs as run_words
from upright_bolt.text.faults import does_not_count, fault_words, state_words
from upright_bolt.text.times import date_and_time, length

TEMPLATE = "report.html.j2"
IDENTITY = {"name": "Machine", "vendor": "Vendor", "processor": "Processor", "cores": "Cores", "threads": "Threads",
            "kernel": "Kernel", "driver": "Scaling driver", "microcode": "Microcode"}  # fmt: skip


def export_html(store: RunStore, rows: Sequence[Compared], path: Path) -> None:
    """Write a comparison as a page; the first row is the baseline.

    Raises:
        BoltError: the file cannot be written.
    """
    page = _page(store, rows)
    with writing(path) as file:
        file.write(page)


def _page(store: RunStore, rows: Sequence[Compared]) -> str:
    from jinja2 import Environment, PackageLoader, StrictUndefined  # noqa: PLC0415 - loaded only for reports
    from markupsafe import Markup  # noqa: PLC0415 - same

    # the plotting library talks about its caches as soon as it is loaded, which the reader of a report need not hear
    logging.getLogger("matplotlib").setLevel(logging.ERROR)
    from upright_bolt.reports.pictures import overlay, watts  # noqa: PLC0415 - same

    runs = [row.run for row in rows]
    telemetry = [telemetry_of(store, run) for run in runs]
    environment = Environment(
        loader=PackageLoader("upright_bolt.reports", "."), autoescape=True, undefined=StrictUndefined
    )
    return environment.get_template(TEMPLATE).render(
        title=f"{runs[0].name}, compared" if len(runs) > 1 else runs[0].name,
        version=__version__,
        made=datetime.now().astimezone().strftime("%Y-%m-%d %H:%M"),
        findings=[
            " ".join(
                [
                    f"{LETTERS[i]}, {row.run.name}: {comparison.verdict_text(row, runs[0])}",
                    *(f"Unlike: {words}" for words in comparison.unlike_sentences(row)),
                ]
            )
            for i, row in enumerate(rows)
            if i
        ],
        wrong=[f"{LETTERS[i]}, {run.name}: {words}" for i, run in enumerate(runs) if (words := fault_words(run))],
        overlay=Markup(overlay(runs, telemetry)),  # noqa: S704 - drawn here, its texts escaped by the plotting library
        watts=Markup(watts(rows)) if len(rows) > 1 else "",  # noqa: S704 - same
        runs=[{"letter": LETTERS[i], "name": run.name, "shown": _sentences(store, run)} for i, run in enumerate(runs)],
        numbers=_numbers(rows),
        tables=[table for table in _tables(runs) if table["rows"]],
    )


def _numbers(rows: Sequence[Compared]) -> list[dict[str, Any]]:
    """Return a row per number, a cell per run."""
    base = rows[0].run
    return [
        {
            "title": number.title,
            "cells": [
                {
                    "value": number.quantity.show(row.values[number.key]),
                    "struck": does_not_count(row.run, number),
                    "change": "" if row.run.id == base.id else comparison.change(row, number),
                    "interval": comparison.interval_text(row.difference.get(number.key), number),
                }
                for row in rows
            ],
        }
        for number in numbers_of(row.run for row in rows)
    ]


def _tables(runs: Sequence[RunRecord]) -> list[dict[str, Any]]:
    """Return the tables below the numbers: each has a title and rows of a heading and a cell per run."""
    names = in_order(name for run in runs for name in run.head.settings)

    def settings(*, differ: bool) -> list[list[str]]:
        return [
            [title_of(name), *(_shown(name, run) for run in runs)]
            for name in names
            if (len({_shown(name, run) for run in runs}) > 1) == differ
        ]

    identity = [
        [title, *(str(run.head.identity.get(key) or "–") for run in runs)]
        for key, title in IDENTITY.items()
        if any(run.head.identity.get(key) for run in runs)
    ]
    work = [
        ["Workload", *(run.head.workload for run in runs)],
        ["Length", *(length(run.end.duration_s) for run in runs)],
        ["Started", *(date_and_time(run.head.started_at) for run in runs)],
        ["How it ended", *(state_words(run) for run in runs)],
    ]
    return [
        {"title": "Settings that differ", "rows": settings(differ=True) if len(runs) > 1 else []},
        {"title": "Conditions", "rows": work + _conditions(runs)},
        {"title": "Settings that are the same", "rows": settings(differ=False)},
        {"title": "Machines", "rows": [["Word", *(run.head.machine for run in runs)], *identity]},
    ]


def _conditions(runs: Sequence[RunRecord]) -> list[list[str]]:
    """Return conditions that were known in all runs and the baseline, marked where unlike."""
    found: dict[str, list[str]] = {}
    for i, run in enumerate(runs):
        for entry in conditions(run, runs[0]):
            cells = found.setdefault(comparison.condition_title(entry.kind), ["–"] * len(runs))
            other, base = (comparison.condition_value(entry.kind, v) or "unknown" for v in (entry.other, entry.base))
            cells[i] = other + ("" if entry.alike else " ≠")
            cells[0] = cells[0] if cells[0] != "–" else base
    return [[what, *cells] for what, cells in found.items()]


def _shown(name: str, run: RunRecord) -> str:
    value = run.head.settings.get(name)
    return "–" if value is None else show_value(name, value)


def _sentences(store: RunStore, run: RunRecord) -> list[str]:
    """Return what its telemetry shows, what happened, and what a person added."""
    said = [line.strip() for line in run_words.details(details_of(store, run))] + run_words.beside(run.end.numbers)
    said += [f"At {event.time_s:.0f} s: {event_words.sentence(event)}" for event in store.events(run.id)]
    if run.errors:
        said.append(f"{len(run.errors)} errors, the first at {run.errors[0].time_s:.1f} s: {run.errors[0].what}")
    said += [f"Measured by hand: {name} {measure.show()}" for name, measure in run.measures.items()]
    return said + ([f"Note: {run.note}"] if run.note else []) or ["Nothing more is known of it."]
