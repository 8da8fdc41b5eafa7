"""What a reset to stock writes: which files get their own text back, and what is left to the firmware."""

from collections.abc import Collection
from dataclasses import dataclass

from upright_bolt.errors import BadInput, Refused
from upright_bolt.model.catalogue import FIRMWARE_LIMITS
from upright_bolt.model.control import Value
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.journal_replay import BootMemory
from upright_bolt.text.trials import STOCK_UNKNOWN


@dataclass(frozen=True, slots=True)
class StockPlan:
    """What a reset to stock does.

    Attributes:
        names: controls that are reset, or left to the firmware.
        texts: what each file gets.
        values: what each control that is written has after it.
        absent: controls that were kept and are not there now.
        left_to_firmware: limits that the firmware has set since, which stay as they are, with their values.
    """

    names: list[str]
    texts: dict[str, str]
    values: dict[str, Value]
    absent: list[str]
    left_to_firmware: dict[str, Value]


def plan_stock(backend: Backend, memory: BootMemory, names: Collection[str]) -> StockPlan:
    """Work out a reset to stock.

    Args:
        backend: the machine.
        memory: what it had before anything was changed in this boot.
        names: of controls; all that were changed in this boot if empty.

    Raises:
        BadInput: nothing was changed in this boot.
        Refused: what the machine had is not known, since the record of it was damaged.
    """
    stock, source = memory.stock, backend.power_source()
    wanted = [name for name in stock if (not names or name in names) and name in backend.drivers]
    # A limit of which only another power source's stock is known has not been changed on this one.
    wanted = [name for name in wanted if name in memory.kept or not _of_other_source(backend, memory, name, source)]
    known = memory.texts_on(source)
    theirs = _left_to_firmware(backend, memory, wanted)
    texts = {
        path: known[path] for name in wanted if name not in theirs
        for path in (*backend.drivers[name].files, *backend.offline_files(name, known)) if path in known
    }  # fmt: skip
    absent = [name for name in memory.kept if name not in backend.drivers and (not names or name in names)]
    # A damaged record may have told of more controls than it tells now.
    unknown = memory.unsure and not set(names) <= set(stock)
    if unknown or (memory.unsure and not texts):
        raise Refused(STOCK_UNKNOWN)
    if not texts and not absent:
        raise BadInput(
            "Nothing has been changed in this boot, so the machine's own values are in force."
            if not names
            else f"{', '.join(names)}: not changed in this boot, so the machine's own value is in force."
        )
    own = {name: stock[name] for name in wanted if name not in theirs}
    return StockPlan(wanted, texts, own, absent, theirs)


def _of_other_source(backend: Backend, memory: BootMemory, name: str, source: str) -> bool:
    """Tell whether a limit's own value is known for another power source alone, so that what is in force is it."""
    files = backend.drivers[name].files
    here = memory.knows_on(source, files)
    return name in FIRMWARE_LIMITS and not here and memory.knows_elsewhere(source, files)


def _left_to_firmware(backend: Backend, memory: BootMemory, names: Collection[str]) -> dict[str, Value]:
    """Return limits that hold neither what was kept nor stock: the firmware has set them for a power source."""
    drivers, kept, stock = backend.drivers, memory.kept, memory.stock
    values = backend.values(name for name in names if name in FIRMWARE_LIMITS and name in kept)
    return {
        name: value
        for name, value in values.items()
        if not drivers[name].same(kept[name], value) and not drivers[name].same(stock[name], value)
    }
