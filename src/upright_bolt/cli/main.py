"""The commands put together."""

from pathlib import Path
from typing import Annotated

import typer

from upright_bolt import __version__
from upright_bolt.app import DEFAULT_MACHINE
from upright_bolt.cli import demo, machine, runs, service, settings, window
from upright_bolt.cli.context import MachineChoice


def _version(value: bool) -> None:
    if value:
        print(f"upright-bolt {__version__}")
        raise typer.Exit


def build() -> typer.Typer:
    """Return the whole command line."""
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
        data: Annotated[Path | None, typer.Option("--data", help="Folder for runs, journals and twins.")] = None,
        version: Annotated[bool, typer.Option("--version", callback=_version, is_eager=True)] = False,  # noqa: ARG001
    ) -> None:
        """Tune a processor from Linux, and prove every change by measurement. Without a command: the window."""
        context.obj = MachineChoice(on, data)
        if context.invoked_subcommand is None:
            raise typer.Exit(window.show(context.obj))

    machine.add_to(app)
    settings.add_to(app)
    runs.add_to(app)
    window.add_to(app)
    demo.add_to(app)
    service.add_to(app)
    return app
