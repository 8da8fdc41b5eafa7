"""All commands with their arguments and options, for the man page and for completions."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from upright_bolt.cli.main import build

PROGRAM = "upright-bolt"
TYPES = {"int": "N", "float": "NUMBER", "path": "FILE"}


@dataclass(frozen=True, slots=True)
class Option:
    """An option: its names, what it takes (empty for a switch), and what it does."""

    names: tuple[str, ...]
    takes: str
    words: str


@dataclass(frozen=True, slots=True)
class Command:
    """A command: its words (``runs show``), its arguments as typed, what it does, and its options."""

    words: str
    arguments: tuple[str, ...]
    does: str
    options: tuple[Option, ...]


def commands() -> tuple[tuple[Option, ...], list[Command]]:
    """Return the options of every command, and all commands, those below others after them."""
    from typer.main import get_command

    root: Any = get_command(build())
    return _options(root), list(_below(root, ""))


def _below(group: Any, words: str) -> Iterator[Command]:  # noqa: ANN401 - of the command line's library
    for name, entry in group.commands.items():
        full = f"{words} {name}".strip()
        arguments = tuple(_argument(p) for p in entry.params if p.param_type_name == "argument")
        yield Command(full, arguments, (entry.help or "").strip(), _options(entry))
        if getattr(entry, "commands", None):
            yield from _below(entry, full)


def _argument(parameter: Any) -> str:  # noqa: ANN401 - same
    name = str(parameter.metavar or parameter.name.upper()).strip("[]").removesuffix("…")
    name = f"{name} …" if parameter.nargs == -1 else name
    return name if parameter.required else f"[{name}]"


def _options(entry: Any) -> tuple[Option, ...]:  # noqa: ANN401 - same
    return tuple(
        Option(
            tuple(sorted((*parameter.opts, *parameter.secondary_opts), key=len)),
            "" if parameter.is_flag else str(parameter.metavar or TYPES.get(parameter.type.name, "TEXT")),
            (parameter.help or "").strip(),
        )
        for parameter in entry.params
        if parameter.param_type_name == "option"
    )
