"""The icon in the terms of a real panel: the window as a process, a screen in memory, a bus with a panel's watcher."""

import contextlib
import ctypes
import os
import signal
import subprocess
import sys
from ctypes.util import find_library
from dataclasses import replace
from pathlib import Path

import pytest
from sdbus import sd_bus_open_user

from bus_support import DEBIAN_PYTHON, wait_for
from upright_bolt.model.profile import Profile
from upright_bolt.presentation.preferences import PreferenceFile
from upright_bolt.profiles.text import text_of
from waiting import HANGS_S, within

WATCHER = ("org.kde.StatusNotifierWatcher", "/StatusNotifierWatcher", "org.kde.StatusNotifierWatcher")
ITEM = ("/StatusNotifierItem", "org.kde.StatusNotifierItem")
MENU = ("/MenuBar", "com.canonical.dbusmenu")
VIEWABLE = 2
"""Of a window that is to be seen (Xlib, XGetWindowAttributes)."""
OF_PROPERTIES = "org.freedesktop.DBus.Properties"


Window = ctypes.c_ulong


class Attributes(ctypes.Structure):
    """What Xlib tells of a window, as far as it is looked at (XWindowAttributes); room for the rest."""

    _fields_ = (
        *((name, ctypes.c_int) for name in ("x", "y", "width", "height", "border", "depth")),
        ("visual", ctypes.c_void_p),
        ("root", Window),
        *((name, ctypes.c_int) for name in ("of_class", "bit_gravity", "window_gravity", "backing_store")),
        ("planes", ctypes.c_ulong),
        ("pixel", ctypes.c_ulong),
        ("save_under", ctypes.c_int),
        ("colours", Window),
        ("colours_installed", ctypes.c_int),
        ("map_state", ctypes.c_int),
        ("rest", ctypes.c_long * 16),
    )


def first_line(process: "subprocess.Popen[str]") -> str:
    assert process.stdout is not None
    return process.stdout.readline().strip()


class Desktop:
    """A screen in memory and a session bus with a stand-in for the panel.

    Attributes:
        environment: of programs that run on it.
    """

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self._processes: list[subprocess.Popen[str]] = []
        bus = self._start("dbus-daemon", "--session", "--nofork", "--nopidfile", "--print-address=1")
        monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", first_line(bus))
        screen = self._start("Xvfb", "-displayfd", "1", "-screen", "0", "1280x800x24", "-nolisten", "tcp")
        self.display = f":{first_line(screen)}"
        template = str(Path(__file__).with_name("panel_stand_in.py"))
        self._start(DEBIAN_PYTHON, "-m", "dbusmock", "--session", "--template", template)
        self.environment = {**os.environ, "DISPLAY": self.display, "QT_QPA_PLATFORM": "xcb"}
        self._bus = sd_bus_open_user()
        wait_for(self.items, what="no panel")

    def _start(self, *command: str) -> "subprocess.Popen[str]":
        process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        self._processes.append(process)
        return process

    def close(self) -> None:
        self._bus.close()
        for process in reversed(self._processes):
            process.kill()
            process.communicate()

    def call(self, name: str, path: str, interface: str, member: str, form: str = "", *data):
        message = self._bus.new_method_call_message(name, path, interface, member)
        if form:
            message.append_data(form, *data)
        return self._bus.call(message).get_contents()

    def items(self) -> list[str]:
        """Return the names on the bus of the icons that have registered; empty as well while there is no watcher."""
        with contextlib.suppress(Exception):
            return [item.split()[0] for item in self.call(*WATCHER, "Items")] or [""]
        return []

    def windows(self) -> int:
        """Return how many windows are to be seen."""
        x11 = ctypes.CDLL(find_library("X11"))
        x11.XOpenDisplay.restype = ctypes.c_void_p
        x11.XDefaultRootWindow.restype = ctypes.c_ulong
        display = ctypes.c_void_p(x11.XOpenDisplay(self.display.encode()))
        root, parent, count, children = ctypes.c_ulong(), ctypes.c_ulong(), ctypes.c_uint(), ctypes.POINTER(Window)()
        found = [ctypes.byref(each) for each in (root, parent, children, count)]
        x11.XQueryTree(display, Window(x11.XDefaultRootWindow(display)), *found)
        seen = 0
        for window in children[: count.value]:
            facts = Attributes()
            x11.XGetWindowAttributes(display, Window(window), ctypes.byref(facts))
            seen += facts.map_state == VIEWABLE and facts.width > 300
        x11.XCloseDisplay(display)
        return seen


class Icon:
    """The icon of a program that runs, as a panel sees it."""

    def __init__(self, desktop: Desktop) -> None:
        self._desktop = desktop
        self._name = wait_for(lambda: next((name for name in desktop.items() if name), ""), what="no icon")

    def of(self, what: str):
        """Return a property."""
        return self._desktop.call(self._name, ITEM[0], OF_PROPERTIES, "Get", "ss", ITEM[1], what)[1]

    def entries(self) -> dict[str, tuple[int, dict]]:
        """Return number and facts of each entry of the menu, by what it says, as it is read before it is shown."""
        _, (_, _, found) = self._desktop.call(self._name, *MENU, "GetLayout", "iias", 0, -1, [])
        rows = [each[1] for each in found]
        return {
            facts["label"][1]: (number, {name: value[1] for name, value in facts.items()})
            for number, facts, _ in rows
            if "label" in facts
        }

    def choose(self, entry: str) -> None:
        """Choose an entry of the menu."""
        number = self.entries()[entry][0]
        self._desktop.call(self._name, *MENU, "Event", "isvu", number, "clicked", ("s", ""), 0)


@pytest.fixture
def desktop(monkeypatch):
    made = Desktop(monkeypatch)
    yield made
    made.close()


@pytest.fixture
def started(desktop, data, bolt, tmp_path):
    """Start the window hidden, as at login, with profiles to choose from."""
    kept = PreferenceFile(data)
    kept.save(replace(kept.chosen, panel=True))
    profile = tmp_path / "quay.toml"
    profile.write_text(text_of(Profile("quay", {"sustained": 28.0})))
    assert bolt("profile", "import", str(profile)).returncode == 0
    words = ["--machine", "twin:tern", "--data", str(data), "window", "--hidden"]
    process = subprocess.Popen(
        [sys.executable, "-m", "upright_bolt", *words], env=desktop.environment, stderr=subprocess.PIPE, text=True
    )
    yield process
    process.kill()
    process.communicate()


def test_the_panel_shows_the_icon_its_tip_and_a_menu_that_works_while_the_window_is_hidden(desktop, started):
    icon = Icon(desktop)
    drawn = {(width, height): bytes(pixels) for width, height, pixels in icon.of("IconPixmap")}
    assert len(set(drawn[64, 64])) > 10  # a number on it
    wait_for(lambda: "°C" in str(icon.of("ToolTip")), what="the tip")
    assert "tern" in str(icon.of("ToolTip"))
    assert desktop.windows() == 0
    wait_for(lambda: "quay" in icon.entries(), what="the profiles")
    assert not icon.entries()["Put back"][1]["enabled"]
    icon.choose("quay")
    wait_for(lambda: icon.entries()["quay"][1]["toggle-state"] == 1, what="quay in force")
    wait_for(lambda: "quay" in str(icon.of("ToolTip")), what="quay in the tip")
    icon.choose("Turn hold off")
    wait_for(lambda: "Turn hold on" in icon.entries(), what="hold off")
    icon.choose("Open the window")
    wait_for(lambda: desktop.windows() == 1, what="the window")
    icon.choose("End")
    _, err = started.communicate(timeout=within(HANGS_S))
    assert (started.returncode, err) == (0, "")


def test_a_signal_ends_a_hidden_window_in_order(desktop, started):
    icon = Icon(desktop)
    wait_for(lambda: "°C" in str(icon.of("ToolTip")), what="the tip")
    started.send_signal(signal.SIGTERM)
    _, err = started.communicate(timeout=within(HANGS_S))
    assert (started.returncode, err) == (0, "")
