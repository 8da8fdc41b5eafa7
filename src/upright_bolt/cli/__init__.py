"""The command line: every capability without a window.

Exit codes: 0 done, 1 refused or failed, 2 bad input. Errors are one sentence on standard error.
"""

import os
import signal
import sys
from types import FrameType


def run(argv: list[str]) -> int:
    """Run one command and return its exit code."""
    from typer import Exit
    from typer.exceptions import TyperException

    from upright_bolt.cli.main import build
    from upright_bolt.errors import BoltError

    signal.signal(signal.SIGTERM, _interrupt)
    try:
        result = build(argv)(argv, standalone_mode=False)
        sys.stdout.flush()
        code = result if isinstance(result, int) else 0
    except BoltError as fault:
        code = _say(str(fault), fault.exit_code)
    except TyperException as fault:
        sentence = fault.format_message().rstrip(".") + "."
        code = _say(f"{sentence} Try “upright-bolt --help”.", 2)
    except Exit as end:
        code = end.exit_code
    except KeyboardInterrupt:
        code = _say("Stopped.", 1)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())  # the reader went away: nothing more to say
        return 0
    except OSError as fault:
        code = _say(f"{fault.filename or 'A file'}: {fault.strerror}.", 1)
    return code


def _say(sentence: str, code: int) -> int:
    print(sentence, file=sys.stderr)
    return code


def _interrupt(_number: int, _frame: FrameType | None) -> None:
    raise KeyboardInterrupt
