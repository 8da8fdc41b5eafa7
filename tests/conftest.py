"""Fixtures: a fresh twin, session and data folder per test; nothing may be left over."""

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

from bus_support import PrivateBus
from command_process import run_command
from support import SimulatedSession
from waiting import within
from window_support import open_app, qapp_kept, window

__all__ = ["open_app", "qapp_kept", "window"]  # fixtures

os.environ["QT_QPA_PLATFORM"] = "offscreen"
os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = "unix:path=/nonexistent/bus"  # no test ever talks to this machine's own bus
usually: dict[int, Any] = {signal.SIGINT: signal.default_int_handler, signal.SIGHUP: signal.SIG_DFL}
for ending, usual in usually.items():
    if signal.getsignal(ending) is signal.SIG_IGN:  # as for what a script or nohup starts
        signal.signal(ending, usual)
IN_MEMORY = Path("/dev/shm")
if os.access(IN_MEMORY, os.W_OK) and shutil.disk_usage(IN_MEMORY).free > 4 << 30:
    # Hundreds of small files and fsyncs: a disk makes the tests wait for half of their time.
    os.environ["TMPDIR"] = str(IN_MEMORY)
    tempfile.tempdir = None  # find the folder anew


settings.register_profile("here", deadline=None)  # no test asks this computer for a speed
settings.load_profile("here")


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--long", action="store_true", help="The long form of the attacks: an hour and more.")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Begin with the longest tests, so that none of them is left alone at the end on one processor."""
    items.sort(key=lambda item: item.get_closest_marker("long") is None)


@pytest.fixture
def bus(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[PrivateBus]:
    """A bus of its own that stands in for the system bus, in this process and in those it starts."""
    with PrivateBus(tmp_path) as made:
        monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", made.address)
        yield made
    print(made.logs())  # told if the test has failed


@pytest.fixture(autouse=True)
def own_state(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing is kept in this machine's own folders: root's record of this computer, marks of runs in progress."""
    folder = tmp_path_factory.mktemp("own", numbered=True)
    monkeypatch.setenv("STATE_DIRECTORY", str(folder / "state"))
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(folder))


@pytest.fixture
def data(tmp_path: Path) -> Path:
    return tmp_path / "data"


@pytest.fixture
def on_tern(data: Path) -> Iterator[SimulatedSession]:
    """A session on a fresh tern, with a store."""
    made = SimulatedSession(data)
    yield made
    made.close()


@pytest.fixture(autouse=True)
def nothing_left_over(request: pytest.FixtureRequest) -> Iterator[None]:
    """Fail the test that leaves a thread or a top-level window behind."""
    before = set(threading.enumerate())
    yield
    left = [
        t.name for t in threading.enumerate() if t not in before and t.is_alive() and not t.name.startswith("Dummy")
    ]
    assert not left, f"threads left running: {left}"
    if "PyQt6.QtWidgets" in sys.modules:
        from PyQt6.QtWidgets import QApplication

        shown = [w for w in QApplication.topLevelWidgets() if w.isVisible()]
        assert not shown, f"windows left open: {shown}"


@pytest.fixture
def bolt(data: Path):
    """Run the command as a process: ``bolt("machine", "--json")`` on tern, or ``bolt(..., on="host")``."""

    def run(*words: str, on: str = "twin:tern", timeout: float = 300.0) -> subprocess.CompletedProcess[str]:
        return run_command(["--machine", on, "--data", str(data), *words], within(timeout))

    return run
