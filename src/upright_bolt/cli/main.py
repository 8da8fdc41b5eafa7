"""The commands put together."""

import importlib
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated

import typer

from upright_bolt import __version__
from upright_bolt.app import DEFAULT_MACHINE, give_up_root, parse_machine
from upright_bolt.cli.context import MachineChoice
from upright_bolt.errors import BadInput

MODULES = {
    "machine": ("capture", "machine", "sample"),
    "settings": ("set", "put-back", "keep", "stock", "status", "plug"),
    "runs": ("run", "runs", "compare", "sweep"),
    "stability": ("edge",),
    "failures": ("failures",),
    "curve": ("curve",),
    "profiles": ("profile",),
    "enforcement": ("rules", "hold", "boot"),
    "window": ("window",),
    "demo": ("demo",),
    "service": ("service",),
}
"""Modules of ``cli.commands``, in the order of the help text, with the commands of each."""
WITH_MACHINE = (None, "machine", "sample", "capture", "set", "put-back", "keep", "stock", "status", "run", "sweep",
                "edge", "failures", "curve", "profile", "rules", "hold", "boot", "compare", "window",
                "service")  # fmt: skip
"""Commands that may need root's rights for this computer; each gives them up as soon as it has it open."""


def _version(value: bool) -> None:
    if value:
        print(f"upright-bolt {__version__}")
        raise typer.Exit


def build(words: Sequence[str] = ()) -> typer.Typer:
    """Return the command line.

    Args:
        words: what was typed. Where one command stands there, its module alone is loaded: a short command would else
            spend most of its time on loading all the others.
    """
    app = typer.Typer(add_completion=False, pretty_exceptions_enable=False, rich_markup_mode=None)

    @app.callback(invoke_without_command=True)
    def everywhere(
        context: typer.Context,
        on: Annotated[
            str,
            typer.Option(
                "--machine", "-m", help="host, twin:NAME (twin:tern), tree:DIR or a capture, tree:FILE.tar.gz."
            ),
        ] = DEFAULT_MACHINE,
        data: Annotated[
            str | None, typer.Option("--data", metavar="FOLDER", help="Folder for runs, journals and twins.")
        ] = None,
        version: Annotated[  # noqa: ARG001 - the callback prints it
            bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version.")
        ] = False,
    ) -> None:
        """Tune a processor from Linux, and prove every change by measurement. Without a command: the window."""
        if data is not None and not data.strip():
            raise BadInput("--data: nothing was given; name a folder, or leave it out for your own.")
        context.obj = choice = MachineChoice(on, None if data is None else Path(data))
        context.call_on_close(choice.fail_if_troubled)
        if context.invoked_subcommand not in WITH_MACHINE or parse_machine(on).kind != "host":
            give_up_root()
        if context.invoked_subcommand is None:
            from upright_bolt.cli.commands import window

            raise typer.Exit(window.show(context.obj))

    for module in _needed(words):
        importlib.import_module(f"upright_bolt.cli.commands.{module}").add_to(app)
    return app


def _needed(words: Sequence[str]) -> tuple[str, ...]:
    """Return the modules that may be meant: one if just one of them has a command among the words, else all."""
    meant = {module for word in words for module, commands in MODULES.items() if word in commands}
    return tuple(meant) if len(meant) == 1 else tuple(MODULES)
