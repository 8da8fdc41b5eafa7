"""Commands that carry runs out of the store and into it: ``runs export``, ``runs import``."""

from pathlib import Path
from typing import Annotated

import typer

from upright_bolt.cli.context import AsJson, print_json, run_number, store_at
from upright_bolt.errors import BadInput


def export(
    context: typer.Context,
    run_ids: Annotated[list[str], typer.Argument(metavar="ID…")],
    to_csv: Annotated[Path | None, typer.Option("--csv", help="File for the telemetry of one run.")] = None,
    to_json: Annotated[Path | None, typer.Option("--to-json", help="File for everything, to be imported.")] = None,
    to_html: Annotated[
        Path | None, typer.Option("--html", help="File for a report; the first is the baseline.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Write runs to files: telemetry as CSV, everything as JSON, a report as HTML."""
    from upright_bolt.analysis.comparison.compare import compare
    from upright_bolt.model.run import LETTERS
    from upright_bolt.reports.export import export_csv

    ids = list(dict.fromkeys(run_number(text) for text in run_ids))
    if to_csv is None and to_json is None and to_html is None:
        raise BadInput("Say where to: --csv FILE, --to-json FILE or --html FILE.")
    if to_csv is not None and len(ids) > 1:
        raise BadInput("Telemetry of one run goes into one CSV file; name one run, or use --to-json.")
    if to_html is not None and len(ids) > len(LETTERS):
        raise BadInput(f"A report sets up to {len(LETTERS)} runs side by side; these are {len(ids)}.")
    answer: dict[str, object] = {"runs": ids}
    said = []
    with store_at(context.obj) as store:
        if to_csv is not None:
            rows = export_csv(store, ids[0], to_csv)
            answer |= {"id": ids[0], "rows": rows, "file": str(to_csv)}
            said.append(f"{rows} samples of run {ids[0]} written to {to_csv}.")
        if to_json is not None:
            from upright_bolt.store.exchange import export_json

            count = export_json(store, ids, to_json)
            answer["json"] = str(to_json)
            said.append(f"{count} run{'s' if count > 1 else ''} written to {to_json}.")
        if to_html is not None:
            from upright_bolt.reports.report import export_html

            records = [store.get(run_id) for run_id in ids]
            export_html(store, compare(records, records[0], store.all()), to_html)
            answer["html"] = str(to_html)
            said.append(f"A report is written to {to_html}.")
    print_json(answer) if as_json else print("\n".join(said))


def bring_in(
    context: typer.Context,
    file: Annotated[Path, typer.Argument(metavar="FILE", help="Written by “runs export … --to-json”.")],
    origin: Annotated[str, typer.Option("--from", help="A name for where they come from; else the file's.")] = "",
    as_json: AsJson = False,
) -> None:
    """Take in runs from a file, e.g. of another machine, to set them side by side."""
    from upright_bolt.store.exchange import import_json

    with store_at(context.obj) as store:
        brought = import_json(store, file, origin)
    if as_json:
        print_json({"new": list(brought.new), "known": list(brought.known)})
        return
    if brought.new:
        print(f"Taken in as run {', '.join(map(str, brought.new))}.")
    if brought.known:
        print(f"Here already: run {', '.join(map(str, brought.known))}.")
    if not brought.new and not brought.known:
        print("The file holds no runs.")


def add_to(runs: typer.Typer) -> None:
    """Add the commands to the group ``runs``."""
    runs.command("export")(export)
    runs.command("import")(bring_in)
