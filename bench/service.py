"""What the root service costs: a sample through it, and the share of a processor that it and the window take."""

import os
import statistics
import subprocess
import sys
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from bus_support import PrivateBus
from upright_bolt.app import open_session
from upright_bolt.service.client import ServiceAccess
from upright_bolt.service.shared_machine import FRESH_S

Measured = tuple[float, str]
SAMPLES = 60
LOOK_S = 20.0
TICKS = os.sysconf("SC_CLK_TCK")


def sample_ratio(folder: Path) -> Measured:
    """Cost of a fresh sample through the service, as its client waits for it, against one in the same process."""
    direct = open_session("twin:tern", folder / "direct", "bench", exclusive=True)
    direct.access.sample()
    inside = [_timed(direct.access.sample) for _ in range(SAMPLES * 10)]
    with PrivateBus(folder) as bus:
        os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = bus.address
        bus.start_polkit()
        bus.start_service()
        access = ServiceAccess()
        access.sample()
        through = []
        for _ in range(SAMPLES):
            time.sleep(FRESH_S * 1.05)
            through.append(_timed(access.sample))
        access.close()
    direct.close()
    cost, floor = statistics.median(through), statistics.median(inside)
    return cost / floor, f"{cost * 1e3:.2f} ms against {floor * 1e3:.3f} ms"


def shares(folder: Path) -> tuple[tuple[float, float], tuple[float, float]]:
    """Return the shares of a processor in %, of window and service: at a sample a second, and minimised."""
    from upright_bolt.desktop.app import DesktopApp
    from upright_bolt.desktop.widgets import theme

    with PrivateBus(folder) as bus:
        os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = bus.address
        bus.start_polkit()
        service = bus.start_service()
        app = DesktopApp(open_session("host", folder / "mine", "bench", exclusive=True), folder / "mine", theme.LIGHT)
        app.window.show()
        app.thread.period_s = 1.0
        _wait(4.0)
        looking = _shares_over(service.process.pid)
        app.window.showMinimized()
        _wait(2.0)
        minimised = _shares_over(service.process.pid)
        app.window.close()
        app.tear_down()
    return looking, minimised


def shares_hidden(folder: Path) -> tuple[float, float]:
    """Return the shares of a processor in %, of window and service, while the window is hidden behind its icon."""
    from dataclasses import replace

    from upright_bolt.desktop.app import DesktopApp
    from upright_bolt.desktop.widgets import theme

    with PrivateBus(folder) as bus:
        os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = bus.address
        bus.start_polkit()
        service = bus.start_service()
        session = open_session("host", folder / "mine", "bench", exclusive=True)
        app = DesktopApp(session, folder / "mine", theme.LIGHT, has_panel=lambda: True)
        app.prefer(replace(app.kept.chosen, panel=True))
        app.window.stay_in_panel()
        _wait(4.0)
        found = _shares_over(service.process.pid)
        app.end()
        app.tear_down()
    return found


def _wait(seconds: float) -> None:
    """Let the window live for a while."""
    from PyQt6.QtCore import QEventLoop, QTimer

    loop = QEventLoop()
    QTimer.singleShot(round(seconds * 1000), loop.quit)
    loop.exec()


def _shares_over(pid: int) -> tuple[float, float]:
    before, begun = (_cpu_s(os.getpid()), _cpu_s(pid)), time.perf_counter()
    _wait(LOOK_S)
    took = time.perf_counter() - begun
    return tuple(100.0 * (_cpu_s(p) - b) / took for p, b in zip((os.getpid(), pid), before, strict=True))  # type: ignore[return-value]


def _cpu_s(pid: int) -> float:
    words = Path(f"/proc/{pid}/stat").read_text().rsplit(") ", 1)[1].split()
    return (int(words[11]) + int(words[12])) / TICKS


def _timed(work) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def _in_own_process(folder: Path) -> list[list[float]]:
    done = subprocess.run(
        [sys.executable, "-m", "bench.service", str(folder)], capture_output=True, text=True, check=True
    )
    return [[float(word) for word in line.split()] for line in done.stdout.splitlines()[-2:]]


def share_looking(folder: Path) -> Measured:
    """Share of one processor in % that window and service take together at a sample a second."""
    window, service = _in_own_process(folder)[0]
    return window + service, f"window {window:.2f} %, service {service:.2f} %, the Workbench in sight, no run"


def share_minimised(folder: Path) -> Measured:
    """The same with the window minimised."""
    window, service = _in_own_process(folder)[1]
    return window + service, f"window {window:.2f} %, service {service:.2f} %, a sample every two seconds"


if __name__ == "__main__":
    for found in shares(Path(sys.argv[1])):
        print(*found)
