"""What it costs to keep a profile in force, and how soon a foreign write is undone."""

import os
import statistics
import time
from functools import cache
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from bench.service import shares_hidden
from bus_support import PrivateBus
from support import write_tree
from upright_bolt.model.profile import Profile
from upright_bolt.profiles.text import text_of
from upright_bolt.service.client import ServiceAccess
from upright_bolt.twin.machine import open_twin

Measured = tuple[float, str]
ALL = [f"org.upright-bolt.{name}" for name in ("watch", "set", "set-voltage", "manage-profiles")]
TEN = {
    "sustained": 25.0, "burst": 40.0, "window": 20.0, "turbo": "on", "epp": 192.0, "governor": "powersave",
    "clock-min": 900.0, "clock-max": 4000.0, "idle-off": "C6", "peak": 70.0,
}  # fmt: skip
REST_S, LOOK_S = 8.0, 150.0
WRITES = 40
PREFERENCE = "sys/devices/system/cpu/cpufreq/policy0/energy_performance_preference"


@cache
def _held() -> tuple[float, float, int, list[float]]:
    """Return the processor share in %, wake-ups a second, settings held, and s from a foreign write to its undoing."""
    import tempfile

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        root = write_tree(open_twin("tern", None), folder / "copy")
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
            undone = [_undone(access, root / PREFERENCE) for _ in range(WRITES)]
            access.close()
    share = 100.0 * (after[0] - before[0]) / took
    return share, (after[1] - before[1]) / took, held, undone


def _cost(pid: int) -> tuple[float, int]:
    """Return processor time in s and how often the kernel has woken any thread of a process."""
    cpu_s, wakes = 0.0, 0
    for task in Path(f"/proc/{pid}/task").iterdir():
        cpu_s += int((task / "schedstat").read_text().split()[0]) / 1e9
        for line in (task / "status").read_text().splitlines():
            if line.startswith("voluntary_ctxt_switches"):
                wakes += int(line.split()[1])
    return cpu_s, wakes


def _undone(access: ServiceAccess, file: Path) -> float:
    """Return for how many s a foreign value stands; the hold is made to forget earlier ones first."""
    access.profiles.set_hold(on=True)
    time.sleep(0.2)
    mine = file.read_text()
    begun = time.perf_counter()
    file.write_text("performance")
    while file.read_text() != mine and time.perf_counter() - begun < 10.0:
        time.sleep(0.0005)
    return time.perf_counter() - begun


def share(_folder: Path) -> Measured:
    """Share of one core that the service takes while it holds settings and nothing happens."""
    value, wakes, held, _ = _held()
    return value, f"{held} settings, over {LOOK_S:.0f} s; {wakes:.3f} wake-ups a second"


def wake_ups(_folder: Path) -> Measured:
    """How often a second the kernel wakes it then."""
    _, wakes, held, _ = _held()
    return wakes, f"{held} settings, all threads together"


def undoing(_folder: Path) -> Measured:
    """Median time from a foreign write to its undoing, in ms."""
    undone = _held()[3]
    return 1e3 * statistics.median(undone), f"worst {1e3 * max(undone):.0f} ms of {len(undone)}"


def panel(folder: Path) -> Measured:
    """Share of one core that the window takes while it is hidden and its icon is in the panel."""
    mine, service = shares_hidden(folder)
    return mine, f"{mine:.2f} % of the window's process, {service:.2f} % of the service"
