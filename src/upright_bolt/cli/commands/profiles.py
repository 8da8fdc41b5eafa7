"""Commands below ``profile``."""

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from upright_bolt.analysis.validation.proofs import alike
from upright_bolt.app import parse_machine
from upright_bolt.cli.context import AsJson, MachineChoice, access_at, print_json, print_table, run_number, store_at
from upright_bolt.cli.ground import search_log
from upright_bolt.errors import BadInput
from upright_bolt.model.control import show_value
from upright_bolt.model.profile import STOCK
from upright_bolt.model.settings import parse_assignments, show_settings
from upright_bolt.text.enforcement import held_words, nothing_applied, proof_words, standing_words
from upright_bolt.text.trials import as_error

if TYPE_CHECKING:
    from upright_bolt.model.control import Value
    from upright_bolt.model.hold import EnforcementStatus
    from upright_bolt.model.run import RunRecord
    from upright_bolt.presentation.profile_desk import ProfileDesk
    from upright_bolt.settings.access import MachineAccess

Name = Annotated[str, typer.Argument(metavar="NAME", help="A profile.")]
Replace = Annotated[bool, typer.Option("--replace", help="Replace a profile of that name.")]
HELD_WHILE_OPEN = "It is held while a window or command has this machine open; with the root service, all the time."
SOURCES = ("in-force", "draft", "run", "search")


@contextmanager
def desk_at(choice: MachineChoice) -> "Iterator[tuple[MachineAccess, ProfileDesk]]":
    """Open a machine and what a person does with its profiles."""
    from upright_bolt.presentation.profile_desk import Past, ProfileDesk

    def past() -> Past:
        with store_at(choice) as store:
            return Past(store.all(), search_log(choice).all())

    with access_at(choice, exclusive=True) as access:
        yield access, ProfileDesk(access, parse_machine(choice.machine).text, past)


def _warn(desk: "ProfileDesk", name: str) -> None:
    """Say what of a profile would be held back."""
    for view in desk.status().profiles:
        for held in view.held_back if view.profile.name == name else ():
            print(f"{held_words(held)}.", file=sys.stderr)


def list_(context: typer.Context, as_json: AsJson = False) -> None:
    """List the profiles of this machine."""
    with desk_at(context.obj) as (_, desk):
        status = desk.status()
    if as_json:
        print_json({"profiles": [asdict(view) for view in status.profiles], "broken": status.broken,
                    "active": status.active})  # fmt: skip
        return
    rows = [("profile", "", "sets", "held back")]
    rows.append((STOCK, _mark(STOCK, status), "the machine's own values", ""))
    for view in status.profiles:
        held = ", ".join(one.name for one in view.held_back)
        rows.append((view.profile.name, _mark(view.profile.name, status), show_settings(view.profile.settings), held))
    print_table(rows)
    for file, why in status.broken.items():
        print(f"{file} is left out: {why}", file=sys.stderr)


def _mark(name: str, status: "EnforcementStatus") -> str:
    if name != status.active:
        return ""
    return "active, all withheld" if nothing_applied(status) else "in force"


def show(context: typer.Context, name: Name, as_json: AsJson = False) -> None:
    """Show a profile, and what speaks for each of its settings."""
    with desk_at(context.obj) as (_, desk):
        profile = desk.get(name)
        held = next((v.held_back for v in desk.status().profiles if v.profile.name == profile.name), ())
    if as_json:
        print_json({"profile": asdict(profile), "held_back": [asdict(one) for one in held]})
        return
    if profile.name == STOCK:
        print("stock puts the machine's own values in force. It is always there and cannot be changed.")
        return
    if profile.note:
        print(profile.note)
    why = {one.name: f"held back: {one.why}" for one in held}
    rows = [("setting", "value", "what speaks for it")]
    for control, value in profile.settings.items():
        proof = profile.proofs.get(control)
        words = proof_words(control, value, proof) if proof is not None or control not in why else ""
        rows.append((control, show_value(control, value), "; ".join(filter(None, (why.get(control), words)))))
    print_table(rows)


def save(
    context: typer.Context,
    name: Name,
    run: Annotated[str | None, typer.Argument(metavar="[ID]", help="The run, with --from run.")] = None,
    source: Annotated[
        str,
        typer.Option(
            "--from",
            metavar="in-force|draft|run|search",
            help="What is saved: what is in force, the trial, or a run's settings.",
        ),
    ] = "in-force",
    note: Annotated[str, typer.Option("--note", help="Words of your own.")] = "",
    replacing: Replace = False,
    as_json: AsJson = False,
) -> None:
    """Save settings as a profile: those in force, those of the trial, or those of a run."""
    with desk_at(context.obj) as (access, desk):
        settings = _settings_from(context.obj, access, source.strip(), run)
        profile = desk.save(name, settings, note, replacing=replacing)
        if as_json:
            print_json(asdict(profile))
        else:
            print(f"Saved as {profile.name}: {show_settings(profile.settings)}.")
        _warn(desk, profile.name)


def _settings_from(choice: MachineChoice, access: "MachineAccess", source: str, run: str | None) -> "dict[str, Value]":
    if source not in SOURCES:
        raise BadInput(f"--from: “{source}” is none of {', '.join(SOURCES)}.")
    if (source == "run") != (run is not None):
        raise BadInput(
            "“--from run” takes the number of a run, and nothing else does: profile save NAME --from run 12."
        )
    if run is not None:
        with store_at(choice) as store:
            return _settings_of_run(store.get(run_number(run)), access)
    if source == "search":
        return _settings_of_search(choice)
    status = access.status()
    if source == "draft" and not status.tried:
        raise BadInput("No trial is running, so there is no draft to save; “set” begins one.")
    return status.tried if source == "draft" else status.expected


def _settings_of_search(choice: MachineChoice) -> "dict[str, Value]":
    """Return what the latest search that found something recommends now. Raises BadInput if that is nothing."""
    from upright_bolt.cli.commands.stability import course_of

    found = [search for search in search_log(choice).all() if search.end is not None and search.end.settings]
    if not found:
        raise BadInput("No search of this machine has found anything yet; “edge” begins one.")
    recommended = course_of(choice, found[-1]).recommended
    if not recommended:
        raise BadInput(f"What search {found[-1].asked.id} found has failed since, so nothing of it is recommended.")
    return dict(recommended)


def _settings_of_run(run: "RunRecord", access: "MachineAccess") -> "dict[str, Value]":
    """Return what a run tried; of one without a trial, what it had that is not the machine's own."""
    if run.head.tried:
        return dict(run.head.tried)
    controls = access.controls()
    return {
        name: value for name, value in run.head.settings.items()
        if name in controls and controls[name].settable and not alike(name, controls[name].stock, value)
    }  # fmt: skip


def set_(
    context: typer.Context,
    name: Name,
    assignments: Annotated[list[str] | None, typer.Argument(metavar="NAME=VALUE …", help="sustained=25W …")] = None,
    without: Annotated[list[str] | None, typer.Option("--without", metavar="CONTROL", help="Take it out.")] = None,
    as_json: AsJson = False,
) -> None:
    """Change settings of a profile. If it is in force, the change is put in force as well."""
    if not assignments and not without:
        raise BadInput("Nothing was given to change: profile set NAME sustained=25W, or --without CONTROL.")
    settings = parse_assignments(assignments or [])
    with desk_at(context.obj) as (_, desk):
        profile = desk.set(name, settings, without or ())
        desk.profiles.reconcile()
        if as_json:
            print_json(asdict(profile))
        else:
            print(f"{profile.name}: {show_settings(profile.settings)}.")
        _warn(desk, profile.name)


def copy(
    context: typer.Context,
    source: Annotated[str, typer.Argument(metavar="FROM", help="A profile.")],
    target: Annotated[str, typer.Argument(metavar="TO", help="A new profile; with --only, one that is there.")],
    only: Annotated[
        list[str] | None,
        typer.Option("--only", metavar="CONTROL", help="This setting alone."),
    ] = None,
) -> None:
    """Copy a profile, or some of its settings into another one."""
    with desk_at(context.obj) as (_, desk):
        profile = desk.copy(source, target, [each for word in only or () for each in word.split(",")])
        desk.profiles.reconcile()
        print(f"{profile.name}: {show_settings(profile.settings)}.")
        _warn(desk, profile.name)


def rename(
    context: typer.Context, name: Name, new: Annotated[str, typer.Argument(metavar="NEW", help="Its new name.")]
) -> None:
    """Give a profile another name."""
    with desk_at(context.obj) as (_, desk):
        desk.rename(name, new)
    print(f"{name} is called {new} now.")


def use(context: typer.Context, name: Name, as_json: AsJson = False) -> None:
    """Put a profile in force and hold it."""
    with desk_at(context.obj) as (_, desk):
        desk.profiles.use(name)
        status, near = desk.status(), desk.profiles.near
    if as_json:
        print_json(asdict(status))
        return
    print(standing_words(status))
    if status.applied:
        print(f"{show_settings(status.applied)}.")
    for held in status.held_back:
        print(f"{held_words(held)}.")
    if near:
        print(HELD_WHILE_OPEN)


def try_(context: typer.Context, name: Name) -> None:
    """Try a profile: a trial like any other, with what is not proven as well."""
    with desk_at(context.obj) as (access, desk):
        profile = desk.get(name)
        if not profile.settings:
            raise BadInput("stock has nothing to try; “stock” puts the machine's own values back.")
        from upright_bolt.cli.commands.settings import AS_A_TRIAL
        from upright_bolt.cli.ground import check_ground

        check_ground(context.obj, access, [profile.settings], what_to_do=AS_A_TRIAL.partition(".")[0] + ".")
        report = access.try_settings(profile.settings, standing=True)
    if not report.ok:
        raise as_error(report)
    print(f"A trial of {profile.name} is running: {show_settings(profile.settings)}.")
    print("End it with “upright-bolt keep” or “upright-bolt put-back”.")


def delete(context: typer.Context, name: Name) -> None:
    """Delete a profile that is neither in force nor named by a rule."""
    with desk_at(context.obj) as (_, desk):
        desk.profiles.delete(name)
    print(f"{name} is deleted.")


def export(
    context: typer.Context, name: Name, file: Annotated[Path, typer.Argument(metavar="FILE", help="A .toml file.")]
) -> None:
    """Write a profile's file elsewhere."""
    with desk_at(context.obj) as (_, desk):
        desk.export(name, file)
    print(f"{name} is written to {file}.")


def import_(
    context: typer.Context,
    file: Annotated[Path, typer.Argument(metavar="FILE", help="A .toml file.")],
    name: Annotated[str, typer.Option("--name", help="Its name here; the file's own if left out.")] = "",
    replacing: Replace = False,
) -> None:
    """Make a file a profile of this machine. What it claims to be proven counts only if runs here say so."""
    with desk_at(context.obj) as (_, desk):
        profile = desk.bring_in(name, file, replacing=replacing)
        print(f"{profile.name}: {show_settings(profile.settings)}.")
        _warn(desk, profile.name)


def prove(context: typer.Context) -> None:
    """Write into the profiles what the runs prove by now."""
    with desk_at(context.obj) as (_, desk):
        changed = [profile.name for profile in desk.prove_anew()]
        desk.profiles.reconcile()
    print(f"Brought up to date: {', '.join(changed)}." if changed else "The profiles say what the runs prove already.")


def add_to(app: typer.Typer) -> None:
    """Add the commands."""
    group = typer.Typer(no_args_is_help=True)
    for name, command in (
        ("list", list_), ("show", show), ("save", save), ("set", set_), ("copy", copy), ("rename", rename),
        ("use", use), ("try", try_), ("delete", delete), ("export", export), ("import", import_), ("prove", prove),
    ):  # fmt: skip
        group.command(name)(command)
    app.add_typer(group, name="profile", help="Named settings, with what speaks for each.")
