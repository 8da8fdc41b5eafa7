"""The command line: every capability without a window.

Exit codes: 0 done, 1 refused or failed, 2 bad input. Errors are one sentence on standard error; with ``--json``, a
document of it and the exit code.
"""

import os
import signal
import sys
from types import FrameType
from typing import Any, TextIO

JSON = "--json"


def run(argv: list[str]) -> int:
    """Run one command and return its exit code."""
    from typer import Exit
    from typer.exceptions import TyperException

    from upright_bolt.cli.main import build
    from upright_bolt.errors import BoltError

    signal.signal(signal.SIGTERM, _interrupt)
    as_json = JSON in argv
    if as_json:  # it may stand anywhere
        argv = [*(word for word in argv if word != JSON), JSON]
    streams = sys.stdout, sys.stderr
    sys.stdout, sys.stderr = map(Guarded.around, streams)
    try:
        result = build(argv)(argv, standalone_mode=False)
        sys.stdout.flush()
        code = result if isinstance(result, int) else 0
    except BoltError as fault:
        code = _say(str(fault), fault.exit_code, as_json=as_json)
    except TyperException as fault:
        sentence = fault.format_message().rstrip(".") + "."
        code = _say(f"{sentence} Try “upright-bolt --help”.", 2, as_json=as_json)
    except Exit as end:
        code = end.exit_code
    except KeyboardInterrupt:
        code = _say("Stopped.", 1, as_json=as_json)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())  # the reader went away: nothing more to say
        return 0
    except OSError as fault:
        code = _say(f"{fault.filename or 'A file'}: {fault.strerror}.", 1, as_json=as_json)
    finally:
        sys.stdout, sys.stderr = streams
    return code


class Guarded:
    """A stream that spells out control characters, whatever file, name or program they come from.

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
        from upright_bolt.plain_text import printable

        return self.raw.write(printable(text))

    def __getattr__(self, name: str) -> Any:  # noqa: ANN401 - whatever the stream has
        return getattr(self.raw, name)


def _say(sentence: str, code: int, *, as_json: bool) -> int:
    if as_json:
        from json import dumps

        sentence = dumps({"error": sentence, "code": code}, ensure_ascii=False)
    print(sentence, file=sys.stderr)
    return code


def _interrupt(_number: int, _frame: FrameType | None) -> None:
    raise KeyboardInterrupt
