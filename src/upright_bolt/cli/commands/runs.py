"""Commands that measure and compare: ``run``, ``runs``, ``compare``."""

import sys
from dataclasses import replace
from math import isfinite
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from upright_bolt.cli import files
from upright_bolt.cli.context import AsJson, MachineChoice, print_json, run_number, session_at, store_at
from upright_bolt.cli.ground import NOT_RUN, OVER, check_ground
from upright_bolt.cli.output import compare_runs, print_list, print_run
from upright_bolt.cli.progress import carry_on
from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model.quantity import FRAME_RATE, TEMPERATURE, TIME
from upright_bolt.model.run import RunRecord, RunState, parse_measures
from upright_bolt.model.settings import Settings, parse_assignments
from upright_bolt.model.start import parse_start
from upright_bolt.model.work import Options, Work, split_command
from upright_bolt.model.workloads import WORKLOADS, Mode
from upright_bolt.model.workloads import workload as workload_called

UNTIL_DECIDED = "Run with and without --with in turn until the difference in score is decided: 4 to 10 runs of each."
START = "rested (waits until temperature and power budget have settled; usual), warm (a fixed load first) or at-once."
LADDER = "e.g. sustained=12W..40W/4W, or core-offset,cache-offset=0mV..-80mV/10mV"
WRONG_RESULTS = 1
"""Exit code of a run that gave wrong results, though it ran to its end."""
ON = "graphics, both: the graphics chip that works, as “machine” names it, or “software”."
WEIGHT = "graphics, both: the scene: light, heavy, or steps between them."
BELOW = "cooling: the temperature to stay below, e.g. 85C. Of other runs: also say what the cooling carries below it."

if TYPE_CHECKING:
    from upright_bolt.session.active_run import ActiveRun
    from upright_bolt.session.session import Session
    from upright_bolt.session.steps import More, Step


def run(
    context: typer.Context,
    workload: Annotated[str, typer.Argument(help=" ".join(WORKLOADS))],
    duration: Annotated[str, typer.Option("--duration", help="Length, e.g. 10min or 90s.")] = "10min",
    threads: Annotated[int | None, typer.Option("--threads", help="Processors to keep busy; all if not given.")] = None,
    kind: Annotated[str, typer.Option("--kind", help="Only on this kind of core, e.g. E-cores.")] = "",
    tried: Annotated[list[str] | None, typer.Option("--with", help="NAME=VALUE tried for this run alone.")] = None,
    label: Annotated[str, typer.Option("--label", help="A name for the run.")] = "",
    repeat: Annotated[int, typer.Option("--repeat", help="How often, so that the spread is known.")] = 1,
    cool_to: Annotated[str, typer.Option("--cool-to", help="Wait before each run until it is so cool, e.g. 45C.")] = "",
    alternate: Annotated[
        bool, typer.Option("--alternate", help="Also run without --with, in turn (A B B A …), so that drift cancels.")
    ] = False,
    start: Annotated[str, typer.Option("--start", help=START)] = "",
    until_decided: Annotated[bool, typer.Option("--until-decided", help=UNTIL_DECIDED)] = False,
    below: Annotated[str, typer.Option("--below", help=BELOW)] = "",
    sure: Annotated[bool, typer.Option("--sure", help="cooling: hold for six minutes instead of three.")] = False,
    command: Annotated[str, typer.Option("--exec", help="command: what to run, e.g. “make render”; no shell.")] = "",
    pattern: Annotated[
        str, typer.Option("--pattern", help="command: regular expression of the score in its output; else wall time.")
    ] = "",
    unit: Annotated[str, typer.Option("--unit", help="command: unit of that score.")] = "",
    times: Annotated[int, typer.Option("--times", help="command: how often in this run.")] = 1,
    rate: Annotated[str, typer.Option("--rate", help="frames, graphics: how many a second, e.g. 60fps.")] = "",
    chip: Annotated[str, typer.Option("--on", help=ON)] = "",
    weight: Annotated[str, typer.Option("--weight", help=WEIGHT)] = "heavy",
    over: Annotated[bool, typer.Option("--allow-known-bad", help=OVER)] = False,
    as_json: AsJson = False,
) -> int:
    """Run a workload, measure, and keep the run."""
    duration_s = TIME.parse(duration, "duration")
    settings = parse_assignments(tried or [])
    cool_c = _degrees(cool_to, "cool-to")
    below_c = _degrees(below, "below")
    held_c = (below_c or 0.0) if workload_called(workload).mode is Mode.HOLD else 0.0
    options = Options(split_command(command), pattern, unit, times, below_c=held_c, sure=sure, chip=chip, weight=weight)
    options = _paced(options, workload, rate)
    work = Work(workload, duration_s, threads, kind, options, parse_start(start) if start else None)
    if until_decided or repeat != 1 or cool_c is not None or alternate:
        from upright_bolt.cli.commands.series import carry_out
        from upright_bolt.session.series import SeriesRequest

        steps, more = _steps(settings, label, repeat, alternate=alternate, until_decided=until_decided)
        request = SeriesRequest(steps, work, cool_c, more=more)
        return carry_out(context.obj, request, as_json=as_json, allow_known_bad=over)
    record = run_once(
        context.obj, work, label, settings, as_json=as_json, below_c=None if held_c else below_c, allow_known_bad=over
    )
    finished(record)
    return WRONG_RESULTS if record.errors else 0


def _steps(
    settings: Settings, label: str, repeat: int, *, alternate: bool, until_decided: bool
) -> "tuple[list[Step], More | None]":
    """Return the runs of a series, and what adds further ones. Raises BadInput."""
    from upright_bolt.session import steps

    if not until_decided:
        return steps.repeats(settings, repeat, label, alternate=alternate), None
    if repeat != 1:
        raise BadInput("repeat: --until-decided makes as many runs as it takes; leave --repeat out.")
    return steps.until_decided(settings, label)


def _paced(options: Options, workload: str, rate: str) -> Options:
    """Return options with the rate that a person typed, if any, where the workload keeps it. Raises BadInput."""
    if not rate:
        return options
    asked_fps = FRAME_RATE.parse(rate, "rate")
    if workload_called(workload).on_gpu:
        return replace(options, pace_fps=asked_fps)
    return replace(options, rate_fps=asked_fps)


def sweep(
    context: typer.Context,
    ladder: Annotated[str, typer.Argument(metavar="NAME[,NAME]=FROM..TO/STEP", help=LADDER)],
    workload: Annotated[str, typer.Argument(help="steady: all cores, mixed work")] = "steady",
    duration: Annotated[str, typer.Option("--duration", help="Length of each run.")] = "3min",
    tried: Annotated[list[str] | None, typer.Option("--with", help="NAME=VALUE tried beside it on every rung.")] = None,
    repeat: Annotated[int, typer.Option("--repeat", help="How often each rung is run.")] = 1,
    cool_to: Annotated[str, typer.Option("--cool-to", help="Wait before each run until it is so cool, e.g. 45C.")] = "",
    start: Annotated[str, typer.Option("--start", help=START)] = "",
    chip: Annotated[str, typer.Option("--on", help=ON)] = "",
    weight: Annotated[str, typer.Option("--weight", help=WEIGHT)] = "heavy",
    go_on: Annotated[bool, typer.Option("--go-on", help="Do not stop at the first rung with wrong results.")] = False,
    over: Annotated[bool, typer.Option("--allow-known-bad", help=OVER)] = False,
    as_json: AsJson = False,
) -> int:
    """Run a ladder of settings, each as a trial of its own; everything is put back at the end."""
    from upright_bolt.cli.commands.series import carry_out
    from upright_bolt.session.series import SeriesRequest
    from upright_bolt.session.steps import ladder as rungs

    duration_s = TIME.parse(duration, "duration")
    cool_c = _degrees(cool_to, "cool-to")
    steps = rungs(ladder, parse_assignments(tried or []), repeat)
    options = Options(chip=chip, weight=weight)
    work = Work(workload, duration_s, options=options, start=parse_start(start) if start else None)
    return carry_out(
        context.obj,
        SeriesRequest(steps, work, cool_c, stops_at_errors=not go_on),
        as_json=as_json,
        allow_known_bad=over,
    )


def list_(
    context: typer.Context,
    to_csv: Annotated[Path | None, typer.Option("--csv", help="Write the list with all numbers to this file.")] = None,
    as_json: AsJson = False,
) -> None:
    """List, show, export, import or delete runs."""
    if context.invoked_subcommand is None:
        with store_at(context.obj) as store:
            records = store.all()
            damaged = store.damaged
        print_list(records, as_json=as_json)
        for sentence in damaged.values():
            print(sentence, file=sys.stderr)
        if to_csv is not None:
            from upright_bolt.reports.export import runs_table, write_table

            write_table(runs_table(records), to_csv)


def show(
    context: typer.Context,
    run_id: Annotated[str, typer.Argument(metavar="ID")],
    below: Annotated[str, typer.Option("--below", help=BELOW)] = "",
    as_json: AsJson = False,
) -> None:
    """Show one run."""
    with store_at(context.obj) as store:
        print_run(store, store.get(run_number(run_id)), _degrees(below, "below"), as_json=as_json)


def note(
    context: typer.Context,
    run_id: Annotated[str, typer.Argument(metavar="ID")],
    text: Annotated[str | None, typer.Option("--text", help="A note; it takes the choice of the old one.")] = None,
    measures: Annotated[
        list[str] | None, typer.Option("--measure", help="NAME=NUMBER UNIT measured by hand: noise=38.5dB")
    ] = None,
    score: Annotated[float | None, typer.Option("--score", help="The result, for a run without a score.")] = None,
    frames: Annotated[
        Path | None, typer.Option("--frame-times", help="CSV file of frame times, for a run that only watched.")
    ] = None,
    column: Annotated[str, typer.Option("--column", help="Heading of the column with the frame times.")] = "",
    unit: Annotated[str, typer.Option("--unit", help="Their unit: s, ms or us.")] = "ms",
    as_json: AsJson = False,
) -> None:
    """Add a note, measures taken by hand, or the result of a run that was only watched."""
    found = parse_measures(measures or [])
    if text is None and not found and score is None and frames is None:
        raise BadInput("There is nothing to add: give --text, --measure, --score or --frame-times.")
    if score is not None and not isfinite(score):
        raise BadInput(f"score: {score} is not a number that could be kept.")
    with store_at(context.obj) as store:
        figures = _frame_figures(frames, column, unit) if frames is not None else {}
        record = store.annotate(run_number(run_id), text, found, score, figures)
        print_run(store, record, None, as_json=as_json)


def _frame_figures(path: Path, column: str, unit: str) -> dict[str, float]:
    from upright_bolt.analysis.responsiveness import frame_numbers
    from upright_bolt.store.frame_file import read_frame_times

    found = frame_numbers(read_frame_times(path, column, unit))
    if not found:
        raise BadInput(f"{path.name} holds no frame times.")
    return found


def delete(
    context: typer.Context, run_id: Annotated[str, typer.Argument(metavar="ID")], as_json: AsJson = False
) -> None:
    """Delete a run and its telemetry."""
    with store_at(context.obj) as store:
        store.delete(run_number(run_id))
    if as_json:
        print_json({"deleted": run_number(run_id)})
    else:
        print(f"Run {run_number(run_id)} is deleted.")


def compare(
    context: typer.Context,
    run_ids: Annotated[list[str] | None, typer.Argument(metavar="ID ID…")] = None,
    against: Annotated[str | None, typer.Option("--against", help="The baseline; the first run if not given.")] = None,
    to_csv: Annotated[Path | None, typer.Option("--csv", help="Also write the table to this file.")] = None,
    by: Annotated[str, typer.Option("--by", metavar="profile", help="The newest run under each profile.")] = "",
    as_json: AsJson = False,
) -> None:
    """Compare runs with a baseline, or the newest runs under each profile."""
    if by not in ("", "profile"):
        raise BadInput(f"--by: “{by}” is not known; runs can be set side by side by profile.")
    if bool(run_ids) == bool(by):
        raise BadInput("Name the runs, or say --by profile: “upright-bolt compare 1 2”.")
    ids = [run_number(text) for text in run_ids or ()] or _by_profile(context.obj, said=not as_json)
    compare_runs(context.obj, ids, run_number(against) if against else None, as_json=as_json, to_csv=to_csv)


def _by_profile(choice: MachineChoice, *, said: bool) -> list[int]:
    """Return the newest run of sustained work under each profile, stock first. Raises BadInput if there are not two."""
    from upright_bolt.cli.commands.profiles import desk_at

    with desk_at(choice) as (access, desk), store_at(choice) as store:
        found = desk.newest_runs(access.controls(), store.all())
    if len(found) < 2:
        raise BadInput(
            "There are no two profiles with a run of “steady” under them; “profile try NAME” and “run steady” make one."
        )
    if said:
        print(", ".join(f"{name}: run {run_id}" for name, run_id in found.items()))
    return list(dict.fromkeys(found.values()))


def add_to(app: typer.Typer) -> None:
    """Add the commands."""
    app.command("run")(run)
    runs = typer.Typer(invoke_without_command=True)
    app.add_typer(runs, name="runs")
    runs.callback(invoke_without_command=True)(list_)
    runs.command("show")(show)
    files.add_to(runs)
    runs.command("note")(note)
    runs.command("delete")(delete)
    app.command("compare")(compare)
    app.command("sweep")(sweep)


def _degrees(text: str, what: str) -> float | None:
    return TEMPERATURE.parse(text, what) if text else None


def run_once(
    choice: MachineChoice,
    work: Work,
    label: str,
    settings: Settings,
    *,
    as_json: bool,
    below_c: float | None = None,
    allow_known_bad: bool = False,
) -> RunRecord:
    """Run a workload once, print the run, and return it."""
    from upright_bolt.session.starting import start_run

    with session_at(choice, exclusive=True) as session, store_at(choice) as store:
        for orphan in store.mark_unfinished(session.machine.spec, session.boot_id):
            print(f"Run {orphan} was cut off when its program ended; it is kept as unfinished.", file=sys.stderr)
        if settings:
            if not allow_known_bad:
                check_ground(choice, session.access, [settings], what_to_do=NOT_RUN)
            _try_for_run(session, settings)
        prior = None
        if workload_called(work.workload).mode is Mode.HOLD:
            from upright_bolt.reports.earlier_cooling import earlier_cooling

            prior = earlier_cooling(store, store.all(), session.machine.spec)
        run = start_run(session, work, label, store, thermal_prior=prior)
        record = store.get(to_end(session, run).id)
        print_run(store, record, below_c, as_json=as_json)
    return record


def _try_for_run(session: "Session", settings: Settings) -> None:
    from upright_bolt.session.starting import try_or_raise

    if session.status().trial is not None:
        raise BadInput("A trial is running already; “keep” or “put-back” it before a run with settings of its own.")
    try_or_raise(session, settings)


def finished(record: RunRecord) -> RunRecord:
    """Return the run if it ran to its end. Raises BoltError if not."""
    if record.end.state is not RunState.FINISHED:
        raise BoltError(f"Run {record.id} is kept as {record.end.how}.")
    return record


def to_end(session: "Session", run: "ActiveRun") -> "ActiveRun":
    """Let a run go on to its end and return it; an interrupt stops it and keeps what is there.

    Raises:
        BoltError: the run could not be kept.
        MachineFroze: a twin froze.
    """
    carry_on(session, run)
    if run.unsaved:
        raise BoltError(f"Run {run.id} could not be kept to its end. {run.unsaved}")
    return run
