"""The one place where things are built: a machine by its word, its session, the run store."""

import hashlib
import os
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from upright_bolt.errors import BadInput, BoltError, InUse
from upright_bolt.kernel.clock import RealClock
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.ports import COPY_STRIDE, DeviceRegisters, RealFiles
from upright_bolt.model.note import Note, NoteCode, Subject, note
from upright_bolt.session.machine import Machine
from upright_bolt.session.session import Session
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.lock import MachineLock
from upright_bolt.workload.load import Load, Task

if TYPE_CHECKING:
    from upright_bolt.service.client import ServiceAccess

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
        BadInput: it has none of the three forms, or the folder of a tree is missing.
    """
    kind, _, rest = text.strip().partition(":")
    if kind == "host" and not rest:
        return MachineWord("host", "")
    if kind == "twin" and rest:
        return MachineWord("twin", rest)
    if kind == "tree" and rest:
        path = Path(rest).expanduser().resolve()
        if not path.exists():
            raise BadInput(f"tree:{rest}: there is no folder and no capture {path}.")
        return MachineWord("tree", str(path))
    raise BadInput(f"“{text}” is not a machine; write host, twin:NAME (twin:tern), tree:DIR or tree:FILE.tar.gz.")


def open_machine(word: MachineWord, folder: Path, *, saved: bool, served: bool = False) -> Machine:
    """Return the machine; ``saved`` lets a twin's state last in ``folder``, ``served`` its time pass as real time."""
    if word.kind == "host":
        return _host()
    if word.kind == "tree":
        root = _unpacked(Path(word.rest), folder)
        registers = DeviceRegisters(root, COPY_STRIDE)
        return Machine(
            MachinePorts(word.word, RealFiles(root), registers, RealClock(), settle_s=0.0),
            "copy of kernel files",
            no_load="A tree is a copy of kernel files: it has no processor on which a workload could run.",
        )
    return _twin(word, folder, saved=saved, served=served)


def _unpacked(path: Path, folder: Path) -> Path:
    """Return the folder of a tree; a capture is unpacked anew each time, so that it stays what it was."""
    if path.is_dir():
        return path
    import shutil

    from upright_bolt.captures.archive import unpack

    root = folder / "unpacked"
    shutil.rmtree(root, ignore_errors=True)
    root.mkdir(parents=True)
    unpack(path, root)
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

    ports = MachinePorts("host", files, DeviceRegisters(root), RealClock())
    return Machine(ports, "this computer", make_load=make)


def _allowed(wanted: tuple[int, ...]) -> tuple[int, ...]:
    """Return those of ``wanted`` that this process may use: a container or a pinned shell may have fewer."""
    allowed = os.sched_getaffinity(0)
    return tuple(cpu for cpu in wanted if cpu in allowed) or tuple(sorted(allowed))


def _twin(word: MachineWord, folder: Path, *, saved: bool, served: bool) -> Machine:
    from upright_bolt.twin.machine import TwinClock, open_twin
    from upright_bolt.workload.twin_load import TwinLoad

    path = folder / "twin.json"
    twin = open_twin(word.rest, path)
    if not saved:
        twin.keep_in_memory()
    clock = TwinClock(twin)

    def set_pace(pace: float | None) -> None:
        clock.pace = pace

    ports = MachinePorts(
        word.word, twin.files, twin.registers, clock, save=twin.save, keep_up=clock.keep_up if served else _nothing
    )
    return Machine(
        ports,
        twin.spec.described,
        make_load=lambda task: TwinLoad(twin, task),
        plug=lambda charger: twin.plug(charger=charger),
        set_pace=set_pace,
    )


def _nothing() -> None:
    return


SYSTEM_STATE = Path("/var/lib/upright-bolt")
"""Where root keeps the journal of this computer: the same place for the service and for a command run with sudo."""


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
    gaps: tuple[Note, ...] = ()
    if word.kind == "host":
        found = _service()
        if not isinstance(found, Note):
            return Session(open_machine(word, data_folder(data), saved=False), found)
        gaps = () if os.geteuid() == 0 else (found,)
    return Session(*open_local(word, state_folder(word, data), holder, exclusive=exclusive, gaps=gaps))


def _service() -> "ServiceAccess | Note":
    from upright_bolt.service.bus import bus_is_there

    if not bus_is_there():
        return note(NoteCode.SERVICE_ABSENT, Subject.ROOT_SERVICE, why="there is no system bus here")
    from upright_bolt.service.client import ServiceAbsent, ServiceAccess

    try:
        return ServiceAccess()
    except ServiceAbsent as fault:
        return note(NoteCode.SERVICE_ABSENT, Subject.ROOT_SERVICE, why=str(fault).rstrip("."))
    except BoltError as fault:
        return note(NoteCode.SERVICE_REFUSES, Subject.ROOT_SERVICE, why=str(fault).rstrip("."))


def open_local(
    word: MachineWord,
    folder: Path,
    holder: str,
    *,
    exclusive: bool,
    gaps: tuple[Note, ...] = (),
    served: bool = False,
) -> tuple[Machine, SettingsEngine]:
    """Open a machine in this process itself, held by a lock in ``folder``.

    Args:
        word: the machine.
        folder: where its journal, memory and lock lie.
        holder: who this process is.
        exclusive: nobody else may hold it; otherwise a held machine is opened read-only.
        gaps: what is known to be missing before looking.
        served: this process is a service: a twin's time passes as real time does.

    Raises:
        InUse: another process holds it and ``exclusive`` is asked.
        BoltError: ``folder`` cannot be written.
    """
    lock = _lock(folder, holder, exclusive=exclusive)
    try:
        machine = open_machine(word, folder, saved=lock is not None, served=served)
        return machine, SettingsEngine(Backend(machine.ports, gaps), folder, holder, lock)
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

    def opened() -> SettingsEngine:
        return open_local(word, folder, "the root service", exclusive=False, served=True)[1]

    serve_on_bus(opened, idle_s)
