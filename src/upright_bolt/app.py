"""The one place where things are built: a machine by its word, its session, the run store."""

import hashlib
import os
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from upright_bolt.errors import BadInput, BoltError, InUse
from upright_bolt.kernel.ports import COPY_STRIDE, DeviceRegisters, RealFiles
from upright_bolt.model.machine import Missing
from upright_bolt.session.clock import RealClock
from upright_bolt.session.direct import DirectReach
from upright_bolt.session.lock import MachineLock
from upright_bolt.session.machine import Machine
from upright_bolt.session.session import Session
from upright_bolt.workload.load import Load, Task

if TYPE_CHECKING:
    from upright_bolt.service.client import ServiceReach

DEFAULT_MACHINE = "host"


def data_folder(given: Path | None) -> Path:
    """Return the folder for runs, journals and twins: the one given, or the user's data folder."""
    if given is not None:
        return given
    from platformdirs import user_data_path

    return user_data_path("upright-bolt", appauthor=False)


@dataclass(frozen=True, slots=True)
class MachineWord:
    """A machine as typed: ``host``, ``twin:NAME``, ``tree:DIR`` or ``tree:FILE.tar.gz``."""

    kind: str
    rest: str

    @property
    def word(self) -> str:
        """The word in one form."""
        return f"{self.kind}:{self.rest}" if self.rest else self.kind

    @property
    def folder(self) -> str:
        """A folder name for what is remembered of it."""
        if self.kind != "tree":
            return self.word.replace(":", "-")
        return "tree-" + hashlib.sha256(self.rest.encode()).hexdigest()[:12]


def parse_machine(text: str) -> MachineWord:
    """Return the machine meant by ``text``.

    Raises:
        BadInput: it is none of the three forms, or the folder of a tree is missing.
    """
    kind, _, rest = text.strip().partition(":")
    if kind == "host" and not rest:
        return MachineWord("host", "")
    if kind == "twin" and rest:
        return MachineWord("twin", rest)
    if kind == "tree" and rest:
        place = Path(rest).expanduser().resolve()
        if not place.exists():
            raise BadInput(f"tree:{rest}: there is no folder and no capture {place}.")
        return MachineWord("tree", str(place))
    raise BadInput(f"“{text}” is no machine; it is host, twin:NAME (twin:tern), tree:DIR or tree:FILE.tar.gz.")


def open_machine(word: MachineWord, folder: Path, *, saved: bool) -> Machine:
    """Return the machine; ``saved`` lets a twin's state last in ``folder``."""
    if word.kind == "host":
        return _host()
    if word.kind == "tree":
        root = _unpacked(Path(word.rest), folder)
        return Machine(
            word.word, "copy of kernel files", RealFiles(root), DeviceRegisters(root, COPY_STRIDE), RealClock(),
            no_load="A tree is a copy of kernel files: it has no processor on which a workload could run.",
        )  # fmt: skip
    return _twin(word, folder, saved=saved)


def _unpacked(place: Path, folder: Path) -> Path:
    """Return the folder of a tree; a capture is unpacked anew each time, so that it stays what it was."""
    if place.is_dir():
        return place
    import shutil

    from upright_bolt.store.capture import unpack

    root = folder / "unpacked"
    shutil.rmtree(root, ignore_errors=True)
    root.mkdir(parents=True)
    unpack(place, root)
    return root


def _host() -> Machine:
    root = Path("/")
    files = RealFiles(root)

    def make(task: Task) -> Load:
        if task.workload == "command":
            from upright_bolt.workload.command import CommandLoad

            return CommandLoad(task.options)
        from upright_bolt.workload.pool import HostLoad

        return HostLoad(replace(task, cpus=_allowed(task.cpus)))

    return Machine("host", "this computer", files, DeviceRegisters(root), RealClock(), make_load=make)


def _allowed(wanted: tuple[int, ...]) -> tuple[int, ...]:
    """Return those of ``wanted`` that this process may use: a container or a pinned shell may have fewer."""
    allowed = os.sched_getaffinity(0)
    return tuple(cpu for cpu in wanted if cpu in allowed) or tuple(sorted(allowed))


def _twin(word: MachineWord, folder: Path, *, saved: bool) -> Machine:
    from upright_bolt.twin.machine import TwinClock, open_twin
    from upright_bolt.workload.twin_load import TwinLoad

    path = folder / "twin.json"
    twin = open_twin(word.rest, path)
    if not saved:
        twin.keep_in_memory()
    clock = TwinClock(twin)

    def set_pace(pace: float | None) -> None:
        clock.pace = pace

    return Machine(
        word=word.word,
        described=twin.spec.described,
        files=twin.files,
        registers=twin.registers,
        clock=clock,
        make_load=lambda task: TwinLoad(twin, task),
        plug=lambda charger: twin.plug(charger=charger),
        save=twin.save,
        keep_up=clock.keep_up,
        set_pace=set_pace,
    )


SYSTEM_STATE = Path("/var/lib/upright-bolt")
"""Where root keeps the journal of this computer: the same place for the service and for a command run with sudo."""
HOW_TO_ADD = "install it with “sudo make install” in the source folder, or run single commands with sudo"


def state_folder(word: MachineWord, given: Path | None) -> Path:
    """Return where a machine's journal, lock and memory lie: below the data folder, or the system's for root."""
    if given is None and word.kind == "host" and os.geteuid() == 0:
        return SYSTEM_STATE / word.folder
    return data_folder(given) / "machines" / word.folder


def open_session(machine: str, data: Path | None, holder: str, *, exclusive: bool) -> Session:
    """Open a session on a machine; on this computer through the root service, if there is one.

    Args:
        machine: its word as typed.
        data: the data folder given by the person; None for the usual one.
        holder: who this process is.
        exclusive: the machine will be changed, so nobody else may hold it. Otherwise a held machine is opened
            read-only.

    Raises:
        BadInput: no such machine.
        InUse: another process holds it and ``exclusive`` is asked.
    """
    word = parse_machine(machine)
    notes: tuple[Missing, ...] = ()
    if word.kind == "host":
        found = _service()
        if not isinstance(found, Missing):
            return Session(open_machine(word, data_folder(data), saved=False), found)
        notes = () if os.geteuid() == 0 else (found,)
    return Session(*open_reach(word, state_folder(word, data), holder, exclusive=exclusive, notes=notes))


def _service() -> "ServiceReach | Missing":
    from upright_bolt.service.bus import bus_is_there

    if not bus_is_there():
        return Missing("root service", f"there is no system bus here; {HOW_TO_ADD}")
    from upright_bolt.service.client import ServiceAbsent, ServiceReach

    try:
        return ServiceReach()
    except ServiceAbsent as fault:
        return Missing("root service", f"{str(fault).rstrip('.')}; {HOW_TO_ADD}")
    except BoltError as fault:
        return Missing("root service", str(fault).rstrip("."))


def open_reach(
    word: MachineWord, folder: Path, holder: str, *, exclusive: bool, notes: tuple[Missing, ...] = ()
) -> tuple[Machine, DirectReach]:
    """Open a machine in this process itself, held by a lock in ``folder``.

    Raises:
        InUse: another process holds it and ``exclusive`` is asked.
        BoltError: ``folder`` cannot be written.
    """
    lock = _lock(folder, holder, exclusive=exclusive)
    try:
        machine = open_machine(word, folder, saved=lock is not None)
        return machine, DirectReach(machine, folder, holder, lock, notes)
    except BaseException:
        if lock is not None:
            lock.release()
        raise


def _lock(folder: Path, holder: str, *, exclusive: bool) -> MachineLock | None:
    lock = MachineLock(folder / "lock", holder)
    try:
        lock.acquire()
    except InUse:
        if exclusive:
            raise
        return None
    except OSError as fault:
        if exclusive:
            raise BoltError(
                f"{folder} cannot be written ({fault.strerror}); name another folder with --data."
            ) from fault
        return None
    return lock


def serve(machine: str, data: Path | None, idle_s: float) -> None:
    """Be the root service for a machine, until nobody needs it.

    Raises:
        BadInput: no such machine.
        BoltError: the bus cannot be reached, or its name is taken.
    """
    from upright_bolt.service.daemon import serve as serve_on_bus

    word = parse_machine(machine)
    folder = state_folder(word, data)

    def opened() -> DirectReach:
        return open_reach(word, folder, "the root service", exclusive=False)[1]

    serve_on_bus(opened, idle_s)
