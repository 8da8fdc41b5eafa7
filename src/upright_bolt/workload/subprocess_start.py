"""How this program starts a Python process of its own.

Isolated, like the launcher: neither variables nor folders of the caller decide which code runs.
"""

import sys
from pathlib import Path

import upright_bolt

_BOOT = (
    "import sys, runpy; sys.path.insert(0, sys.argv.pop(1)); "
    "runpy.run_module(sys.argv.pop(1), run_name='__main__', alter_sys=True)"
)
PACKAGE_FOLDER = str(Path(upright_bolt.__file__).resolve().parents[1])


def python_module(module: str, *words: object) -> list[str]:
    """Return the command that runs one of this program's modules as a process.

    Args:
        module: its full name.
        words: its arguments.
    """
    return [sys.executable, "-I", "-c", _BOOT, PACKAGE_FOLDER, module, *map(str, words)]
