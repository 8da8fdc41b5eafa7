"""The command line: every capability without a window.

Exit codes: 0 done, 1 refused or failed, 2 bad input. Errors are one sentence on standard error; with ``--json``, a
document of it and the exit code.
"""

import os
import sys
from contextlib import suppress
from io import TextIOWrapper
from typing import Any, TextIO

from upright_bolt.cli.interrupts import ending_in_order

JSON = "--json"
INTERRUPTED = 130
"""What the command line's library makes of an interrupt."""


def run(argv: list[str]) -> int:
    """Run one command and return its exit code."""
    _prepare_streams()
    try:
        with ending_in_order():
            return _answer(argv)
    except KeyboardInterrupt:
        return _say("Stopped.", 1, as_json=JSON in argv)


def _answer(argv: list[str]) -> int:
    """Run one command, say what went wrong and return its exit code."""
    from typer import Exit
    from typer.exceptions import TyperException

    from upright_bolt.errors import BoltError

    as_json = JSON in argv
    # People write --json and --machine where they think of them; the library wants them before the command.
    argv = in_order([_as_utf8(word) for word in argv])
    streams = sys.stdout, sys.stderr
    # A file or a program's name must not be able to send commands to the terminal.
    sys.stdout, sys.stderr = map(Guarded.around, streams)
    try:
        code = _carry_out(argv)
        if code == INTERRUPTED:
            code = _say("Stopped.", 1, as_json=as_json)
    except BoltError as fault:
        code = _say(str(fault), fault.exit_code, as_json=as_json)
    except TyperException as fault:
        sentence = fault.format_message()
        sentence += "" if sentence.endswith((".", "?")) else "."
        code = _say(f"{sentence} Try “upright-bolt --help”.", 2, as_json=as_json)
    except Exit as end:
        code = end.exit_code
    except OSError as fault:
        code = _say(f"{fault.filename or 'Standard output'}: {fault.strerror}.", 1, as_json=as_json)
        _say_no_more(streams[0])
    finally:
        sys.stdout, sys.stderr = streams
        for stream in streams:
            _flush(stream)
    return code


def _carry_out(argv: list[str]) -> int:
    """Carry a command out and return its exit code. Whoever reads its output may go away before the end."""
    from upright_bolt.cli.main import build

    try:
        result = build(argv)(argv, standalone_mode=False)
        sys.stdout.flush()
    except BrokenPipeError:
        return 0
    except SystemExit as end:
        # “| head” is a normal end, not an error.
        if isinstance(end.__context__, BrokenPipeError):  # the library's way of saying the same
            return 0
        raise
    return result if isinstance(result, int) else 0


def _prepare_streams() -> None:
    """Have a stream for each that the caller has closed, and each line seen through a pipe as it comes."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: PTH123, SIM115 - until the end
        elif isinstance(stream, TextIOWrapper):
            stream.reconfigure(line_buffering=True)


WITH_VALUE = ("--machine", "-m", "--data")


def in_order(argv: list[str]) -> list[str]:
    """Return what was typed with the options of every command where they are expected: they may stand anywhere.

    What comes after ``--`` is left as it is.
    """
    end = argv.index("--") if "--" in argv else len(argv)
    first, rest, words = [], [], iter(argv[:end])
    for word in words:
        if word in WITH_VALUE:
            first += [word, *(value for value in [next(words, None)] if value is not None)]
        elif word.startswith(tuple(f"{option}=" for option in WITH_VALUE if option.startswith("--"))):
            first.append(word)
        elif word != JSON:
            rest.append(word)
    return [*first, *rest, *([JSON] if JSON in argv[:end] else []), *argv[end:]]


def _as_utf8(word: str) -> str:
    """Return a word whose letters the locale does not know as what it is in UTF-8, if it is that."""
    try:
        return os.fsencode(word).decode("utf-8")
    except UnicodeError:
        return word


def _flush(stream: Any) -> None:  # noqa: ANN401 - a stream
    """Write what is left now: at the end of the process a fault would be printed as an exception."""
    try:
        stream.flush()
    except (OSError, ValueError):
        _say_no_more(stream)


def _say_no_more(stream: Any) -> None:  # noqa: ANN401 - a stream
    """Let nothing be written to a stream any more, not even what is left in its buffer at the end."""
    with suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())


class Guarded:
    """A stream that spells out control characters, whatever file, name or program they come from.

    What its encoding lacks is written in plain letters.

    Args:
        raw: the stream itself; a progress bar writes there.
    """

    def __init__(self, raw: TextIO) -> None:
        self.raw = raw

    @classmethod
    def around(cls, stream: Any) -> Any:  # noqa: ANN401 - a stream, or one that is guarded
        """Return a stream guarded, once."""
        return stream if stream is None or isinstance(stream, cls) else cls(stream)

    def write(self, text: str) -> int:
        """Write text as a terminal may have it."""
        from upright_bolt.sanitize import plain, printable

        text = printable(text)
        encoding = self.raw.encoding or "utf-8"
        try:
            text.encode(encoding)
        except UnicodeEncodeError:
            text = plain(text).encode(encoding, "replace").decode(encoding)
        return self.raw.write(text)

    def __getattr__(self, name: str) -> Any:  # noqa: ANN401 - whatever the stream has
        return getattr(self.raw, name)


def _say(sentence: str, code: int, *, as_json: bool) -> int:
    if as_json:
        from json import dumps

        sentence = dumps({"error": sentence, "code": code}, ensure_ascii=False)
    print(sentence, file=sys.stderr)
    return code
