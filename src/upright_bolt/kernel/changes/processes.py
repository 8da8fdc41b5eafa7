"""Who uses the processor, and how often it is woken: ``/proc/N/stat`` and the ``intr`` line of ``/proc/stat``.

Read at the beginning and at the end of a run, never with every sample: hundreds of processes are hundreds of files.

The kernel's own pages: Documentation/filesystems/proc, on /proc/stat and /proc/N/stat.
"""

from dataclasses import dataclass

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.ports import KernelFiles

TICKS_PER_S = 100.0
LEAST_SHARE = 0.5
MOST_NAMES = 5


@dataclass(frozen=True, slots=True)
class Process:
    """One process: its name, its parent, and processor time in ticks since it began."""

    name: str
    parent: int
    ticks: int


@dataclass(frozen=True, slots=True)
class ProcessTable:
    """All processes of a moment by number, and interrupts served since the machine began; None where unknown."""

    processes: dict[int, Process]
    interrupts: int | None


def read_processes(files: KernelFiles) -> ProcessTable:
    """Count now."""
    found: dict[int, Process] = {}
    for name in files.names(paths.PROC):
        if name.isdecimal() and (process := _process(files, int(name))) is not None:
            found[int(name)] = process
    return ProcessTable(found, _interrupts(files))


def _process(files: KernelFiles, number: int) -> Process | None:
    try:
        text = files.read(paths.process_stat(number)).decode(errors="replace")
        # the name stands in brackets and may hold brackets and spaces itself
        name, rest = text[text.index("(") + 1 : text.rindex(")")], text[text.rindex(")") + 1 :].split()
        return Process(name, int(rest[1]), int(rest[11]) + int(rest[12]))
    except (FileFault, ValueError, IndexError):
        return None


def _interrupts(files: KernelFiles) -> int | None:
    try:
        table = files.read(paths.STAT)
    except FileFault:
        return None
    line = next((line for line in table.split(b"\n") if line.startswith(b"intr ")), b"").split(None, 2)
    return int(line[1]) if len(line) > 1 and line[1].isdigit() else None


def busiest_others(before: ProcessTable, after: ProcessTable, seconds: float, mine: int) -> dict[str, float]:
    """Return what ran between two counts besides process ``mine`` and what it started, the busiest first.

    Returns:
        Share of one processor in % by program name; those below half a percent, and all but five, are left out.
    """
    shares: dict[str, float] = {}
    for number, process in after.processes.items():
        if _descends(number, mine, after):
            continue
        earlier = before.processes.get(number)
        ticks = process.ticks - (earlier.ticks if earlier is not None else 0)
        shares[process.name] = shares.get(process.name, 0.0) + max(0, ticks)
    scale = 100.0 / (TICKS_PER_S * seconds) if seconds > 0 else 0.0
    ranked = sorted(((name, ticks * scale) for name, ticks in shares.items()), key=lambda item: -item[1])
    return {name: round(share, 2) for name, share in ranked[:MOST_NAMES] if share >= LEAST_SHARE}


def _descends(number: int, mine: int, known: ProcessTable) -> bool:
    seen: set[int] = set()
    # The table is not taken in one moment, so parents may form a ring.
    while number and number not in seen:
        if number == mine:
            return True
        seen.add(number)
        process = known.processes.get(number)
        number = process.parent if process is not None else 0
    return False


def wake_ups(before: ProcessTable, after: ProcessTable, seconds: float) -> float | None:
    """Return interrupts a second between two counts, over all processors; None if they are unknown."""
    if before.interrupts is None or after.interrupts is None or seconds <= 0:
        return None
    return (after.interrupts - before.interrupts) / seconds
