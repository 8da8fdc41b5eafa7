"""What is done when the record of a machine is damaged.

It is set aside, and whatever may have been changed in this boot goes back to its stock value. A damaged record never
decides what is put in force.
"""

import uuid
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from upright_bolt.checksummed_log import copy_aside
from upright_bolt.disk import read_bounded
from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model import quantity as quantities
from upright_bolt.model.catalogue import declaration_of
from upright_bolt.model.trial import Trial
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.journal import MOST_BYTES, Entry, EntryKind, Journal, Reading, Stock, joined
from upright_bolt.settings.journal_replay import BootMemory, Past, replay_journal


@dataclass(frozen=True, slots=True)
class Damage:
    """What was damaged, and where it is kept now.

    Attributes:
        names: names of the damaged files.
        aside: their copies; fewer if there was no room.
        whole_record: the journal is concerned, so everything goes back to stock.
        older: it is not damaged, but of an earlier version of this program.
    """

    names: tuple[str, ...]
    aside: tuple[str, ...]
    whole_record: bool
    older: bool = False


def recover(journal: Journal, memory: BootMemory, backend: Backend, at: str) -> tuple[Past, Damage | None]:
    """Return what is known of the present boot, for whoever holds the machine; damage is mended on the disk.

    Args:
        journal: the machine's journal.
        memory: takes over what is known.
        backend: the machine.
        at: date and time.

    Returns:
        What is known. After damage to the journal it tells of a trial that has to be put back to stock.

    Raises:
        CorruptData: the journal was written by a newer version.
    """
    found = journal.read()
    unread = journal.unread(found)
    if unread is not None and _names_boot(unread, memory.boot_id):
        past, damage = _stock_instead(found, journal, memory, backend, at, unread=unread)
        _remove_earlier(unread, journal)
        return past, replace(damage, older=True)
    if unread is not None:
        found = _without(unread, found, journal)
    past = replay_journal(found.entries, memory.boot_id)
    whole = memory.take(past)
    # A lost line may have been a trial's begin, so nothing kept or tried is believed any more: stock it is.
    if found.unreadable or not whole:
        return _stock_instead(found, journal, memory, backend, at)
    if memory.doubtful:
        aside = _renewed(memory, at)
        return past, Damage((memory.path.name,), aside, whole_record=False)
    with suppress(BoltError):  # a full disk: it stays longer for a while
        journal.compact()
        if memory.behind:
            memory.save_second(at)
    return past, None


def _names_boot(unread: Path, boot_id: str) -> bool:
    """Tell whether a record in a form that is not read any more tells of a boot: every form names its boots."""
    with suppress(OSError, BadInput):
        return boot_id.encode() in read_bounded(unread, MOST_BYTES)
    return True


def _without(unread: Path, found: Reading, journal: Journal) -> Reading:
    """Set a record of earlier boots aside and return what else there is; a disk that is closed keeps nothing up."""
    # What cannot be read now may be of use to a person, or to another version.
    copy_aside(unread)
    if unread != journal.path:
        _remove_earlier(unread, journal)
        return found
    with suppress(BoltError):
        journal.replace(found.entries)
    return replace(found, unreadable=0)


def _remove_earlier(unread: Path, journal: Journal) -> None:
    if unread != journal.path:
        with suppress(OSError):
            unread.unlink()


def _renewed(memory: BootMemory, at: str) -> tuple[str, ...]:
    with suppress(BoltError):
        copy = memory.save_second(at)
        return (str(copy),) if copy is not None else ()
    return ()


def _stock_instead(
    found: Reading, journal: Journal, memory: BootMemory, backend: Backend, at: str, *, unread: Path | None = None
) -> tuple[Past, Damage]:
    nothing_is_sure = unread is not None or memory.doubtful or memory.missing
    stock = Stock(dict(memory.stock), dict(memory.stock_texts), unsure=nothing_is_sure)
    for entry in found.entries:
        if entry.data is not None and entry.data.boot_id == memory.boot_id:
            stock = joined(Stock(entry.data.before_values, entry.data.before), stock)
    if nothing_is_sure:
        stock = joined(_neutral(backend), stock)
    memory.take(Past(stock))
    path = unread if unread is not None else journal.path
    copy = copy_aside(path)
    aside: tuple[str, ...] = (str(copy),) if copy is not None else ()
    trial = None
    if stock.texts:
        trial = Trial(uuid.uuid4().hex[:12], {}, stock.texts, stock.values, at, "", standing=False,
                      boot_id=memory.boot_id)  # fmt: skip
    begun = [Entry(EntryKind.BEGIN, trial.id, at, data=trial)] if trial is not None else []
    with suppress(BoltError):
        journal.replace([memory.entry(at), *begun] if stock.values or stock.unsure else begun)
    names = [path.name, *([memory.path.name] if memory.doubtful else [])]
    aside += _renewed(memory, at)
    return Past(stock, trial=trial), Damage(tuple(names), aside, whole_record=True)


def _neutral(backend: Backend) -> Stock:
    """Return texts that set no offset on any voltage: what every machine has after a restart, if nothing is known."""
    stock = Stock()
    for name, driver in backend.drivers.items():
        if declaration_of(name).quantity is quantities.OFFSET and driver.read() not in (None, 0.0):
            stock.values[name] = 0.0
            stock.texts.update({write.path: write.text for write in driver.plan(0.0)})
    return stock
