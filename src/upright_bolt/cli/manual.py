"""The man page, made from the commands themselves.

``python -m upright_bolt.cli.manual man|bash|zsh|fish`` prints it, or a shell's completion; ``make install`` and the
package keep all of them.
"""

import sys
from collections.abc import Iterator

from upright_bolt import __version__
from upright_bolt.cli import completions
from upright_bolt.cli.command_tree import PROGRAM, Option, commands
from upright_bolt.model.catalogue import CATALOGUE
from upright_bolt.model.workloads import WORKLOADS
from upright_bolt.simulator.chip import TWINS

SUMMARY = "tune a processor, and prove every change by measurement"
DESCRIPTION = (
    "Sets power limits, turbo, energy preference, clocks and voltage offsets from Linux. Every change is a trial: it "
    "is read back from the machine, and goes back when you say so. Without a command the window opens."
)
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
    made = {"man": man_page, "bash": completions.bash, "zsh": completions.zsh, "fish": completions.fish}
    if len(sys.argv) != 2 or sys.argv[1] not in made:
        sys.exit(f"Say which: {', '.join(made)}.")
    print(made[sys.argv[1]](), end="")


if __name__ == "__main__":
    main()
