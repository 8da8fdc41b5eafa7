"""Boots emulated machines with a real kernel, runs the checks in them, and prints what held as soon as it is known.

``python run.py [--long] [--show] [SCENARIO …]``. Ends with 1 if anything did not hold. Needs root and QEMU; where
they are missing it says so and fails, unless ``UPRIGHT_BOLT_SKIP_KERNEL=1`` says that this is known.
"""

import os
import shutil
import sys
import time
import traceback
from argparse import ArgumentParser, Namespace
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from threading import Event, Thread
from typing import Any

from rig.build import Rig, build
from rig.cuts import cut_off
from rig.machine import Machine

NEEDED = ("qemu-system-x86_64", "iasl", "busybox", "cpio", "mke2fs", "gcc", "make")
WAKE_EVERY_S = 8.0
SKIP = "UPRIGHT_BOLT_SKIP_KERNEL"
CUTS = "cuts"
MOST_PROCESSORS = 32
AT_ONCE = 2
"""Machines emulated at a time: each keeps little more than one processor busy."""
AMD, INTEL = "EPYC-Rome,-hypervisor", "Skylake-Client-v4,-hypervisor"


@dataclass(frozen=True, slots=True)
class Scenario:
    """One boot: what the agent carries out, on which machine."""

    name: str
    tables: tuple[str, ...] = ("laptop",)
    processor: str = AMD
    words: str = ""
    words_newer: str = ""
    """In place of them, with the newer kernel: its driver is passive only where clocks are asked for through PCC."""
    systemd: bool = False
    long: bool = False
    hurries: bool = False


SCENARIOS = (
    Scenario("enforce", processor=INTEL),  # the longest first
    Scenario(
        "platform",
        tables=("laptop", "platform"),
        words="amd_pstate=passive amd_pstate.shared_mem=1",
        words_newer="amd_pstate=active",
    ),
    Scenario("power", processor=INTEL),
    Scenario("clocks"),
    Scenario("systemd", processor=INTEL, systemd=True, long=True),
    Scenario("loads", long=True),
    Scenario("hours", processor=INTEL, long=True, hurries=True),
)


@dataclass(slots=True)
class Row:
    """One line of the table."""

    scenario: str
    name: str
    held: bool
    seconds: float
    said: str = ""


def printed(row: Row) -> Row:
    """Print a line of the table, and what is known of it where it did not hold; return it."""
    print(f"{row.scenario:9} {'held' if row.held else 'FAILED':7} {row.seconds:6.1f} s  {row.name}")
    if not row.held:
        print_below(row.said)
    sys.stdout.flush()
    return row


def print_below(text: str) -> None:
    """Print what belongs to the line above."""
    print("    " + text.strip().replace("\n", "\n    "))


def folder() -> Path:
    """Return where the rig lies: outside of the checkout, so that a fresh one finds it made."""
    named = os.environ.get("UPRIGHT_BOLT_RIG")
    return Path(named) if named else Path(os.environ.get("XDG_CACHE_HOME", Path.home() / ".cache")) / "upright-bolt-rig"


def carry_out(rig: Rig, scenario: Scenario, *, show: bool, only: str = "", processors: int = 2) -> list[Row]:
    """Boot one machine and return what its checks came to, or those whose functions ``only`` names."""
    rows: list[Row] = []
    begun, waking = time.monotonic(), Event()
    words = (rig.newer and scenario.words_newer) or scenario.words
    words += f" rig.only={only}" if only else ""
    machine = Machine(rig, scenario.name, scenario.tables, scenario.processor, words, systemd=scenario.systemd,
                      processors=1 if scenario.hurries else processors, hurries=scenario.hurries)  # fmt: skip
    try:
        while (told := machine.next_told()) is not None:
            waking.set()
            if told["what"] == "sleeps":
                waking = wake(machine)
            elif told["what"] == "up":
                seconds = time.monotonic() - begun
                rows.append(printed(Row(scenario.name, "The machine is up", held=True, seconds=seconds)))
            elif told["what"] == "check":
                said = "\n".join((told["said"], *told["notes"]))
                rows.append(printed(Row(scenario.name, told["name"], told["held"], told["s"], said)))
            elif told["what"] == "end":
                return rows
            if show or told["what"] == "goes on":
                print_told(told)
        silent = Row(scenario.name, "The machine goes on answering", held=False, seconds=0.0, said=console(machine))
        rows.append(printed(silent))
    finally:
        waking.set()
        machine.cut()
    return rows


def wake(machine: Machine) -> Event:
    """Wake a machine that is about to sleep, every few seconds until what is returned is set: it may take its time."""
    awake = Event()

    def try_again() -> None:
        while not awake.wait(WAKE_EVERY_S):
            machine.order("system_wakeup")

    Thread(target=try_again, daemon=True).start()
    return awake


def console(machine: Machine) -> str:
    """Return the end of what the kernel printed."""
    return machine.console.read_text(errors="replace")[-2000:]


def print_told(told: dict[str, Any]) -> None:
    """Print at once what a check has noted; of one that did not hold, its line tells."""
    if told["what"] == "goes on":
        print(told["name"])
    elif told["what"] == "ready" or (told["what"] == "check" and told["held"]):
        for note in filter(None, told["notes"]):
            print_below(note)
    sys.stdout.flush()


def carried_out(name: str, work: Callable[[], list[Row]]) -> list[Row]:
    """Return what a scenario came to, also if the rig itself failed in it: what others find is not lost with it."""
    try:
        return work()
    except Exception:  # noqa: BLE001 - whatever it is, it is told
        said = traceback.format_exc()
        return [printed(Row(name, "The rig gets to the end of it", held=False, seconds=0.0, said=said))]


def why_not() -> str:
    """Return why nothing can run here; empty if it can."""
    missing = [name for name in NEEDED if shutil.which(name, path=f"{os.environ['PATH']}:/usr/sbin:/sbin") is None]
    if missing:
        return f"The checks on a real kernel need {', '.join(missing)}: sh tools/setup.sh kernel-tests, as root"
    if os.geteuid():
        return "The checks on a real kernel need root, to make the disk of the machine that is emulated."
    return ""


def read_words(words: list[str]) -> Namespace:
    """Return what is asked for. Other words end it."""
    parser = ArgumentParser(description="Run the program on a real kernel in an emulator.")
    known = [*(scenario.name for scenario in SCENARIOS), CUTS]
    parser.add_argument("scenarios", nargs="*", metavar="SCENARIO", help=f"{', '.join(known)}; all if none is named")
    parser.add_argument("--long", action="store_true", help="also what takes long, and fifty power cuts")
    parser.add_argument("--show", action="store_true", help="print what each check saw")
    parser.add_argument(
        "--only", default="", metavar="CHECK,…", help="of each scenario, the checks of these names alone"
    )
    parser.add_argument("--newer", action="store_true", help="on the newer kernel of Debian's backports")
    parser.add_argument(
        "--processors", type=int, default=2, choices=range(2, MOST_PROCESSORS + 1), metavar="N",
        help=f"of each machine, 2 to {MOST_PROCESSORS}; 2 if not said",
    )  # fmt: skip
    asked = parser.parse_args(words)
    if unknown := [name for name in asked.scenarios if name not in known]:
        parser.error(f"there is no {', '.join(unknown)}; there are {', '.join(known)}")
    return asked


def main(words: list[str]) -> int:
    """Run what is asked for and return the exit code."""
    words_read = read_words(words)
    asked, long, show, processors = words_read.scenarios, words_read.long, words_read.show, words_read.processors
    why = why_not()
    if why:
        print(why, file=sys.stderr)
        return 0 if os.environ.get(SKIP) == "1" else 1
    rig = build(folder(), newer=words_read.newer, processors=processors)
    print(f"The rig is in {rig.folder}.", flush=True)
    begun = time.monotonic()
    work: list[tuple[str, Callable[[], list[Row]]]] = [
        (scenario.name, partial(carry_out, rig, scenario, show=show, only=words_read.only, processors=processors))
        for scenario in SCENARIOS
        if scenario.name in asked or (not asked and (long or not scenario.long))
    ]
    if CUTS in asked or not asked:
        times = 50 if long else 2
        work.insert(
            min(2, len(work)),
            (CUTS, lambda: [printed(Row(CUTS, *row)) for row in cut_off(rig, INTEL, times, show=show)]),
        )
    with ThreadPoolExecutor(AT_ONCE) as pool:
        rows = [row for rows in pool.map(lambda each: carried_out(*each), work) for row in rows]
    failed = sum(not row.held for row in rows)
    print("".join(f"\nDid not hold: {row.scenario}: {row.name}" for row in rows if not row.held))
    print(f"\n{len(rows) - failed} of {len(rows)} held, in {(time.monotonic() - begun) / 60:.1f} minutes.")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
