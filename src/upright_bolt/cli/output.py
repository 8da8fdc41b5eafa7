"""How the command line shows runs and comparisons."""

from pathlib import Path
from typing import TYPE_CHECKING

from upright_bolt.cli.context import MachineChoice, print_json, print_table, store_at
from upright_bolt.errors import BadInput
from upright_bolt.model.quantity import CLOCK, TEMPERATURE, VOLTAGE
from upright_bolt.model.settings import show_settings
from upright_bolt.model.work import score_quantity
from upright_bolt.text.constraints import shares
from upright_bolt.text.faults import does_not_count, place_of, state_words, struck
from upright_bolt.text.times import date_and_time, length

if TYPE_CHECKING:
    from upright_bolt.analysis.comparison.compare import Compared
    from upright_bolt.analysis.numbers import Number
    from upright_bolt.model.run import RunRecord
    from upright_bolt.store.runs import RunStore

MOST_ERRORS = 8


def print_list(records: "list[RunRecord]", *, as_json: bool) -> None:
    """Print a line per run."""
    if as_json:
        from upright_bolt.reports.export import run_data

        print_json([run_data(record) for record in records])
        return
    if not records:
        print("There are no runs yet. Make one with “upright-bolt run steady”.")
        return
    rows = [("id", "started", "machine", "workload", "length", "score", "errors", "held by", "state", "label")]
    for record in records:
        head, end = record.head, record.end
        score = "" if end.score is None else score_quantity(head.workload, head.options).show(end.score)
        score = struck(score) if record.broke else score
        held = next(iter(shares(end.numbers)), "")
        rows.append((str(record.id), date_and_time(head.started_at), head.machine, head.workload,
                     length(end.duration_s), score, str(len(record.errors)), held, state_words(record),
                     head.label))  # fmt: skip
    print_table(rows, right=(0, 4, 5, 6))


def print_run(store: "RunStore", record: "RunRecord", below_c: float | None, *, as_json: bool) -> None:
    """Print a run: its numbers, what they show, what happened, and what a person added."""
    from upright_bolt.analysis.numbers import numbers_of, values_of
    from upright_bolt.reports.details import details_data, details_of
    from upright_bolt.text import runs as run_words

    details = details_of(store, record, below_c)
    if as_json:
        from upright_bolt.reports.export import run_data

        print_json(run_data(record) | details_data(details))
        return
    head = record.head
    label = f" “{head.label}”" if head.label else ""
    state = state_words(record) + (f", {record.end.why}" if record.end.why else "")
    print(f"Run {record.id}{label}: {head.workload} on {head.machine}, {length(record.end.duration_s)}, {state}")
    if head.settings:
        print(f"Settings: {show_settings(head.settings)}")
    values = values_of(record)
    print_table(
        [("number", "value"), *((n.title, _value(record, n, values[n.key])) for n in numbers_of([record]))], right=(1,)
    )
    if held := shares(record.end.numbers):
        print("Held back by: " + ", ".join(held))
    for sentence in [words for words in (run_words.carried(record),) if words] + run_words.details(details):
        print(sentence)
    for words in _beside(store, record):
        print(words)
    for name, measure in record.measures.items():
        print(f"Measured by hand: {name} {measure.show()}")
    if record.note:
        print(f"Note: {record.note}")


def compare_runs(
    choice: MachineChoice, run_ids: list[int], against: int | None, *, as_json: bool, to_csv: Path | None = None
) -> None:
    """Compare kept runs and print the result; the table also goes to ``to_csv``. Raises NotFound or BadInput."""
    from upright_bolt.analysis.comparison.compare import compare

    baseline_id = against if against is not None else run_ids[0]
    ids = list(dict.fromkeys([baseline_id, *run_ids]))
    if len(ids) < 2:
        raise BadInput("A comparison needs two runs: “upright-bolt compare 1 2”.")
    with store_at(choice) as store:
        baseline = store.get(baseline_id)
        rows = compare([store.get(run_id) for run_id in ids], baseline, store.all())
    if to_csv is not None:
        from upright_bolt.reports.export import comparison_table, write_table

        write_table(comparison_table(rows), to_csv)
    if as_json:
        from upright_bolt.reports.export import compared_data

        print_json({"baseline": baseline_id, "runs": [compared_data(row) for row in rows]})
        return
    print_comparison(rows, baseline)


def print_comparison(rows: "list[Compared]", baseline: "RunRecord") -> None:
    """Print a comparison: a column per run, a row per number, and the finding in words."""
    from upright_bolt.analysis.numbers import numbers_of
    from upright_bolt.text.comparison import change, unlike_sentences, verdict_text

    heads = [f"run {row.run.id}" for row in rows]
    lines = [["", *(h for head in heads for h in (head, ""))]]
    lines.append(["label", *(cell for row in rows for cell in (row.run.head.label or "–", ""))])
    for number in numbers_of([row.run for row in rows]):
        cells = []
        for row in rows:
            by = "" if row.run.id == baseline.id else change(row, number)
            cells += [_value(row.run, number, row.values[number.key]), by]
        lines.append([number.title, *cells])
    held = [next(iter(row.run.end.numbers.constraint_share.items()), None) for row in rows]
    lines.append(["Held back by", *(c for h in held for c in ("–" if h is None else f"{h[0]} {h[1]:.0%}", ""))])
    print_table(lines, right=range(1, len(lines[0])))
    for row in rows:
        if row.run.id != baseline.id:
            print(f"\nRun {row.run.id} against run {baseline.id}: {verdict_text(row, baseline)}")
            for sentence in unlike_sentences(row):
                print(f"  Unlike: {sentence}")


def _value(run: "RunRecord", number: "Number", value: float | None) -> str:
    """Return a number as it is shown; struck through if wrong results stand behind it."""
    shown = number.quantity.show(value)
    return struck(shown) if value is not None and does_not_count(run, number) else shown


def _beside(store: "RunStore", record: "RunRecord") -> list[str]:
    """Return what else ran, what happened, and the errors, a line each."""
    from upright_bolt.text import runs as run_words
    from upright_bolt.text.events import during_run

    said = [words] if (words := run_words.rendered(record)) else []
    said += run_words.beside(record.end.numbers) + during_run(store.events(record.id))
    for error in record.errors[:MOST_ERRORS]:
        at = [CLOCK.show(error.clock_mhz)] if error.clock_mhz is not None else []
        at += [TEMPERATURE.show(error.temp_c)] if error.temp_c is not None else []
        at += [VOLTAGE.show(error.voltage_v)] if error.voltage_v is not None else []
        where = place_of(error.cpu, error.block)
        said.append(f"At {error.time_s:.1f} s: {error.what} ({where})" + (f", at {', '.join(at)}." if at else "."))
    if len(record.errors) > MOST_ERRORS:
        said.append(f"… and {len(record.errors) - MOST_ERRORS} errors more; --json has them all.")
    return said
