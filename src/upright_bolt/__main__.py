"""Entry point of the command ``upright-bolt`` and of ``python -m upright_bolt``."""

import _signal  # type: ignore[import-not-found]
import sys

# Until the command line is loaded there is nothing to tidy up: an interrupt ends the process at once, as any signal
# does, and not with a traceback of an import. The module behind "signal" is built in, and costs no import itself.
if _signal.getsignal(_signal.SIGINT) != _signal.SIG_IGN:  # as it is in the background of a shell's script
    _signal.signal(_signal.SIGINT, _signal.SIG_DFL)


def main() -> None:
    """Run the command line and end with its exit code."""
    from upright_bolt.cli import run  # noqa: PLC0415 - imported when needed, so that importing this module is free

    sys.exit(run(sys.argv[1:]))


if __name__ == "__main__":
    main()
