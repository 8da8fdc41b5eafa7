"""Runs within the emulated machine: carries out checks one after another, and tells over the second serial line.

One process with the program loaded, since loading it takes ten seconds here; each command is a fork of it, and so a
process of its own with the rights of whoever is said to call.
"""

import importlib
import sys
import time
import traceback
from contextlib import suppress
from pathlib import Path

sys.path[:0] = ["/usr/local/lib/upright-bolt", str(Path(__file__).parent)]

from guest import Guest, Line  # noqa: E402 - where it lies is said above


def words() -> dict[str, str]:
    """Return the words of the kernel's command line with a value."""
    line = Path("/proc/cmdline").read_text().split()
    return dict(word.split("=", 1) for word in line if "=" in word)


def told() -> str:
    """Return what went wrong and at which lines of a check, without the ways that lead there."""
    lines = traceback.format_exc().splitlines()
    at = min((i for i, line in enumerate(lines) if "/checks/" in line), default=0)
    return "\n".join(lines[at:])[-1500:]


def main() -> None:
    line = Line("/dev/ttyS1")
    begin = words()["rig.begin"]
    guest = Guest(line)
    module = importlib.import_module(f"checks.{begin.split(':')[0]}")
    line.tell(what="up", uptime_s=float(Path("/proc/uptime").read_text().split()[0]))
    try:
        module.prepare(guest, *begin.split(":")[1:])
    except BaseException:
        line.tell(what="check", name="What the checks need is there", held=False, s=0.0, said=told(),
                  notes=guest.notes)  # fmt: skip
        line.tell(what="end")
        time.sleep(3600)
    line.tell(what="ready", notes=guest.notes)
    only = words().get("rig.only")
    for check in [check for check in module.CHECKS if only is None or check.__name__ in only.split(",")]:
        begun = time.monotonic()
        guest.notes.clear()
        said = ""
        try:
            check(guest)
        except BaseException:
            said = told()
        with suppress(Exception):
            module.tidy(guest)
        name = (check.__doc__ or check.__name__).strip().split("\n")[0].rstrip(".")
        line.tell(what="check", name=name, held=not said, s=round(time.monotonic() - begun, 1),
                  said=said, notes=guest.notes)  # fmt: skip
    line.tell(what="end")
    time.sleep(3600)


if __name__ == "__main__":
    main()
