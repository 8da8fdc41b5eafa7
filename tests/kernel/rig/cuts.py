"""The power is taken away at random moments of a trial, and what the next boot finds is looked at."""

import random
import subprocess
import time
from pathlib import Path
from typing import Any

from rig.build import Rig
from rig.machine import Machine

LEAST_S, MOST_S = 0.0, 8.0
"""The power goes so long after the first setting was asked for: two rounds of trying and putting back."""
BEGAN = "ended with a restart of the machine"
"""What is told of a trial that was cut off."""

Line = tuple[str, bool, float, str]


def cut_off(rig: Rig, processor: str, times: int, *, show: bool) -> list[Line]:
    """Cut the power ``times`` times and return the lines of the table.

    Each boot looks at what the cut before it has left, and is cut off itself; the last one only looks.
    """
    disk = rig.folder / "keeps.img"
    disk.unlink(missing_ok=True)
    subprocess.run(["mke2fs", "-q", "-t", "ext4", str(disk), "64M"], check=True, capture_output=True)
    seed = time.time_ns()
    dice = random.Random(seed)
    lines: list[Line] = [(f"Moments drawn from {seed}", True, 0.0, "")]
    last = ""
    for number in range(times + 1):
        begun = time.monotonic()
        machine = Machine(rig, "cuts", ("laptop",), processor, keeps=disk)
        try:
            after_s = dice.uniform(LEAST_S, MOST_S) if number < times else None
            found, last = _one_boot(machine, after_s, last, show=show)
            lines += [(f"{name}, boot {number + 1}", *rest) for name, *rest in found]
        except TimeoutError:
            lines.append((f"Boot {number + 1} answers", False, time.monotonic() - begun, _console(machine.console)))
        finally:
            machine.cut()
    return lines


def _one_boot(machine: Machine, after_s: float | None, last: str, *, show: bool) -> tuple[list[Line], str]:
    """Return what a boot found, and the last thing it told to have done before it was cut off."""
    lines: list[Line] = []
    while True:  # until it begins with what it is cut off from
        told = machine.next_told()
        if told is None:
            raise TimeoutError
        if show:
            print(told, flush=True)
        if told["what"] == "check":
            lines.append((told["name"], told["held"], told["s"], told["said"]))
        elif told["what"] == "story":
            lines.append(_true(told, last))
        elif told["what"] == "did":
            break
    if after_s is None:
        return lines, ""
    cut_at, done = time.monotonic() + after_s, told["step"]
    while (left_s := cut_at - time.monotonic()) > 0 and (told := machine.next_told(left_s)) is not None:
        done = told.get("step", done)
    return lines, done


def _true(told: dict[str, Any], last: str) -> Line:
    """Return whether the story is true of what was done last before the cut."""
    tells = BEGAN in told["text"]
    expected = {"": False, "in force": True, "put back": False}.get(last)
    held = expected is None or tells == expected
    return (f"The story after “{last or 'nothing'}”", held, 0.0, "" if held else told["text"])


def _console(path: Path) -> str:
    return path.read_text(errors="replace")[-2000:]
