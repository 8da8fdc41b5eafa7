"""The measurements. Each returns a ratio (or ms) and a sentence on what it is made of."""

import json
import os
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable
from functools import cache
from pathlib import Path

from upright_bolt.analysis.limits.judge import ConstraintJudge
from upright_bolt.app import open_session
from upright_bolt.kernel.clock import RealClock
from upright_bolt.kernel.ports import VALUE_SIZE, DeviceRegisters, Read, RealFiles
from upright_bolt.kernel.sensors.sample_reader import SampleReader
from upright_bolt.kernel.survey import Surveyed, survey
from upright_bolt.model.work import Work
from upright_bolt.session.session import SAMPLE_S
from upright_bolt.session.starting import start_run
from upright_bolt.simulator.machine import SimulatedMachine, open_simulated
from upright_bolt.store.runs import RunStore
from upright_bolt.workload.load import Task
from upright_bolt.workload.pool import HostLoad
from upright_bolt.workload.worker import SINGLE_THREAD

Measured = tuple[float, str]
UP_S = 60.0


def alternating(first: Callable[[], float], second: Callable[[], float], rounds: int) -> tuple[float, float]:
    """Measure both in turn, so that a slow moment hits both, and return the medians."""
    pairs = [(first(), second()) if i % 2 else tuple(reversed((second(), first()))) for i in range(rounds)]
    return statistics.median(a for a, _ in pairs), statistics.median(b for _, b in pairs)


class _Ticking(RealClock):
    """A clock that goes on half a second at every look."""

    def __init__(self) -> None:
        super().__init__()
        self.time_s = 0.0

    def now_s(self) -> float:
        self.time_s += 0.5
        return self.time_s

    def wait_until(self, time_s: float, woken: threading.Event | None = None) -> None:  # noqa: ARG002
        self.time_s = time_s


def sampling(folder: Path) -> Measured:
    """Cost of one full sample of a 12-thread machine in a folder, against bare ``pread`` calls on what it reads."""
    return _sampling(folder, moves=False)


def sampling_moving(folder: Path) -> Measured:
    """The same, while every file that changes on a loaded machine is changed before each sample, untimed.

    Those are clocks, temperatures, energy and processor times; the writing in between leaves cold caches behind, as
    the half second between two samples does in life. The machine has been up for so long that no time in its table
    gets a digit more.
    """
    return _sampling(folder, moves=True)


def _sampling(folder: Path, *, moves: bool) -> Measured:
    twin = open_simulated("tern", None)
    twin.demand(frozenset(range(12)))
    twin.physics.advance(UP_S)
    first = _contents(twin)
    twin.physics.advance(3.0)
    second = _contents(twin)
    for path, data in first.items():
        target = folder / path.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(data)
    files = RealFiles(folder)
    found = survey(files, DeviceRegisters(folder), "tree")
    reader = SampleReader(files, DeviceRegisters(folder), found, _Ticking())
    judge = ConstraintJudge(reader.sensors, found.topology, found.limits)
    paths = _paths(folder, found)
    handles = [os.open(f"{folder}{path}", os.O_RDWR) for path in paths]
    moving = [
        (handle, path)
        for path, handle in zip(paths, handles, strict=True)
        if first[path] != second[path] and not path.endswith("runtime_status")  # a chip that sleeps sleeps on
    ]
    costs: list[float] = []
    floors: list[float] = []
    for i in range(6000):
        for handle, path in moving if moves else ():
            os.pwrite(handle, _content(first[path], second[path], i, counts=path.endswith("energy_uj")), 0)
        costs.append(_timed(lambda: _sample(reader, judge)))
        floors.append(_timed(lambda: _bare(handles)))
    files.close()
    for handle in handles:
        os.close(handle)
    cost, floor = statistics.median(costs), statistics.median(floors)
    detail = f"{cost * 1e6:.0f} µs against {floor * 1e6:.0f} µs for {len(paths)} files"
    return cost / floor, detail


def _content(first: bytes, second: bytes, sample: int, *, counts: bool) -> bytes:
    """Return what a file holds at a sample: one of two contents in turn; a counter goes on by half a second."""
    if counts:
        return b"%d\n" % (int(first) + sample * (int(second) - int(first)) // 6)
    return (first, second)[sample % 2].ljust(max(len(first), len(second)))


def _sample(reader: SampleReader, judge: ConstraintJudge) -> None:
    """Take one sample as the backend does."""
    time_s, values, caps_mhz = reader.read()
    judge.judge(time_s, values, caps_mhz)


def _contents(twin: SimulatedMachine) -> dict[str, bytes]:
    return {path: twin.files.read(path) for path in twin.files._get}


def _bare(handles: list[int]) -> None:
    for handle in handles:
        os.pread(handle, 4096, 0)


def _timed(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


class _CountingFiles(RealFiles):
    """Counts how often each file is read."""

    def __init__(self, root: Path) -> None:
        super().__init__(root)
        self.reads: Counter[str] = Counter()

    def opener(self, path: str, size: int = VALUE_SIZE) -> Read:
        read = super().opener(path, size)

        def counted() -> bytes:
            self.reads[path] += 1
            return read()

        return counted


def _paths(folder: Path, found: Surveyed) -> list[str]:
    """Return the files that most samples read: neither those of a chip that sleeps nor what is read now and then."""
    files = _CountingFiles(folder)
    reader = SampleReader(files, DeviceRegisters(folder), found, _Ticking())
    samples = 40
    for _ in range(samples):
        reader.read()
    files.close()
    return [path for path, times in files.reads.items() if times > samples / 2]


def twin_speed(_folder: Path) -> Measured:
    """How much faster than time a loaded twin runs on one core."""
    twin = open_simulated("tern", None)
    twin.demand(frozenset(range(12)))
    speeds = []
    for _ in range(7):
        begun = time.perf_counter()
        twin.physics.advance(300.0)
        speeds.append(300.0 / (time.perf_counter() - begun))
    return statistics.median(speeds), "physics alone, all threads loaded"


def twin_run_speed(folder: Path) -> Measured:
    """The same with sampling, analysis and the database."""
    session = open_session("twin:tern", folder, "bench", exclusive=True)
    store = RunStore(folder / "runs.sqlite")
    begun = time.perf_counter()
    start_run(session, Work("steady", 600.0), "bench", store)
    while session.end_run() is None:
        session.tick()
        session.machine.clock.wait_until(session.machine.clock.now_s() + SAMPLE_S)
    took = time.perf_counter() - begun
    session.close()
    store.close()
    return 600.0 / took, f"10 minutes in {took:.2f} s, two samples a second"


BARE = """
import os, sys, time
os.sched_setaffinity(0, {int(sys.argv[1])})
from threadpoolctl import threadpool_limits
from upright_bolt.workload.blocks import Mix
with threadpool_limits(1):
    blocks = [block for _, block in Mix().blocks()]
    for block in blocks:
        block()
    done, end = 0, time.monotonic() + float(sys.argv[2])
    begun = time.monotonic()
    while time.monotonic() < end:
        blocks[done % 4]()
        done += 1
    print(done / (time.monotonic() - begun))
"""


def workload(_folder: Path) -> Measured:
    """Blocks per second of a checked worker against the same blocks in a bare loop, on one processor."""
    cpu = max(os.sched_getaffinity(0))
    seconds = 4.0

    def bare() -> float:
        command = [sys.executable, "-c", BARE, str(cpu), str(seconds)]
        environment = {**os.environ, **SINGLE_THREAD}
        return float(subprocess.run(command, capture_output=True, text=True, check=True, env=environment).stdout)

    def checked() -> float:
        load = HostLoad(Task("steady", (cpu,)))
        load.prepare()
        while not load.ready():
            time.sleep(0.02)
        start = load.start()
        while load.complete_until() < start + seconds:
            time.sleep(0.2)
        units = load.units_until(start + seconds)
        load.stop()
        return units * 4 / seconds

    with_checks, without = alternating(checked, bare, 7)
    return with_checks / without, f"{with_checks:.1f} against {without:.1f} blocks per second on one processor"


def _start(folder: Path, *words: str) -> Measured:
    """Time of a command against that of an empty Python, with compiled files kept as an installation keeps them."""
    environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}

    def run(*arguments: str) -> float:
        begun = time.perf_counter()
        subprocess.run([sys.executable, *arguments], capture_output=True, check=True, env=environment)
        return time.perf_counter() - begun

    command = ("-m", "upright_bolt", "--data", str(folder), *words)
    run(*command)
    ours, empty = alternating(lambda: run(*command), lambda: run("-c", "pass"), 9)
    return ours / empty, f"{ours * 1000:.0f} ms against {empty * 1000:.0f} ms"


def status(folder: Path) -> Measured:
    """Time of ``status`` on this computer."""
    return _start(folder, "status")


def status_of_twin(folder: Path) -> Measured:
    """The same on a twin, whose state is a file that has to be read and checked."""
    return _start(folder, "--machine", "twin:tern", "status")


def help_text(folder: Path) -> Measured:
    """Time of the list of commands."""
    return _start(folder, "--help")


SLEEPER = """
import sys, time
worst, last, end = 0.0, time.perf_counter(), time.perf_counter() + float(sys.argv[1])
while last < end:
    time.sleep(0.002)
    now = time.perf_counter()
    worst, last = max(worst, now - last - 0.002), now
print(worst * 1000)
"""


def event_loop(folder: Path) -> Measured:
    """The longest time for which the window answers nobody, during a live run with a day of telemetry loaded.

    Measured in a process of its own. Beside it a process that only sleeps tells how long this computer keeps anyone
    waiting at worst: a virtual one may stop everything for a while.
    """
    from bench.stall import LIVE_S

    printed, pause_ms = _beside_a_sleeper("bench.stall", folder, LIVE_S + 8)
    worst, detail = printed.split(" ", 1)
    return float(worst), f"{detail}; a process that only sleeps was kept waiting {pause_ms:.0f} ms at worst meanwhile"


def _beside_a_sleeper(module: str, folder: Path, seconds: float) -> tuple[str, float]:
    """Run a measurement of the window in a process of its own; return what it prints and the sleeper's worst wait."""
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    sleeper = subprocess.Popen([sys.executable, "-c", SLEEPER, str(seconds)], stdout=subprocess.PIPE, text=True)
    command = [sys.executable, "-m", module, str(folder)]
    done = subprocess.run(command, capture_output=True, text=True, check=True, env=environment)
    return done.stdout.strip(), float(sleeper.communicate()[0])


@cache
def _thousand() -> dict[str, float]:
    with tempfile.TemporaryDirectory() as folder:
        printed, pause_ms = _beside_a_sleeper("bench.thousand", Path(folder), 40.0)
    return json.loads(printed) | {"sleeper": pause_ms}


def compare_opened(_folder: Path) -> Measured:
    """What the event loop computes for opening Compare with a thousand runs of ten minutes, in ms."""
    return _thousand()["opened"], "processor time of its thread until drawn"


def compare_switched(_folder: Path) -> Measured:
    """The same for the slowest of fourteen switches: other runs, the sweep, a filter."""
    return _thousand()["switched"], "the slowest of 14: other runs, the sweep, a filter"


def compare_stall(_folder: Path) -> Measured:
    """The longest pause of the event loop meanwhile, in ms."""
    found = _thousand()
    detail = f"it computed {found['computed']:.0f} ms in one go at most"
    return found["worst"], f"{detail}; a process that only sleeps was kept waiting {found['sleeper']:.0f} ms at worst"
