"""The window, started from the command line."""

import os
import sys
from dataclasses import replace
from typing import TYPE_CHECKING, Annotated

import typer

from upright_bolt.app import open_session
from upright_bolt.cli.context import HOLDER, MachineChoice
from upright_bolt.errors import BoltError

if TYPE_CHECKING:
    from upright_bolt.session.session import Session


QT_NEEDS = "libgl1 libegl1 libdbus-1-3 libfontconfig1 libxkbcommon-x11-0 libxcb-cursor0 libxcb-icccm4"


def show(choice: MachineChoice, view: str | None = None, *, hidden: bool = False) -> int:
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
        raise BoltError(
            f"The window's libraries cannot be loaded ({fault}). On Debian: sudo apt install {QT_NEEDS}"
        ) from fault

    def opener(spec: str) -> "Session":
        return open_session(spec, choice.given, HOLDER, exclusive=True)

    return open_window(opener, choice.machine, choice.data, view, hidden=hidden)


def window(
    context: typer.Context,
    capture: Annotated[str | None, typer.Argument(help="A capture of another machine, FILE.tar.gz.")] = None,
    view: Annotated[str | None, typer.Option("--view", help="machine, workbench, edge, compare, profiles")] = None,
    hidden: Annotated[bool, typer.Option("--hidden", help="Show its icon in the panel alone.")] = False,
) -> int:
    """Open the window."""
    choice: MachineChoice = context.obj
    code = show(choice if capture is None else replace(choice, machine=f"tree:{capture}"), view, hidden=hidden)
    sys.stdout.flush()
    return code


def add_to(app: typer.Typer) -> None:
    """Add the commands."""
    app.command("window")(window)
