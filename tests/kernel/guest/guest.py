"""What checks do in the emulated machine: call the program, read and write the kernel's files, change the hardware."""

import importlib
import json
import os
import pwd
import signal
import subprocess
import termios
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from page import Page

USER = "surveyor"
WITHIN_S = 120.0
START_MS = 300_000
PROCESSORS = os.cpu_count() or 1
SLOWER = max(1.0, PROCESSORS / 4.0)
"""Limits of time are for two emulated processors: many of them share the two real ones, and have more to be set."""
POLICIES = [f"/sys/devices/system/cpu/cpufreq/policy{number}" for number in range(PROCESSORS)]
PROFILES = Path("/etc/upright-bolt/profiles")
COMMANDS = Path("/sys/module/rig_registers/parameters/cmd")
PROGRAM = tuple(
    f"upright_bolt.{name}" for name in
    ("analysis.comparison.no_effect", "app_ports", "cli.ground", "cli.main", "kernel.changes.real",
     "presentation.profile_desk", "service.client", "session.session", "store.search_log")
)  # fmt: skip
RECORD = ("alembic.command", "alembic.config", "numpy", "sqlalchemy.dialects.sqlite", "upright_bolt.store.runs")
PLAIN = {"PATH": "/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin", "LC_ALL": "C.UTF-8"}


class Now:
    """The machine's own time in s: without that in which the emulator was not let run by what is beside it."""

    def __init__(self) -> None:
        self._page: Page | None = None

    def __call__(self) -> float:
        """Return it."""
        if self._page is None:
            self._page = Page("/dev/mem")
        return time.monotonic() - self._page.get("denied_ms") / 1000.0


now = Now()


class Line:
    """The serial line to whoever runs the checks."""

    def __init__(self, path: str) -> None:
        self._file = os.open(path, os.O_RDWR | os.O_NOCTTY)
        mode = termios.tcgetattr(self._file)
        mode[0] = mode[1] = mode[3] = 0  # as it comes, both ways
        termios.tcsetattr(self._file, termios.TCSANOW, mode)

    def tell(self, **document: Any) -> None:
        """Tell one thing."""
        data = json.dumps(document).encode() + b"\n"
        while data:
            data = data[os.write(self._file, data) :]


@dataclass(slots=True)
class Done:
    """What a command has done."""

    code: int
    out: str
    err: str

    def json(self) -> Any:
        """Return what it printed, as a document."""
        return json.loads(self.out)

    def said(self, *parts: str) -> bool:
        """Tell whether it said all of ``parts``, wherever."""
        return all(part in self.out + self.err for part in parts)


class Running:
    """A command that goes on."""

    def __init__(self, process: int, out: Path, err: Path) -> None:
        self.process, self._out, self._err = process, out, err
        self._code: int | None = None

    def text(self) -> str:
        """Return what it has printed so far."""
        return self._out.read_text()

    def alive(self) -> bool:
        """Tell whether it still runs."""
        if self._code is None:
            done, status = os.waitpid(self.process, os.WNOHANG)
            self._code = os.waitstatus_to_exitcode(status) if done else None
        return self._code is None

    def end(self, number: int = signal.SIGINT) -> None:
        """Send it a signal."""
        os.kill(self.process, number)

    def wait(self, within_s: float = WITHIN_S) -> Done:
        """Return what it has done. Raises AssertionError if it goes on."""
        until = now() + within_s
        while self.alive():
            if now() > until:
                os.kill(self.process, signal.SIGKILL)
                raise AssertionError(f"still running after {within_s:.0f} s: {self.text()} {self._err.read_text()}")
            time.sleep(0.02)
        return Done(self._code or 0, self._out.read_text(), self._err.read_text())


class Writer:
    """Another program that does something, and lives on until it is left.

    Args:
        act: what it does; it says when it begins.

    Attributes:
        process: its number.
        began: when it began, by ``now``; 0 before that.
    """

    def __init__(self, act: Callable[[], None]) -> None:
        self._act = act
        self.process, self.began, self._told = 0, 0.0, -1

    def __enter__(self) -> "Writer":
        reading, writing = os.pipe()
        self.process = os.fork()
        if self.process == 0:
            os.write(writing, f"{now():20.6f}".encode())
            with suppress(BaseException):
                self._act()
                os.write(writing, b"done")
                time.sleep(3600.0)
            os._exit(0)
        os.close(writing)
        self._told = reading
        self.began = float(os.read(reading, 20))
        return self

    def acted(self) -> None:
        """Wait until it has done it."""
        os.read(self._told, 4)

    def __exit__(self, *_: object) -> None:
        os.kill(self.process, signal.SIGKILL)
        os.waitpid(self.process, 0)
        os.close(self._told)


class LoginManager:
    """Stands in for the login manager: has its name on the bus, and sends its signals."""

    def __init__(self) -> None:
        from jeepney import DBusAddress, message_bus
        from jeepney.io.blocking import open_dbus_connection

        self._connection = open_dbus_connection("SYSTEM")
        self._connection.send_and_get_reply(message_bus.RequestName("org.freedesktop.login1"))
        self._address = DBusAddress("/org/freedesktop/login1", interface="org.freedesktop.login1.Manager")
        time.sleep(1.0)

    def send(self, name: str, word: bool) -> None:
        """Send one of its signals."""
        from jeepney import new_signal

        self._connection.send(new_signal(self._address, name, "b", (word,)))

    def __enter__(self) -> "LoginManager":
        return self

    def __exit__(self, *_: object) -> None:
        self._connection.close()


class Guest:
    """The machine within."""

    def __init__(self, line: Line) -> None:
        self.line = line
        self.notes: list[str] = []
        self._number = 0
        self._page: Page | None = None

    def note(self, text: str) -> None:
        """Keep a line for the table: what the kernel did."""
        self.notes.append(text)

    def start(self, *words: str, user: str = "root") -> Running:
        """Start a command of the program as ``user``."""
        self._number += 1
        out, err = (Path(f"/tmp/command-{self._number}.{end}") for end in ("out", "err"))
        out.touch()
        err.touch()
        process = os.fork()
        if process == 0:
            self._become(list(words), user, out, err)
        return Running(process, out, err)

    def _become(self, words: list[str], user: str, out: Path, err: Path) -> None:
        import sys

        code = 70
        try:
            for number, path in ((1, out), (2, err)):
                file = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
                os.dup2(file, number)
            os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
            entry = pwd.getpwnam(user)
            os.environ.clear()
            os.environ.update(PLAIN, HOME=entry.pw_dir)
            os.chdir("/")
            if entry.pw_uid:
                os.setgroups([entry.pw_gid])
                os.setgid(entry.pw_gid)
                os.setuid(entry.pw_uid)
            sys.argv = ["upright-bolt", *words]
            from upright_bolt.__main__ import main

            main()
            code = 0
        except SystemExit as end:
            code = end.code if isinstance(end.code, int) else 1
        except BaseException:
            import traceback

            traceback.print_exc()
        finally:
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(code)

    def run(self, *words: str, user: str = "root", within_s: float = WITHIN_S) -> Done:
        """Carry out a command of the program and return what it has done."""
        return self.start(*words, user=user).wait(within_s)

    def load_program(self, *, record: bool = False) -> None:
        """Load what the commands need, once, so that each of them starts at once; ``record``: of runs as well."""
        for name in (*PROGRAM, *(RECORD if record else ())):
            importlib.import_module(name)
        from upright_bolt.cli.main import build

        for word in ("hold", "machine", "profile", "set"):
            build([word])

    @staticmethod
    def read(path: str) -> str:
        """Return a file's text, stripped."""
        return Path(path).read_text().strip()

    @staticmethod
    def write(path: str, text: str) -> None:
        """Write a file."""
        with open(path, "w") as file:
            file.write(text)

    def save_profile(self, name: str, settings: str) -> None:
        """Save a profile as an administrator's editor would; ``settings`` are lines of its file."""
        self.write_profile(name, f'format = "upright-bolt profile"\nversion = 1\n\n[settings]\n{settings}\n')

    def write_profile(self, name: str, text: str) -> None:
        """Write the file of a profile."""
        PROFILES.mkdir(parents=True, exist_ok=True)
        self.write(f"{PROFILES}/{name}.toml", text)

    @staticmethod
    def write_register(nr: int, value: int, cpu: int = 1) -> None:
        """Write a register through the kernel's own device, as other programs do."""
        with open(f"/dev/cpu/{cpu}/msr", "wb", buffering=0) as file:
            os.pwrite(file.fileno(), value.to_bytes(8, "little"), nr)

    def mount_over(self, path: str, text: str) -> None:
        """Let a file of the kernel's show something else."""
        self._number += 1
        instead = f"/tmp/instead-{self._number}"
        self.write(instead, text + "\n")
        self.shell("mount", "--bind", instead, path)

    @staticmethod
    def unmount(path: str) -> None:
        """Let a file of the kernel's show what it shows."""
        while subprocess.run(["umount", path], check=False, capture_output=True, env=PLAIN).returncode == 0:
            pass

    @staticmethod
    def login_manager() -> LoginManager:
        """Return a stand-in for the login manager."""
        return LoginManager()

    @staticmethod
    def ticks(process: int) -> float:
        """Return how long a process has run, in s of processor time."""
        words = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
        return sum(map(int, words[11:13])) / os.sysconf("SC_CLK_TCK")

    @staticmethod
    def wakings(process: int) -> int:
        """Return how often the threads of a process have waited for something."""
        texts = [task.read_text() for task in Path(f"/proc/{process}/task").glob("*/status")]
        lines = [line for text in texts for line in text.splitlines() if line.startswith("voluntary")]
        return sum(int(line.split()[1]) for line in lines)

    def modules(self, *names: str) -> None:
        """Load modules of the kernel."""
        for name in names:
            self.shell("modprobe", name)

    @staticmethod
    def shell(*words: str) -> str:
        """Run a command of the system. Raises CalledProcessError."""
        return subprocess.run(words, check=True, capture_output=True, text=True, env=PLAIN).stdout

    def hardware(self, **words: int) -> None:
        """Change the state of the laptop; the firmware tells the kernel within a second, with its own events."""
        if self._page is None:
            self._page = Page("/dev/mem")
        self._page.set(**words)

    def registers(self, words: str) -> None:
        """Change registers behind everybody's back."""
        COMMANDS.write_text(words)

    @staticmethod
    def register(nr: int, cpu: int = 0) -> int:
        """Return a register through the kernel's own device."""
        with open(f"/dev/cpu/{cpu}/msr", "rb", buffering=0) as file:
            return int.from_bytes(os.pread(file.fileno(), 8, nr), "little")

    @staticmethod
    def until(holds: Callable[[], Any], within_s: float = 20.0) -> float:
        """Wait until ``holds`` and return how long it took in s. Raises AssertionError if it does not."""
        begun = now()
        while not holds():
            if now() - begun > within_s * SLOWER:
                raise AssertionError(f"did not come about within {within_s} s")
            time.sleep(0.02)
        return now() - begun

    def start_bus(self) -> None:
        """Start the system bus, which starts polkit and the service when they are called."""
        Path("/run/dbus").mkdir(parents=True, exist_ok=True)
        # Twenty-five seconds, which it gives a service otherwise, are not enough to start Python where four other
        # programs keep the host busy.
        limits = Path("/etc/dbus-1/system.d/patience.conf")
        limits.parent.mkdir(parents=True, exist_ok=True)
        limits.write_text(f'<busconfig><limit name="service_start_timeout">{START_MS}</limit></busconfig>\n')
        self.shell("dbus-daemon", "--system", "--fork", "--nopidfile")

    def service_process(self) -> int:
        """Return the number of the service's process; 0 if there is none."""
        for folder in Path("/proc").iterdir():
            if folder.name.isdecimal():
                try:
                    words = (folder / "cmdline").read_bytes().split(b"\0")
                except OSError:
                    continue
                if b"service" in words and any(word.endswith(b"/upright-bolt") for word in words):
                    return int(folder.name)
        return 0

    @staticmethod
    def planes() -> list[int]:
        """Return the offsets of the voltage planes in 1/1024 V, as the processor has them."""
        return [int(word) for word in COMMANDS.read_text().splitlines()[0].split("planes ")[1].split()]

    def suspend(self) -> None:
        """Suspend to RAM; the machine is woken from outside."""
        self.line.tell(what="sleeps")
        Path("/sys/power/state").write_text("mem")

    def end_service(self) -> None:
        """End the service; the next call finds the machine anew."""
        process = self.service_process()
        if process:
            os.kill(process, signal.SIGTERM)
            self.until(lambda: not self.service_process(), WITHIN_S)
