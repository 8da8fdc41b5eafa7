"""The command that is the root service."""

from typing import Annotated

import typer

from upright_bolt.app import serve
from upright_bolt.errors import BadInput

LONGEST_IDLE_S = 24 * 3600.0


def service(
    context: typer.Context,
    idle: Annotated[str, typer.Option("--idle", help="End when nobody has called for so long.")] = "60s",
) -> None:
    """Be the root service on the system bus; the bus starts it by itself when it is needed."""
    from upright_bolt.model.quantity import TIME

    idle_s = TIME.parse(idle, "idle")
    if not 1.0 <= idle_s <= LONGEST_IDLE_S:
        raise BadInput("idle: it lasts from 1s to 24h.")
    serve(context.obj.machine, context.obj.given, idle_s)


def add_to(app: typer.Typer) -> None:
    """Add the command."""
    app.command("service")(service)
