"""What happens to a twin from outside: charger, mode key, sleep, other programs, the power that fails.

Each thing does to the twin what it does to a machine, and is told as a machine tells it: what firmware changes by
itself is told by nobody.
"""

import json
import os
import socket
from collections import deque
from collections.abc import Callable, Collection
from pathlib import Path
from typing import Any

from upright_bolt.errors import BadInput, FileFault
from upright_bolt.kernel import paths
from upright_bolt.model.change import ChangeKind, MachineChange
from upright_bolt.simulator.files_clock import DEFAULT_PREFERENCE
from upright_bolt.simulator.files_power import MODES
from upright_bolt.simulator.machine import SimulatedMachine
from upright_bolt.simulator.state import fresh_state

SOCKET = "outside"
MOST_BYTES = 4096
MOST_WAITING = 1000


class Outside:
    """Port ``MachineChanges`` on a twin, and the ways to make things happen to it.

    Args:
        twin: the twin.
        folder: where others can reach it while a service has it, by ``tell``; None if nobody can.
        power_cut: ends every program on it, as a power cut does.
    """

    def __init__(
        self, twin: SimulatedMachine, folder: Path | None = None, power_cut: Callable[[], None] | None = None
    ) -> None:
        self._twin = twin
        self._power_cut = power_cut
        self._watched: frozenset[str] = frozenset()
        self._replaced = False
        self._waiting: deque[MachineChange] = deque(maxlen=MOST_WAITING)
        self._socket = _listening(folder) if folder is not None else None

    def watch(self, files: Collection[str]) -> None:
        """From now on tell of writes to these files."""
        self._watched = frozenset(files)

    def handles(self) -> tuple[int, ...]:
        """Return the descriptor through which others reach the twin."""
        return (self._socket.fileno(),) if self._socket is not None else ()

    def take(self) -> list[MachineChange]:
        """Let happen what others have asked for, and return what the machine tells of it."""
        while self._socket is not None:
            try:
                asked = self._socket.recv(MOST_BYTES)
            except BlockingIOError:
                break
            self._act(asked)
        taken = list(self._waiting)
        self._waiting.clear()
        return taken

    def _act(self, asked: bytes) -> None:
        acts: dict[str, Callable[..., None]] = {
            "plug": lambda way: self.plug(charger=way == "in"), "mode": self.press_mode, "sleep": self.sleep,
            "lid": lambda way: self.move_lid(closed=way == "closed"),
            "write": self.write, "program": lambda name, way: self.program(name, running=way == "begins"),
            "restart": self.restart,
            "drivers": self.load_drivers_anew,
            "processor": lambda cpu, way: self.processor(int(cpu), online=way == "online"),
        }  # fmt: skip
        try:
            word, *rest = json.loads(asked)
            acts[word](*rest)
        except (ValueError, KeyError, TypeError, FileFault, RecursionError):
            return  # nonsense from outside does nothing to a machine

    def plug(self, *, charger: bool) -> None:
        """Plug the charger in or out."""
        if charger != self._twin.state.charger:
            self._twin.plug(charger=charger)
            self._tell(ChangeKind.SUPPLY)

    def move_lid(self, *, closed: bool) -> None:
        """Open or close the lid; nobody is told, as by a kernel without a desktop."""
        self._twin.state.lid_closed = closed
        self._twin.save()

    def press_mode(self, mode: str) -> None:
        """Press the vendor's key for a platform mode."""
        if mode in MODES and mode != self._twin.state.mode:
            self._twin.physics.set_mode(mode)
            self._tell(ChangeKind.MODE)

    def sleep(self, seconds: float = 3600.0) -> None:
        """Let the machine sleep and wake: registers and limits are the firmware's again."""
        self._tell(ChangeKind.SLEEP)
        self._twin.physics.sleep(float(seconds))
        self._twin.save()
        self._tell(ChangeKind.WAKE)

    def write(self, path: str, text: str, by: str) -> None:
        """Let another program write a file. Raises FileFault."""
        self._twin.files.write(path, text.encode())
        if path in self._watched:
            self._waiting.append(MachineChange(ChangeKind.WRITTEN, path, by))

    def processor(self, cpu: int, *, online: bool) -> None:
        """Take a logical processor offline, but for the first, or bring it back, its preference the kernel's own."""
        state = self._twin.state
        if not 0 < cpu < len(state.epp) or online == (cpu not in state.offline):
            return
        if online:
            state.offline.remove(cpu)
            state.epp[cpu] = DEFAULT_PREFERENCE
        else:
            state.offline.append(cpu)
        self._twin.physics.settings_changed()
        self._twin.save()
        self._tell(ChangeKind.PROCESSORS)

    def load_drivers_anew(self) -> None:
        """Load the scaling driver anew: clocks, governor and preference are the kernel's own again."""
        state, fresh = self._twin.state, fresh_state(self._twin.spec)
        state.governor, state.epp, state.no_turbo = fresh.governor, fresh.epp, fresh.no_turbo
        state.clock_low_mhz, state.clock_high_mhz = fresh.clock_low_mhz, fresh.clock_high_mhz
        self._twin.physics.settings_changed()
        self._twin.save()
        self._replaced = True
        self._tell(ChangeKind.DRIVERS)

    def replaced(self) -> bool:
        """Tell whether drivers were loaded anew since the last call."""
        was, self._replaced = self._replaced, False
        return was

    def program(self, name: str, *, running: bool) -> None:
        """Let a program begin or end."""
        programs = self._twin.state.programs
        if running and name not in programs:
            programs.append(name)
        elif not running and name in programs:
            programs.remove(name)
        self._twin.save()
        self._tell(ChangeKind.PROGRAM)

    def restart(self) -> None:
        """Cut the power and start the machine again."""
        self._twin.physics.restart()
        self._twin.save()
        if self._power_cut is not None:
            self._power_cut()

    def programs(self, names: frozenset[str]) -> frozenset[str]:
        """Return which of some programs are running."""
        return names & frozenset(self._twin.state.programs)

    def _tell(self, kind: ChangeKind) -> None:
        self._waiting.append(MachineChange(kind))

    def close(self) -> None:
        """Let nobody reach it any more."""
        if self._socket is not None:
            self._socket.close()
            self._socket = None


def _listening(folder: Path) -> socket.socket:
    made = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM | socket.SOCK_CLOEXEC | socket.SOCK_NONBLOCK)
    (folder / SOCKET).unlink(missing_ok=True)
    _through(folder, made.bind)
    (folder / SOCKET).chmod(0o600)
    return made


def _through(folder: Path, act: Callable[[str], Any]) -> None:
    """Do something with the socket's address by way of an open folder: an address holds 107 characters only."""
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        act(f"{paths.own_open_file(handle)}/{SOCKET}")
    finally:
        os.close(handle)


def tell(folder: Path, *words: str | float) -> None:
    """Make something happen to a twin that a service has.

    Args:
        folder: the twin's folder.
        words: what: ``plug in``, ``mode quiet``, ``sleep 600``, ``write PATH TEXT BY``, ``program NAME begins``,
            ``processor 3 offline``, ``drivers``, ``restart``.

    Raises:
        BadInput: no service has this twin.
    """
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM | socket.SOCK_CLOEXEC) as sender:
        try:
            _through(folder, sender.connect)
        except OSError as fault:
            raise BadInput(f"No service has the twin of {folder}.") from fault
        sender.send(json.dumps(words).encode())
