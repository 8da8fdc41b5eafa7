"""The window, started from the command line."""

import os
import sys
from typing import Annotated

import typer

from upright_bolt.app import open_session
from upright_bolt.cli.context import HOLDER, MachineChoice
from upright_bolt.errors import BoltError


def show(choice: MachineChoice, view: str = "workbench") -> int:
    """Open the window and return its exit code.

    Raises:
        BoltError: there is no display, or Qt's libraries are missing.
    """
    if not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM")):
        raise BoltError(
            "There is no display to open a window on. Every capability is on the command line too: upright-bolt --help."
        )
    try:
        from upright_bolt.desktop.app import open_window
    except ImportError as fault:
        raise BoltError(f"The window's libraries cannot be loaded ({fault}). “make setup” installs them.") from fault
    return open_window(open_session(choice.machine, choice.given, HOLDER, exclusive=True), choice.data, view)


def window(
    context: typer.Context,
    view: Annotated[str, typer.Option("--view", help="machine, workbench or compare")] = "workbench",
) -> int:
    """Open the window."""
    code = show(context.obj, view)
    sys.stdout.flush()
    return code


def add_to(app: typer.Typer) -> None:
    """Add the commands."""
    app.command("window")(window)
