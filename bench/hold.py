"""What it costs to keep a profile in force, and how soon a foreign write is undone."""

import os
import statistics
import subprocess
import sys
import time
from functools import cache
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from bench.service import shares_hidden
from bus_support import PrivateBus
from support import write_tree
from upright_bolt.model.control import Value
from upright_bolt.model.profile import Profile
from upright_bolt.profiles.text import text_of
from upright_bolt.service.client import ServiceAccess
from upright_bolt.simulator.machine import open_simulated

Measured = tuple[float, str]
ALL = [f"org.upright-bolt.{name}" for name in ("watch", "set", "set-voltage", "manage-profiles")]
TEN: dict[str, Value] = {
    "sustained": 25.0, "burst": 40.0, "window": 20.0, "turbo": "on", "epp": 192.0, "governor": "powersave",
    "clock-min": 900.0, "clock-max": 4000.0, "idle-off": "C6", "peak": 70.0,
}  # fmt: skip
REST_S, LOOK_S = 8.0, 150.0
WRITES = 4
POLICY, ZONE = "sys/devices/system/cpu/cpufreq/policy3", "sys/class/powercap/intel-rapl:0"
FOREIGN = {
    f"{ZONE}/constraint_0_power_limit_uw": "12000000", f"{ZONE}/constraint_1_power_limit_uw": "30000000",
    f"{ZONE}/constraint_0_time_window_us": "999424", f"{ZONE}/constraint_2_power_limit_uw": "50000000",
    f"{POLICY}/energy_performance_preference": "performance", f"{POLICY}/scaling_governor": "performance",
    f"{POLICY}/scaling_min_freq": "1500000", f"{POLICY}/scaling_max_freq": "3000000",
    "sys/devices/system/cpu/intel_pstate/no_turbo": "1",
    "sys/devices/system/cpu/cpu3/cpuidle/state2/disable": "0",
}  # fmt: skip
"""Of every setting that is held: a file, and what another program writes there."""
FIGHT_S, SUSPENDED_S, FIGHT_EVERY_S = 60.0, 30.0, 0.05
FIGHTER = """
import sys, time
while True:
    with open(sys.argv[1], "r+") as file:
        file.write(sys.argv[2] + "\\n")
    time.sleep(float(sys.argv[3]))
"""


@cache
def _held() -> tuple[float, float, int, dict[str, list[float]], tuple[float, float]]:
    """Return what holding costs.

    Returns:
        The processor share in %, wake-ups a second, settings held, s from a foreign write to its undoing by file, and
        the share during a fight, before it is given up and after.
    """
    import tempfile

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        root = write_tree(open_simulated("tern", None), folder / "copy")
        with PrivateBus(folder) as bus:
            os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = bus.address
            bus.start_polkit(ALL)
            service = bus.start_service(on=f"tree:{root}")
            access = ServiceAccess()
            access.profiles.save("ten", text_of(Profile("ten", TEN)))
            access.profiles.use("ten")
            held = len(access.profiles.status().applied)
            access.close()  # nobody asks anything
            time.sleep(REST_S)
            before, begun = _cost(service.process.pid), time.perf_counter()
            time.sleep(LOOK_S)
            after, took = _cost(service.process.pid), time.perf_counter() - begun
            access = ServiceAccess()
            undone = {
                file: [_undone(access, root / file, text) for _ in range(WRITES)] for file, text in FOREIGN.items()
            }
            fight = _fight(access, service.process.pid, root / next(iter(FOREIGN)))
            access.close()
    share = 100.0 * (after[0] - before[0]) / took
    return share, (after[1] - before[1]) / took, held, undone, fight


def _cost(pid: int) -> tuple[float, int]:
    """Return processor time in s and how often the kernel has woken any thread of a process."""
    cpu_s, wakes = 0.0, 0
    for task in Path(f"/proc/{pid}/task").iterdir():
        cpu_s += int((task / "schedstat").read_text().split()[0]) / 1e9
        for line in (task / "status").read_text().splitlines():
            if line.startswith("voluntary_ctxt_switches"):
                wakes += int(line.split()[1])
    return cpu_s, wakes


def _fight(access: ServiceAccess, pid: int, file: Path) -> tuple[float, float]:
    """Return the processor share in % while a program writes 20 times a second, before it is given up and after."""
    access.profiles.set_hold(on=True)
    words = [sys.executable, "-c", FIGHTER, str(file), FOREIGN[next(iter(FOREIGN))], str(FIGHT_EVERY_S)]
    fighter = subprocess.Popen(words)
    try:
        before, begun = _cost(pid), time.perf_counter()
        while not access.profiles.status().resting and time.perf_counter() - begun < 2 * FIGHT_S:
            time.sleep(5.0)
        resisting = 100.0 * (_cost(pid)[0] - before[0]) / (time.perf_counter() - begun)
        time.sleep(2.0)
        before, begun = _cost(pid), time.perf_counter()
        time.sleep(SUSPENDED_S)
        suspended = 100.0 * (_cost(pid)[0] - before[0]) / (time.perf_counter() - begun)
    finally:
        fighter.kill()
        fighter.wait()
    return resisting, suspended


def _undone(access: ServiceAccess, file: Path, text: str) -> float:
    """Return for how many s a foreign value stands; the hold is made to forget earlier ones first."""
    access.profiles.set_hold(on=True)
    time.sleep(0.8)  # it is not woken twice within half a second
    before = file.read_text()
    begun = time.perf_counter()
    with file.open("r+") as opened:
        # As long as what it replaces: of a plain file the rest would stay, and a kernel file has no rest.
        opened.write(f"{text}\n".ljust(len(before), "\n"))
    while file.read_text().split() != before.split() and time.perf_counter() - begun < 10.0:
        time.sleep(0.0005)
    return time.perf_counter() - begun


def share(_folder: Path) -> Measured:
    """Share of one core that the service takes while it holds settings and nothing happens."""
    value, wakes, held, *_ = _held()
    return value, f"{held} settings, over {LOOK_S:.0f} s; {wakes:.3f} wake-ups a second"


def wake_ups(_folder: Path) -> Measured:
    """How often a second the kernel wakes it then."""
    _, wakes, held, *_ = _held()
    return wakes, f"{held} settings, all threads together"


def undoing(_folder: Path) -> Measured:
    """Median time from a foreign write to its undoing, in ms, of the setting that takes longest."""
    medians = {file: statistics.median(each) for file, each in _held()[3].items()}
    slowest = max(medians, key=lambda file: medians[file])
    worst = max(max(each) for each in _held()[3].values())
    return 1e3 * medians[slowest], f"{Path(slowest).name} of {len(medians)} settings; worst of all {1e3 * worst:.0f} ms"


def resisting(_folder: Path) -> Measured:
    """Share of one core while a program writes a setting 20 times a second, until that is given up."""
    return _held()[4][0], f"a write every {1e3 * FIGHT_EVERY_S:.0f} ms"


def suspended(_folder: Path) -> Measured:
    """Share of one core while it goes on writing what is suspended."""
    return _held()[4][1], f"over {SUSPENDED_S:.0f} s"


def panel(folder: Path) -> Measured:
    """Share of one core that the window takes while it is hidden and its icon is in the panel."""
    mine, service = shares_hidden(folder)
    return mine, f"{mine:.2f} % of the window's process, {service:.2f} % of the service"
