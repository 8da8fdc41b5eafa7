"""Commands ``rules``, ``hold`` and ``boot``: when which profile is used, and that it stays in force."""

import sys
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from upright_bolt.cli.commands.profiles import HELD_WHILE_OPEN, desk_at
from upright_bolt.cli.context import AsJson, print_json
from upright_bolt.disk import read_given
from upright_bolt.errors import BadInput
from upright_bolt.model.control import show_value
from upright_bolt.text.enforcement import entry_words, held_words, resting_words, standing_words
from upright_bolt.text.rules import MOST_BYTES
from upright_bolt.text.times import date_and_time

if TYPE_CHECKING:
    from collections.abc import Sequence

    from upright_bolt.model.hold import LogEntry


def rules_show(context: typer.Context, as_json: AsJson = False) -> None:
    """Show the rules as sentences, in the order in which they count."""
    with desk_at(context.obj) as (_, desk):
        status = desk.status()
    if as_json:
        print_json({"rules": [asdict(rule) for rule in status.rules], "broken": status.rules_broken})
        return
    if status.rules_broken:
        raise BadInput(f"The rules cannot be used: {status.rules_broken}")
    for number, rule in enumerate(status.rules, start=1):
        print(f"{number}. {rule.sentence}")
    if not status.rules:
        print("There are no rules: the profile that you use stays in force.")


def rules_set(
    context: typer.Context, file: Annotated[Path, typer.Argument(metavar="FILE", help="A rule a line; - for input.")]
) -> None:
    """Make the sentences of a file the rules."""
    data = sys.stdin.buffer.read(MOST_BYTES + 1) if str(file) == "-" else read_given(file, MOST_BYTES)
    try:
        text = data.decode()
    except UnicodeDecodeError as fault:
        raise BadInput(f"{file} is not text in UTF-8 (byte {fault.start}).") from fault
    with desk_at(context.obj) as (_, desk):
        desk.profiles.save_rules(text)
        desk.profiles.reconcile()
        status = desk.status()
    print(f"{len(status.rules)} rules. {standing_words(status)}")
    if not status.hold:
        print("They count from the moment that “hold on” is said.")


def rules_explain(context: typer.Context, as_json: AsJson = False) -> None:
    """Say which rule counts now and why, and of every other one why not. Nothing is changed."""
    with desk_at(context.obj) as (_, desk):
        status = desk.status()
    if as_json:
        print_json([asdict(rule) for rule in status.rules])
        return
    if status.rules_broken:
        raise BadInput(f"The rules cannot be used: {status.rules_broken}")
    for number, rule in enumerate(status.rules, start=1):
        print(f"{number}. {rule.sentence}\n   {rule.why}.")
    if not any(rule.counts for rule in status.rules):
        print("No rule counts now: what is in force stays.")


def hold(
    context: typer.Context,
    what: Annotated[str, typer.Argument(metavar="on|off|status|log", help="on, off, status or log")] = "status",
    as_json: AsJson = False,
) -> None:
    """Keep profiles in force and follow the rules, or say how that stands, or what has been put back."""
    if what not in ("on", "off", "status", "log"):
        raise BadInput(f"“{what}” is none of on, off, status, log.")
    with desk_at(context.obj) as (_, desk):
        if what in ("on", "off"):
            desk.profiles.set_hold(on=what == "on")
            desk.profiles.reconcile()
        status, log = desk.status(), desk.profiles.log() if what == "log" else ()
        near = desk.profiles.near
    if what == "log":
        _print_log(log, as_json=as_json)
    elif as_json:
        print_json(asdict(status))
    else:
        print(f"Hold is {'on' if status.hold else 'off'}. {standing_words(status)}")
        if what == "on" and near:
            print(HELD_WHILE_OPEN)
        for held in status.held_back:
            print(f"{held_words(held)}.")
        for one in status.resting:
            print(resting_words(one))


def _print_log(log: "Sequence[LogEntry]", *, as_json: bool) -> None:
    if as_json:
        print_json([asdict(entry) for entry in log])
        return
    for entry in log:
        print(f"{date_and_time(entry.at)}  {entry_words(entry)}")
    if not log:
        print("Nothing has been put in force or put back yet.")


def boot(
    context: typer.Context,
    what: Annotated[str, typer.Argument(metavar="on|off|status", help="on, off or status")] = "status",
    as_json: AsJson = False,
) -> None:
    """Put profiles in force after the machine's start, or not; or say what would be."""
    if what not in ("on", "off", "status", "begin"):
        raise BadInput(f"“{what}” is none of on, off, status.")
    with desk_at(context.obj) as (_, desk):
        if what in ("on", "off"):
            desk.profiles.set_boot(on=what == "on")
        if what == "begin":  # what the machine's start calls: asking a service is what starts it
            desk.profiles.reconcile()
            print(standing_words(desk.status()))
            return
        status = desk.status()
        view = next((v for v in status.profiles if v.profile.name == status.at_boot), None)
    if as_json:
        print_json({"boot": status.boot, "profile": status.at_boot, "suspects": status.suspects})
        return
    if not status.boot:
        print("After a start nothing is put in force.")
        return
    if not status.at_boot:
        print("After a start the profile in force would be put in force; none is. Use one, or write rules.")
        return
    held = {one.name: one.why for one in view.held_back} if view is not None else {}
    print(f"After a start, as things stand now: {status.at_boot}.")
    for control, value in view.profile.settings.items() if view is not None else ():
        why = f"held back: {held[control]}" if control in held else "in force"
        print(f"  {control} {show_value(control, value)}: {why}")


def add_to(app: typer.Typer) -> None:
    """Add the commands."""
    group = typer.Typer(no_args_is_help=True)
    for name, command in (("show", rules_show), ("set", rules_set), ("explain", rules_explain)):
        group.command(name)(command)
    app.add_typer(group, name="rules", help="When which profile is used.")
    app.command("hold")(hold)
    app.command("boot")(boot)
