"""Helpers of the tests: a twin with its session, files that fail on order, a copy of a twin's files as a folder."""

import copy
import errno
import functools
import os
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path

import numpy as np

from upright_bolt.app import open_session
from upright_bolt.errors import FileFault
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.ports import ForwardingFiles, KernelFiles
from upright_bolt.kernel.sensors.sample_reader import SampleReader
from upright_bolt.model.control import Value
from upright_bolt.model.note import Diagnostic
from upright_bolt.model.run import RunRecord
from upright_bolt.model.start import Start
from upright_bolt.model.trial import ApplyReport
from upright_bolt.model.work import Work
from upright_bolt.session.session import SAMPLE_S, Session
from upright_bolt.session.starting import start_run
from upright_bolt.settings import apply
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.journal import Journal
from upright_bolt.settings.journal_replay import Past, replay_journal
from upright_bolt.simulator.chip import MachineSpec
from upright_bolt.simulator.machine import SimulatedClock, SimulatedMachine, open_simulated
from upright_bolt.simulator.state import SimulatedState, fresh_state
from upright_bolt.store.runs import RunStore
from upright_bolt.text.notes import clause


class SimulatedSession:
    """A session on tern in a data folder, driven by hand."""

    def __init__(self, data: Path, machine: str = "twin:tern") -> None:
        self.data = data
        self.session: Session = open_session(machine, data, "a test", exclusive=True)
        self.store = RunStore(data / "runs.sqlite")

    @property
    def engine(self) -> SettingsEngine:
        assert isinstance(self.session.access, SettingsEngine)
        return self.session.access

    @property
    def twin(self) -> SimulatedMachine:
        assert isinstance(self.session.machine.clock, SimulatedClock)
        return self.session.machine.clock._twin

    def pass_time(self, seconds: float) -> None:
        clock = self.session.machine.clock
        clock.wait_until(clock.now_s() + seconds)

    def run(
        self,
        seconds: float = 600.0,
        label: str = "",
        *,
        cool_s: float = 0.0,
        workload: str = "steady",
        start: Start = Start.AT_ONCE,
        **more,
    ) -> RunRecord:
        """Run a workload to its end, without a wait before it, and return what the store keeps."""
        if cool_s:
            self.pass_time(cool_s)
        start_run(self.session, Work(workload, seconds, start=start, **more), label, self.store)
        return self.carry_on()

    def carry_on(self) -> RunRecord:
        """Let the run in progress go on to its end and return what the store keeps."""
        while (ended := self.session.end_run()) is None:
            self.session.tick()
            self.pass_time(SAMPLE_S)
        return self.store.get(ended.id)

    def current_values(self, name: str):
        return self.session.controls()[name].current

    def reopen(self, holder: str = "a later test") -> Session:
        """Open a new session on the same data, as the next program start does."""
        self.close()
        self.session = open_session("twin:tern", self.data, holder, exclusive=True)
        self.store = RunStore(self.data / "runs.sqlite")
        return self.session

    def die(self) -> None:
        """Let go of the machine without any cleaning up, as a killed process does."""
        assert self.engine._lock is not None
        self.engine._lock.release()
        self.engine._lock = None

    def close(self) -> None:
        self.session.close()
        self.store.close()


def backend_of(twin: SimulatedMachine, files: KernelFiles | None = None) -> Backend:
    """Return the backend of a twin, or of files in place of its own."""
    ports = MachinePorts("twin:tern", files if files is not None else twin.files, twin.registers, SimulatedClock(twin))
    return Backend(ports)


def put(backend: Backend, asked: Mapping[str, Value]) -> ApplyReport:
    """Put settings in force without a check."""
    return apply.apply_settings(asked, backend, backend.snapshot(asked))


def read_twin(reader: SampleReader) -> list[float | None]:
    """Return the values of one more sample."""
    return reader.read()[1]


def gap_words(gaps: Iterable[Diagnostic]) -> dict[str, str]:
    """Return what is missing, and why in words."""
    return {str(gap.about): clause(gap) for gap in gaps}


class FaultyFiles(ForwardingFiles):
    """A port that passes everything on, but lets chosen accesses fail.

    ``on_read`` and ``on_write`` get the running number of the access and the path, and return an error number to
    fail with, ``"ignore"`` to swallow a write, bytes to answer a read with, or None to let it pass.
    """

    def __init__(self, files: KernelFiles) -> None:
        super().__init__(files)
        self.reads = 0
        self.writes = 0
        self.wrote: list[tuple[str, bytes]] = []
        self.on_read: Callable[[int, str], object] = lambda _n, _p: None
        self.on_write: Callable[[int, str], object] = lambda _n, _p: None

    def read(self, path: str) -> bytes:
        self.reads += 1
        order = self.on_read(self.reads, path)
        if isinstance(order, int):
            raise FileFault(path, order)
        return order if isinstance(order, bytes) else self._files.read(path)

    def write(self, path: str, data: bytes) -> None:
        self.writes += 1
        order = self.on_write(self.writes, path)
        if isinstance(order, int):
            raise FileFault(path, order)
        self.wrote.append((path, data))
        if order != "ignore":
            self._files.write(path, data)

    def opener(self, path: str, size: int = 4096):
        read = self._files.opener(path, size)

        def failing() -> bytes:
            order = self.on_read(0, path)
            if isinstance(order, int):
                raise OSError(order, "told to fail")
            return order if isinstance(order, bytes) else read()

        return failing


def fresh_machine(name: str = "tern") -> SimulatedMachine:
    return open_simulated(name, None)


def write_tree(twin: SimulatedMachine, root: Path, skip: str = "\0") -> Path:
    """Write a twin's files out as a folder, the way a captured machine lies there."""
    for path in sorted(twin.files._get):
        if skip in path:
            continue
        target = root / path.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(twin.files.read(path))
    return root


def contents_of(root: Path) -> dict[str, bytes]:
    """Return what every file below a folder holds, by its path below it with a leading slash."""
    found = {}
    for folder, _, names in os.walk(root):  # several times as quick as pathlib, and read thousands of times
        for name in names:
            path = f"{folder}/{name}"
            with open(path, "rb", buffering=0) as file:
                found[path.removeprefix(str(root))] = file.readall()
    return found


def awake_files(twin: SimulatedMachine) -> list[str]:
    """Return the files of a twin that take writes and whose reading wakes nothing."""
    asleep = [chip.spec.place for chip in twin.physics.graphics.chips if chip.state.asleep]
    return [path for path in twin.files._put if not any(place in path for place in asleep)]


EVERY_ERRNO = (errno.EIO, errno.EBUSY, errno.EACCES, errno.ENODEV)


def loaded_twin(spec: MachineSpec, watts: float) -> SimulatedMachine:
    """Return a twin that has rested for a quarter of an hour and is put under full load at a flat limit."""
    state = rested(spec)
    state.limits = [[watts, watts, 28.0], [watts, watts, 28.0]]
    twin = SimulatedMachine(spec, state, None)
    twin.demand(frozenset(range(spec.chip.cores * 2)))
    return twin


def rested(spec: MachineSpec) -> SimulatedState:
    """Return the state of a twin that has rested for a quarter of an hour."""
    return copy.deepcopy(_rested(spec))


@functools.cache
def _rested(spec: MachineSpec) -> SimulatedState:
    state = fresh_state(spec)
    SimulatedMachine(spec, state, None).physics.advance(900.0)
    return state


def measured_run(spec: MachineSpec, watts: float, seconds: float) -> np.ndarray:
    """Return time, power, temperature in whole degrees and fan of such a twin, twice a second, shape (4, n)."""
    twin = loaded_twin(spec, watts)
    rows = []
    for i in range(int(seconds * 2)):
        rows.append((i * 0.5, twin.state.package_w, round(twin.physics.hottest_c()), twin.state.rpm))
        twin.physics.advance(0.5)
    return np.array(rows, dtype=float).T


def recorded(folder: Path) -> Past:
    """Return what the journal in a machine's folder tells, its boot left aside."""
    return replay_journal(Journal(folder / "journal").read().entries, "")


def recorded_kinds(folder: Path) -> list[str]:
    """Return what the entries of a machine's journal tell, oldest first."""
    return [entry.kind.value for entry in Journal(folder / "journal").read().entries]
