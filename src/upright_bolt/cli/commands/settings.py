"""Commands that change and tell what is in force: ``set``, ``put-back``, ``keep``, ``stock``, ``status``, ``plug``."""

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, replace
from typing import TYPE_CHECKING, Annotated, Any

import typer

from upright_bolt.cli.context import AsJson, MachineChoice, access_at, print_json, print_table, session_at
from upright_bolt.cli.ground import OVER, check_ground
from upright_bolt.errors import BadInput
from upright_bolt.model.catalogue import FIRMWARE_LIMITS, declaration_of, title_of
from upright_bolt.model.control import show_value
from upright_bolt.model.settings import parse_assignments, show_settings
from upright_bolt.text.enforcement import entry_words
from upright_bolt.text.notes import sentence
from upright_bolt.text.times import date_and_time
from upright_bolt.text.trials import (
    STOCK_UNKNOWN,
    as_error,
    capped,
    drift,
    limits_changed,
    reset_to_stock,
    row_sentence,
    unrecorded,
)
from upright_bolt.text.trials import revert as put_back_words

if TYPE_CHECKING:
    from upright_bolt.model.settings import Settings
    from upright_bolt.model.trial import ApplyReport, ApplyRow, Status, Trial
    from upright_bolt.settings.access import MachineAccess


REACTION_S = 2
"""Firmware sets its own limits within a second, and what is held is put back then."""
AS_A_TRIAL = "Nothing was changed. --allow-known-bad tries it anyway."
ONLY_TRIED = "What has failed can be tried, but not kept; “put-back” ends the trial."
AS_KEPT = "Nothing was kept. --allow-known-bad keeps it anyway; “put-back” ends the trial."


def trial_data(trial: "Trial | None") -> dict[str, Any] | None:
    """Return a trial as plain data."""
    if trial is None:
        return None
    return {
        "settings": trial.settings,
        "before": trial.before_values,
        "since": trial.since,
        "by": trial.by,
        "lasts": "until keep or put-back" if trial.standing else "until the program that began it ends",
    }


def set_(
    context: typer.Context,
    assignments: Annotated[list[str], typer.Argument(help="NAME=VALUE with its unit: sustained=25W turbo=off")],
    keep: Annotated[bool, typer.Option("--keep", help="Keep at once, without a trial.")] = False,
    confirm: Annotated[
        str, typer.Option("--confirm", metavar="NAME", help="Name the control whose protection you take away.")
    ] = "",
    wake: Annotated[bool, typer.Option("--wake", help="Wake a graphics chip that sleeps, to set it.")] = False,
    over: Annotated[bool, typer.Option("--allow-known-bad", help=OVER)] = False,
    as_json: AsJson = False,
) -> int:
    """Put settings in force as a trial, until “keep” or “put-back”."""
    from upright_bolt.analysis.comparison.no_effect import without_effect
    from upright_bolt.text.notes import no_effect

    settings = parse_assignments(assignments)
    _ask_first(settings, confirm)
    with _access(context.obj, settings, wake=wake) as access:
        if keep or not over:
            advice = ONLY_TRIED if over else AS_A_TRIAL
            check_ground(context.obj, access, [settings], what_to_do=advice, beyond_only=over)
        report = access.try_settings(settings, standing=True)
        if report.ok and keep:
            access.keep()
        idle = without_effect(settings, access.current_values()) if report.ok else ()
    if as_json:
        print_json([{**asdict(row), "why": row_sentence(row), "code": _code(row)} for row in report.rows])
    else:
        _print_report(report, kept=keep)
    for entry in idle:
        print(no_effect(entry), file=sys.stderr if as_json else sys.stdout)
    if not report.ok:
        raise as_error(report)
    return 0


@contextmanager
def _access(choice: MachineChoice, settings: "Settings", *, wake: bool) -> Iterator["MachineAccess"]:
    """Open the machine; ``wake`` its graphics chips that the settings are of. Raises BadInput if one does not wake."""
    if not wake:
        with access_at(choice, exclusive=True) as access:
            yield access
        return
    from upright_bolt.session.chip_wake import wake_for

    with session_at(choice, exclusive=True) as session:
        wake_for(session, settings)
        yield session.access


def revert(context: typer.Context, as_json: AsJson = False) -> None:
    """End the trial and put back what was in force before it."""
    with access_at(context.obj, exclusive=True) as access:
        trial = access.revert("asked for")
    if as_json:
        print_json(
            {
                "revert": trial.before_values,
                "left_to_firmware": trial.left_to_firmware,
                "unrecorded": trial.unrecorded,
            }
        )
    else:
        print(put_back_words(replace(trial, unrecorded="")))
        if trial.unrecorded:
            print(unrecorded(trial), file=sys.stderr)


def stock(
    context: typer.Context,
    names: Annotated[list[str] | None, typer.Argument(metavar="[NAME…]", help="Controls; all if none.")] = None,
    as_json: AsJson = False,
) -> None:
    """Put back the machine's own values, after “keep” as well; a trial ends."""
    with access_at(context.obj, exclusive=True) as access:
        done = access.reset_to_stock(names or [])
    if as_json:
        print_json({"stock": done.before_values, "left_to_firmware": done.left_to_firmware})
    else:
        print(reset_to_stock(done))


def keep_(
    context: typer.Context,
    over: Annotated[bool, typer.Option("--allow-known-bad", help="Keep values that come close to a failure.")] = False,
    as_json: AsJson = False,
) -> None:
    """End the trial and keep its settings in force until a restart."""
    with access_at(context.obj, exclusive=True) as access:
        tried = access.status().trial
        if tried is not None:
            check_ground(context.obj, access, [tried.settings], what_to_do=ONLY_TRIED, beyond_only=True)
            if not over:
                check_ground(context.obj, access, [tried.settings], what_to_do=AS_KEPT)
        trial = access.keep()
    if as_json:
        print_json({"kept": trial.settings})
    else:
        print(f"Kept: {show_settings(trial.settings)}. It holds until the machine restarts.")


def status(context: typer.Context, as_json: AsJson = False) -> None:
    """Say whether a trial is running and whether what was set still holds."""
    with access_at(context.obj, exclusive=False) as access:
        now = access.status()
    if as_json:
        print_json(status_data(now))
    else:
        _print_status(now)


def status_data(now: "Status") -> dict[str, Any]:
    """Return a status as plain data."""
    drift = [asdict(entry) | {"why": sentence(entry.why)} for entry in now.drift]
    held_down = {name: sentence(why) for name, why in now.capped.items()}
    return {"trial": trial_data(now.trial), "drift": drift, "kept": now.kept, "capped": held_down,
            "unseen": sentence(now.unseen), "stock_unknown": now.stock_unknown}  # fmt: skip


def plug(
    context: typer.Context,
    charger: Annotated[str, typer.Argument(metavar="in|out", help="in or out")],
    as_json: AsJson = False,
) -> None:
    """Plug a twin's charger in or out, and let two seconds pass: its firmware reacts."""
    if charger not in ("in", "out"):
        raise BadInput(f"“{charger}” is neither in nor out.")
    with session_at(context.obj, exclusive=True) as session:
        before = session.current_values()
        profiles = session.access.profiles
        told = len(profiles.log()) if profiles is not None else 0
        session.plug(charger=charger == "in")
        for _ in range(REACTION_S):
            session.machine.clock.wait_until(session.machine.clock.now_s() + 1.0)
            session.tick()
        after = session.current_values()
        news = profiles.log()[told:] if profiles is not None else ()
    if as_json:
        changed = {name: [before[name], after[name]] for name in FIRMWARE_LIMITS
                   if before.get(name) != after.get(name)}  # fmt: skip
        print_json({"charger": charger, "changed": changed})
    else:
        said = "The charger is plugged in." if charger == "in" else "The charger is unplugged."
        print(said if news else f"{said} {limits_changed(before, after)}".rstrip())
        for entry in news:
            print(entry_words(entry))


def add_to(app: typer.Typer) -> None:
    """Add the commands."""
    app.command("set")(set_)
    app.command("put-back")(revert)
    app.command("keep")(keep_)
    app.command("stock")(stock)
    app.command("status")(status)
    app.command("plug")(plug)


def _ask_first(settings: "Settings", confirm: str) -> None:
    """Raise BadInput unless a control that takes a protection away is named a second time."""
    for name, value in settings.items():
        declared = declaration_of(name)
        if declared.guarded and value == "off" and confirm != name:
            raise BadInput(
                f"{title_of(name)}: {declared.hint} If you want that, say so: add --confirm {name} to the command."
            )


def _code(row: "ApplyRow") -> str | None:
    return None if row.why is None else row.why.code.value


def _print_report(report: "ApplyReport", *, kept: bool) -> None:
    rows = [("control", "asked", "got", "")]
    for row in report.rows:
        got = show_value(row.name, row.got)
        why = row_sentence(row) if row.ok else "not set"
        rows.append((row.name, show_value(row.name, row.asked), got, why))
    print_table(rows)
    if report.ok:
        print("Kept until the machine restarts." if kept else
              "A trial is running. End it with “upright-bolt keep” or “upright-bolt put-back”.")  # fmt: skip


def _print_status(now: "Status") -> None:
    if now.trial is None and now.unseen is not None:
        print(f"Whether root has a trial running cannot be seen from here. {sentence(now.unseen)}")
    elif now.trial is None:
        print("No trial is running.")
    else:
        since, tried = date_and_time(now.trial.since), show_settings(now.trial.settings)
        print(f"A trial is running since {since}, by {now.trial.by}: {tried}.")
        print(f"Before it: {show_settings(now.trial.before_values)}.")
    if now.stock_unknown:
        print(STOCK_UNKNOWN)
    if now.kept:
        print(f"Kept in this boot: {show_settings(now.kept)}.")
    for entry in now.drift:
        print(f"No longer in force: {drift(entry, now)}")
    for held_down in capped(now):
        print(held_down)
