"""What every command shares: which machine, which data folder, how to print."""

import json
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from upright_bolt.app import data_folder, open_access, open_session
from upright_bolt.errors import BadInput
from upright_bolt.sanitize import printable
from upright_bolt.text.trials import recovered

if TYPE_CHECKING:
    from upright_bolt.session.session import Session
    from upright_bolt.settings.access import MachineAccess
    from upright_bolt.store.runs import RunStore

AsJson = Annotated[bool, typer.Option("--json", help="Print JSON.")]
COMMAND = "the command line"
HOLDER = "the window"
LONGEST_RUN_NUMBER = 18
"""Digits; the database counts to a number of nineteen."""


@dataclass(frozen=True, slots=True)
class MachineChoice:
    """The machine as typed, the data folder that was given, if any, and what went wrong in letting machines go."""

    machine: str
    given: Path | None
    troubles: list[str] = field(default_factory=list)

    def fail_if_troubled(self) -> None:
        """Let a command that went well fail, if something could not be put back in the end. Raises Exit."""
        if self.troubles and sys.exc_info()[0] is None:
            raise typer.Exit(1)

    @property
    def data(self) -> Path:
        """The data folder."""
        return data_folder(self.given)


@contextmanager
def session_at(choice: MachineChoice, *, exclusive: bool, as_root: bool = False) -> Iterator["Session"]:
    """Open a session and close it in the end; what was recovered or went wrong is said on standard error."""
    session = open_session(choice.machine, choice.given, COMMAND, exclusive=exclusive, as_root=as_root)
    with _told(choice, session.recovered, session.close):
        yield session


@contextmanager
def access_at(choice: MachineChoice, *, exclusive: bool) -> Iterator["MachineAccess"]:
    """Open a machine to read and set it, and close it in the end; what was recovered or went wrong is said."""
    opened = open_access(choice.machine, choice.given, COMMAND, exclusive=exclusive)
    with _told(choice, recovered(opened.access.recovered), opened.access.close):
        yield opened.access


@contextmanager
def _told(choice: MachineChoice, what_was_recovered: str, close: Callable[[], str]) -> Iterator[None]:
    if what_was_recovered:
        print(what_was_recovered, file=sys.stderr)
    try:
        yield
    finally:
        if trouble := close():
            print(trouble, file=sys.stderr)
            choice.troubles.append(trouble)


@contextmanager
def store_at(choice: MachineChoice) -> Iterator["RunStore"]:
    """Open the run store and close it in the end."""
    from upright_bolt.store.runs import RunStore

    store = RunStore(choice.data / "runs.sqlite")
    try:
        yield store
    finally:
        store.close()


def print_json(data: Any) -> None:  # noqa: ANN401 - anything that JSON can hold
    """Print data as one JSON document; what a terminal could take for a command is escaped as JSON does it."""
    text = json.dumps(data, ensure_ascii=False, allow_nan=False)
    print("".join(char if printable(char) == char else json.dumps(char)[1:-1] for char in text)
          if printable(text) != text else text)  # fmt: skip


def print_table(rows: Sequence[Sequence[str]], *, right: Sequence[int] = ()) -> None:
    """Print rows as columns; the first row is the heading, ``right`` names columns of numbers."""
    widths = [max(len(row[i]) for row in rows) for i in range(len(rows[0]))]
    for row in rows:
        cells = [
            cell.rjust(width) if i in right else cell.ljust(width)
            for i, (cell, width) in enumerate(zip(row, widths, strict=True))
        ]
        print("  ".join(cells).rstrip())


def run_number(text: str) -> int:
    """Return the number of a run as typed. Raises BadInput if it is not one."""
    if not (text.isascii() and text.isdecimal()):
        raise BadInput(f"“{text}” is not a run number. “upright-bolt runs” lists the numbers.")
    if len(text) > LONGEST_RUN_NUMBER:
        raise BadInput(f"“{text}” is longer than any run number. “upright-bolt runs” lists the numbers.")
    return int(text)
