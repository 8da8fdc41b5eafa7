"""The command ``failures``: what has failed on this machine's chip, and forgetting it."""

import sys
from dataclasses import asdict
from typing import TYPE_CHECKING, Annotated

import typer

from upright_bolt.cli.context import AsJson, access_at, print_json
from upright_bolt.errors import BadInput
from upright_bolt.text.failures import LOST, failure_text

if TYPE_CHECKING:
    from upright_bolt.settings.access import ProfileAccess


def failures(
    context: typer.Context,
    clear: Annotated[
        bool, typer.Option("--clear", help="Forget them all, so that profiles may apply such values again.")
    ] = False,
    as_json: AsJson = False,
) -> None:
    """List the values that have failed on this chip; no profile, rule or search applies them unasked."""
    with access_at(context.obj, exclusive=clear) as access:
        if access.profiles is None:
            raise BadInput("This machine keeps no record of failures.")
        if clear:
            access.profiles.clear_failures()
        _show(access.profiles, as_json=as_json)


def _show(profiles: "ProfileAccess", *, as_json: bool) -> None:
    status = profiles.status()
    if as_json:
        print_json({"failures": [asdict(one) for one in status.failures], "lost": status.failures_lost,
                    "cleared_at": status.cleared_at})  # fmt: skip
        return
    if status.failures_lost:
        print(f"No voltage offset or memory clock is applied unasked: {LOST}.", file=sys.stderr)
    for one in status.failures:
        print(f"{failure_text(one)}.")
    if not status.failures and not status.failures_lost:
        print("Nothing is on record as failed on this chip.")


def add_to(app: typer.Typer) -> None:
    """Add the command."""
    app.command("failures")(failures)
