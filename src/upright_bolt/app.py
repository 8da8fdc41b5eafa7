"""The one place where things are built: a machine by its spec, its session, the run store."""

import os
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from upright_bolt.app_ports import MachineSpec, host_ports, open_ports
from upright_bolt.errors import BadInput, BoltError, InUse, NoFolder
from upright_bolt.model.note import Diagnostic, DiagnosticCode, Subject, note
from upright_bolt.privileges import become, caller, check_own, is_root
from upright_bolt.settings.lock import MachineLock
from upright_bolt.text.notes import clause

if TYPE_CHECKING:
    from collections.abc import Callable

    from upright_bolt.kernel.changes.writers import Writers
    from upright_bolt.kernel.machine_ports import MachinePorts
    from upright_bolt.service.client import ServiceAccess
    from upright_bolt.session.machine import Machine
    from upright_bolt.session.session import Session
    from upright_bolt.settings.access import MachineAccess
    from upright_bolt.settings.engine import SettingsEngine
    from upright_bolt.simulator.machine import SimulatedMachine
    from upright_bolt.workload.load import Load, Task

DEFAULT_MACHINE = "host"


def data_folder(given: Path | None) -> Path:
    """Return the folder for runs, journals and twins: the one given, or the user's data folder.

    Raises:
        BadInput: what was given is a file.
    """
    if given is not None:
        if given.exists() and not given.is_dir():
            raise BadInput(f"--data: {given} is a file; name a folder.")
        return given
    from platformdirs import user_data_path

    return user_data_path("upright-bolt", appauthor=False)


def parse_machine(text: str) -> MachineSpec:
    """Return the machine meant by ``text``.

    Raises:
        BadInput: it has none of the three forms, or the folder of a tree is missing.
    """
    kind, _, rest = text.strip().partition(":")
    if kind == "host" and not rest:
        return MachineSpec("host", "")
    if kind == "twin" and rest:
        return MachineSpec("twin", rest)
    if kind == "tree" and rest:
        path = Path(rest).expanduser().resolve()
        if not path.exists():
            raise BadInput(f"tree:{rest}: there is no folder and no capture {path}.")
        return MachineSpec("tree", str(path))
    raise BadInput(f"“{text}” is not a machine; write host, twin:NAME (twin:tern), tree:DIR or tree:FILE.tar.gz.")


@dataclass(frozen=True, slots=True)
class OpenMachine:
    """A machine that this process can read and set.

    Attributes:
        spec: the machine as typed.
        ports: its files, registers and clock.
        access: reads and sets it.
        twin: the simulated machine behind the ports; None for any other.
    """

    spec: MachineSpec
    ports: "MachinePorts"
    access: "MachineAccess"
    twin: "SimulatedMachine | None" = None


def _machine(opened: OpenMachine) -> "Machine":
    """Return an open machine with what can work on it."""
    from upright_bolt.session.machine import Machine

    if opened.spec.kind == "host":
        return Machine(opened.ports, "this computer", make_load=_host_load)
    twin = opened.twin
    if twin is None:
        nothing_runs = "A tree is a copy of kernel files: it has no processor on which a workload could run."
        return Machine(opened.ports, "copy of kernel files", no_load=nothing_runs)
    from upright_bolt.simulator.outside import Outside

    outside = opened.ports.changes if isinstance(opened.ports.changes, Outside) else Outside(twin)
    return Machine(
        opened.ports,
        twin.spec.described,
        make_load=lambda task: _twin_load(twin, task),
        plug=(lambda charger: outside.plug(charger=charger)) if twin.spec.battery_wh else None,
        set_pace=twin.set_pace,
    )


def _twin_load(twin: "SimulatedMachine", task: "Task") -> "Load":
    from upright_bolt.workload.simulated_load import SimulatedLoad

    if not task.known.on_gpu:
        return SimulatedLoad(twin, task)
    from upright_bolt.workload.simulated_gpu_load import SimulatedGpuLoad

    return _of_graphics(task, SimulatedGpuLoad(twin, task), lambda steady: SimulatedLoad(twin, steady))


def _of_graphics(task: "Task", graphics: "Load", on_processors: "Callable[[Task], Load]") -> "Load":
    """Return a graphics load by itself, or together with the processors' usual work."""
    from upright_bolt.model.workloads import Mode
    from upright_bolt.workload.graphics_load import BothLoad

    if task.known.mode is Mode.GPU:
        return graphics
    return BothLoad(graphics, on_processors(replace(task, workload="steady")), task.per_s)


def _stay_awake(why: str) -> "Callable[[], None]":
    from upright_bolt.service.logind import Awake

    return Awake(why).release


def _host_load(task: "Task") -> "Load":
    from upright_bolt.model.workloads import Mode

    if task.known.mode is Mode.COMMAND:
        from upright_bolt.workload.command import CommandLoad

        return CommandLoad(task.options)
    from upright_bolt.workload.pool import HostLoad

    task = replace(task, cpus=_allowed(task.cpus))
    if not task.known.on_gpu:
        return HostLoad(task)
    from upright_bolt.workload.graphics_load import GraphicsLoad

    return _of_graphics(task, GraphicsLoad(task), HostLoad)


def _allowed(wanted: tuple[int, ...]) -> tuple[int, ...]:
    """Return those of ``wanted`` that this process may use: a container or a pinned shell may have fewer."""
    allowed = os.sched_getaffinity(0)
    return tuple(cpu for cpu in wanted if cpu in allowed) or tuple(sorted(allowed))


SYSTEM_STATE = "/var/lib/upright-bolt"
"""Where root keeps the record of this computer, whatever data folder is named: one machine has one record."""


def state_folder(spec: MachineSpec, given: Path | None) -> Path:
    """Return where a machine's journal, lock and memory lie: below the data folder, or the system's for root.

    systemd tells a service its own folder in ``STATE_DIRECTORY``.
    """
    if spec.kind == "host" and is_root():
        return Path(os.environ.get("STATE_DIRECTORY") or SYSTEM_STATE) / spec.folder
    return data_folder(given) / "machines" / spec.folder


def open_session(machine: str, data: Path | None, holder: str, *, exclusive: bool, as_root: bool = False) -> "Session":
    """Open a session on a machine, with all that can be run there. Arguments and errors as of ``open_access``.

    Raises:
        BadInput: no such machine.
        InUse: another process holds it and ``exclusive`` is asked.
    """
    from upright_bolt.session.session import Session

    opened = open_access(machine, data, holder, exclusive=exclusive, as_root=as_root)
    made = _machine(opened)
    made.record = data_folder(data) / "machines" / opened.spec.folder
    if opened.spec.kind == "host":
        from upright_bolt.session.autostart import PANEL, Autostart

        folder = ("--data", str(data.resolve())) if data is not None else ()
        made.stay_awake = _stay_awake
        made.autostart = Autostart(("--machine", "host", *folder, "window", "--view", "edge"))
        made.at_login = Autostart(("--machine", "host", *folder, "window", "--hidden"), entry=PANEL)
    return Session(made, opened.access)


def open_access(machine: str, data: Path | None, holder: str, *, exclusive: bool, as_root: bool = False) -> OpenMachine:
    """Open a machine to read and set it; on this computer through the root service, if there is one.

    Under sudo this process is its caller's from then on, and only what reads and sets this computer stays root.

    Args:
        machine: its spec as typed.
        data: the data folder given by the person; None for the usual one.
        holder: who this process is.
        exclusive: the machine will be changed, so nobody else may hold it. Otherwise a held machine is opened
            read-only.
        as_root: under sudo this process stays root; it gives that up later (``give_up_root``).

    Raises:
        BadInput: no such machine.
        InUse: another process holds it and ``exclusive`` is asked.
        NoFolder: it is opened in this process, and the folder for its records cannot be written.
        BoltError: somebody else could have written what lies in the data folder.
    """
    spec = parse_machine(machine)
    if spec.kind != "host":
        give_up_root()
    _check_data_folder(data)
    if spec.kind != "host":
        return OpenMachine(spec, *open_local(spec, state_folder(spec, data), holder, exclusive=exclusive))
    # The service first: two processes that set one machine would each take the other's values for stock.
    found = _service()
    if not isinstance(found, Diagnostic):
        if not as_root:
            give_up_root()
        return OpenMachine(spec, host_ports(), found)
    gaps = () if is_root() else (found,)
    if caller() is not None and not as_root:
        return _open_with_helper(spec, holder, exclusive=exclusive)
    try:
        return OpenMachine(spec, *open_local(spec, state_folder(spec, data), holder, exclusive=exclusive, gaps=gaps))
    except NoFolder as fault:
        if not gaps:
            raise
        raise NoFolder(f"Setting anything here needs root or the root service: {clause(gaps[0])}. {fault}") from fault


def _check_data_folder(given: Path | None) -> None:
    """Raise BoltError if somebody else could have written what lies in the data folder: the same rule for all.

    Under sudo it is not root's but the caller's, and is looked at once this process is theirs.
    """
    folder = data_folder(given)
    if caller() is None and folder.exists():
        check_own(folder)


def _open_with_helper(spec: MachineSpec, holder: str, *, exclusive: bool) -> OpenMachine:
    from upright_bolt.service import helper

    folder = state_folder(spec, None)
    # Forked while this process is still root; what is left here is the caller's, and runs nothing as root.
    channel, pid = helper.start(lambda: open_local(spec, folder, holder, exclusive=exclusive)[1])
    give_up_root()
    return OpenMachine(spec, host_ports(), helper.HelperAccess(channel, pid, run_lock(holder)))


def give_up_root() -> None:
    """Under sudo, become the user who called, for good; otherwise do nothing. Raises BoltError."""
    person = caller()
    if person is not None:
        become(person)


def run_lock(holder: str) -> MachineLock:
    """Return what a run on this computer takes where no service sees to it that there is one at a time.

    It lies where only this user can write, so nobody else can keep them from running.
    """
    given = os.environ.get("XDG_RUNTIME_DIR")
    of_session = Path(given or f"/run/user/{os.geteuid()}")
    if not given and not of_session.is_dir():
        from platformdirs import user_state_path

        of_session = user_state_path()
    return MachineLock(of_session / "upright-bolt" / "run", f"a run of {holder}")


def _service() -> "ServiceAccess | Diagnostic":
    from upright_bolt.service.bus import bus_is_there

    if not bus_is_there():
        return note(DiagnosticCode.SERVICE_ABSENT, Subject.ROOT_SERVICE, why="there is no system bus here")
    from upright_bolt.service.client import ServiceAbsent, ServiceAccess

    try:
        return ServiceAccess()
    except ServiceAbsent as fault:
        return note(DiagnosticCode.SERVICE_ABSENT, Subject.ROOT_SERVICE, why=str(fault).rstrip("."))
    except BoltError as fault:
        return note(DiagnosticCode.SERVICE_REFUSES, Subject.ROOT_SERVICE, why=str(fault).rstrip("."))


def open_local(
    spec: MachineSpec,
    folder: Path,
    holder: str,
    *,
    exclusive: bool,
    gaps: tuple[Diagnostic, ...] = (),
    served: bool = False,
    writers: "Writers | None" = None,
) -> "tuple[MachinePorts, SettingsEngine, SimulatedMachine | None]":
    """Open a machine in this process itself, held by a lock in ``folder``.

    Args:
        spec: the machine.
        folder: where its journal, memory and lock lie.
        holder: who this process is.
        exclusive: nobody else may hold it; otherwise a held machine is opened read-only.
        gaps: what is known to be missing before looking.
        served: this process is a service: a twin's time passes as real time does.
        writers: tells who writes kernel files; None if that cannot be known.

    Raises:
        InUse: another process holds it and ``exclusive`` is asked.
        NoFolder: ``folder`` cannot be written.
    """
    from upright_bolt.profiles.engine import ProfileEngine
    from upright_bolt.settings.backend import Backend
    from upright_bolt.settings.engine import SettingsEngine

    lock = _lock(folder, holder, exclusive=exclusive)
    try:
        saved = lock is not None and (exclusive or os.access(folder, os.W_OK))  # looking writes nothing where it cannot
        ports, twin = open_ports(spec, folder, saved=saved, served=served, writers=writers)
        of_run = run_lock(holder) if spec.kind == "host" and not served else None
        backend = Backend(ports, gaps)
        engine = SettingsEngine(backend, folder, holder, lock, of_run)
        engine.profiles = ProfileEngine(engine, backend, ports, _profile_folder(spec, folder), folder)
    except BaseException:
        if lock is not None:
            lock.release()
        raise
    return ports, engine, twin


SYSTEM_CONFIGURATION = "/etc/upright-bolt"


def _profile_folder(spec: MachineSpec, folder: Path) -> Path:
    """Return where profiles and rules lie: of simulated machines and copies, beside their record.

    systemd tells a service its own folder in ``CONFIGURATION_DIRECTORY``.
    """
    if spec.kind != "host":
        return folder
    if is_root():
        return Path(os.environ.get("CONFIGURATION_DIRECTORY") or SYSTEM_CONFIGURATION)
    from platformdirs import user_config_path

    return user_config_path("upright-bolt", appauthor=False)


def _lock(folder: Path, holder: str, *, exclusive: bool) -> MachineLock | None:
    lock = MachineLock(folder, holder)
    try:
        lock.acquire()
    except InUse:
        if exclusive:
            raise
        return None
    except OSError as fault:
        if exclusive:
            raise NoFolder(
                f"{folder} cannot be written ({fault.strerror}); name another folder with --data."
            ) from fault
        return None
    return lock


def serve(machine: str, data: Path | None, idle_s: float) -> None:
    """Be the root service for a machine, until nobody needs it.

    The right to learn who writes kernel files is used once, and given up before anybody can call.

    Raises:
        BadInput: no such machine.
        BoltError: the bus cannot be reached, or its name is taken.
    """
    from upright_bolt.kernel.changes.writers import Writers
    from upright_bolt.service.capabilities import CAP_SYS_ADMIN, drop
    from upright_bolt.service.daemon import serve as serve_on_bus

    spec = parse_machine(machine)
    folder = state_folder(spec, data)
    writers = Writers() if spec.kind != "twin" else None
    # Before the bus is opened: nobody can make this process use what it does not have any more.
    drop(CAP_SYS_ADMIN)

    def opened() -> "SettingsEngine":
        return open_local(spec, folder, "the root service", exclusive=False, served=True, writers=writers)[1]

    serve_on_bus(opened, idle_s)
