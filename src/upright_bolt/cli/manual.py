"""The man page, made from the commands themselves.

``python -m upright_bolt.cli.manual man|bash|zsh|fish`` prints it, or a shell's completion; ``make install`` and the
package keep all of them.
"""

import sys
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from upright_bolt import __version__
from upright_bolt.cli.main import build
from upright_bolt.model.catalogue import CATALOGUE
from upright_bolt.model.workloads import WORKLOADS
from upright_bolt.simulator.chip import TWINS

PROGRAM = "upright-bolt"
SUMMARY = "tune a processor, and prove every change by measurement"
DESCRIPTION = (
    "Sets power limits, turbo, energy preference, clocks and voltage offsets from Linux. Every change is a trial: it "
    "is read back from the machine, and goes back when you say so. Without a command the window opens."
)
TYPES = {"int": "N", "float": "NUMBER", "path": "FILE"}
EXIT_CODES = (("0", "done"), ("1", "refused, failed, or the work gave wrong results"), ("2", "bad input"))
FILES = (
    ("~/.local/share/upright-bolt", "runs, journals, simulated machines and the window's preferences; or the folder of "
     "--data"),
    ("/etc/upright-bolt", "profiles and rules of this computer, with the root service; ~/.config/upright-bolt without"),
    ("/var/lib/upright-bolt", "what the root service, or root, remembers of this computer"),
)  # fmt: skip
EXAMPLES = (
    ("upright-bolt machine", "what can be set here, and what cannot and why"),
    ("upright-bolt run steady --label stock", "a rested baseline of ten minutes"),
    ("upright-bolt set sustained=25W burst=25W", "try other limits"),
    ("upright-bolt compare 1 2", "whether it made a difference"),
    ("upright-bolt put-back", "as before; or: keep"),
)


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


# the man page


def man_page() -> str:
    """Return the page in the language of man(7)."""
    everywhere, all_commands = commands()
    lines = [
        f'.TH UPRIGHT-BOLT 1 "" "Upright Bolt {__version__}" "User Commands"',
        ".SH NAME", f"{PROGRAM} \\- {_roff(SUMMARY)}",
        ".SH SYNOPSIS", f".B {_roff(PROGRAM)}", "[\\fIoptions\\fR] [\\fIcommand\\fR] [\\fIarguments\\fR]",
        ".SH DESCRIPTION",
        _roff(DESCRIPTION),
        ".SH OPTIONS", "These may stand anywhere.", *_roff_options(everywhere),
        ".SH COMMANDS",
    ]  # fmt: skip
    for entry in all_commands:
        lines += [
            f".SS {_roff(' '.join((entry.words, *entry.arguments)))}",
            _roff(entry.does),
            *_roff_options(entry.options),
        ]
    workloads = [(name, known.purpose) for name, known in WORKLOADS.items()]
    machines = [
        ("host", "this computer; the usual one"),
        *((f"twin:{name}", make().described) for name, make in TWINS.items()),
        ("tree:DIR, tree:FILE.tar.gz", "a copy of kernel files, or a capture"),
    ]
    controls = [(control.name, f"{control.title}. {control.hint}") for control in CATALOGUE.values()]
    sections = (
        ("WORKLOADS", workloads), ("MACHINES", machines), ("CONTROLS", controls), ("EXIT STATUS", EXIT_CODES),
        ("FILES", FILES), ("EXAMPLES", EXAMPLES),
    )  # fmt: skip
    for title, rows in sections:
        lines.append(f".SH {title}")
        for shown, words in rows:
            lines += [".TP", f".B {_roff(shown)}", _roff(words)]
    return "\n".join(lines) + "\n"


def _roff_options(options: tuple[Option, ...]) -> Iterator[str]:
    for option in options:
        yield ".TP"
        takes = f" \\fI{_roff(option.takes)}\\fR" if option.takes else ""
        yield f"\\fB{_roff(', '.join(option.names))}\\fR{takes}"
        yield _roff(option.words) or "See the text above."


def _roff(text: str) -> str:
    """Return text that man(7) shows as it is."""
    shown = text.replace("\\", "\\e").replace("-", "\\-").replace("\n", " ")
    return f"\\&{shown}" if shown.startswith((".", "'")) else shown


def main() -> None:
    """Print what is asked for."""
    from upright_bolt.cli import completions

    made = {"man": man_page, "bash": completions.bash, "zsh": completions.zsh, "fish": completions.fish}
    if len(sys.argv) != 2 or sys.argv[1] not in made:
        sys.exit(f"Say which: {', '.join(made)}.")
    print(made[sys.argv[1]](), end="")


if __name__ == "__main__":
    main()
