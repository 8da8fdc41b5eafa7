"""What rules look at: power source, charge, chargers and docks, read anew each time it is asked for.

The kernel's own pages: ABI/testing/sysfs-class-power.
"""

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.ports import KernelFiles
from upright_bolt.model.rule import Situation

SUPPLYING = ("Mains", "USB")


def read_situation(files: KernelFiles, mode: str, programs: frozenset[str]) -> Situation:
    """Return the situation of a machine.

    Args:
        files: its kernel files.
        mode: its platform mode; empty without one.
        programs: which of the programs that rules name are running.
    """
    chargers: dict[str, bool] = {}
    stored: list[tuple[float, float]] = []
    for name in files.names(paths.SUPPLY):
        folder = f"{paths.SUPPLY}/{name}"
        if _text(files, f"{folder}/scope") == "Device":
            continue
        kind = _text(files, f"{folder}/type")
        online = _number(files, f"{folder}/online")
        if kind in SUPPLYING and online is not None:
            chargers[name] = online > 0
        elif kind == "Battery" and (percent := _number(files, f"{folder}/capacity")) is not None:
            full = _number(files, f"{folder}/energy_full") or _number(files, f"{folder}/charge_full") or 1.0
            stored.append((percent, full))
    whole = sum(full for _, full in stored)
    percent = sum(part * full for part, full in stored) / whole if whole else None
    source = ("charger" if any(chargers.values()) else "battery") if chargers else ""
    return Situation(source, percent, mode, frozenset(name for name, on in chargers.items() if on), programs)


def _text(files: KernelFiles, path: str) -> str:
    try:
        return files.read(path).decode("ascii", "replace").strip()
    except FileFault:
        return ""


def _number(files: KernelFiles, path: str) -> float | None:
    try:
        return float(_text(files, path))
    except ValueError:
        return None
