"""A bus of its own for a test, a stand-in for polkit on it, and the service as a process."""

import contextlib
import os
import pwd
import signal
import socket
import subprocess
import uuid
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from sdbus import SdBus, sd_bus_open_system

from command_process import CommandProcess
from waiting import HANGS_S, until

SYSTEM = Path(__file__).resolve().parents[1] / "system"
DEBIAN_PYTHON = "/usr/bin/python3"  # python-dbusmock comes as Debian's package
BUS_NAME = "org.upright_bolt.Machine1"
PATH = "/org/upright_bolt/Machine1"
POLKIT = ("org.freedesktop.PolicyKit1", "/org/freedesktop/PolicyKit1/Authority", "org.freedesktop.DBus.Mock")
ACTIONS = ["org.upright-bolt.watch", "org.upright-bolt.set", "org.upright-bolt.set-voltage"]
CONFIG = """<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-BUS Bus Configuration 1.0//EN"
 "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig>
  <type>system</type>
  <listen>unix:path={socket}</listen>
  <listen>unix:abstract={abstract}</listen>
  <auth>EXTERNAL</auth>
  <policy context="default">
    <allow user="*"/>
    <allow own="org.freedesktop.PolicyKit1"/>
    <allow own="org.freedesktop.login1"/>
    <allow send_destination="org.freedesktop.login1"/>
    <allow send_type="signal"/>
    <allow send_requested_reply="true" send_type="method_return"/>
    <allow send_requested_reply="true" send_type="error"/>
    <allow receive_type="method_call"/>
    <allow receive_type="method_return"/>
    <allow receive_type="error"/>
    <allow receive_type="signal"/>
    <allow send_destination="org.freedesktop.DBus"/>
    <allow send_destination="org.freedesktop.PolicyKit1"/>
  </policy>
  <include ignore_missing="yes">/usr/share/dbus-1/system.d/org.freedesktop.PolicyKit1.conf</include>
  <include>{policy}</include>
</busconfig>
"""


def wait_for(condition, seconds: float = HANGS_S, what: str = "the condition") -> Any:
    """Wait until ``condition`` gives something true, and return that."""
    found: list[Any] = []
    until(lambda: _kept(found, condition), seconds, what=what)
    return found[-1]


def _kept(found: list[Any], condition) -> bool:
    found.append(condition())
    return bool(found[-1])


class PrivateBus:
    """A bus under the policy that ships, and what is started on it; all ended together."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.address = f"unix:path={folder / 'bus'}"
        self.abstract = f"upright-bolt-test-{uuid.uuid4().hex}"
        self.services: list[Service] = []
        self._ours: list[subprocess.Popen[bytes]] = []

    def __enter__(self) -> "PrivateBus":
        policy = self.folder / "policy.conf"
        # who runs the tests is root here: the service is theirs
        ours, whose = SYSTEM / "org.upright_bolt.Machine1.conf", pwd.getpwuid(os.getuid()).pw_name
        policy.write_text(ours.read_text().replace('user="root"', f'user="{whose}"'))
        config = self.folder / "bus.conf"
        config.write_text(CONFIG.format(socket=self.folder / "bus", abstract=self.abstract, policy=policy))
        command = ["dbus-daemon", f"--config-file={config}", "--nofork", "--nopidfile", "--nosyslog"]
        self._start(command, self.folder / "bus.log")
        wait_for(self._listens, what="no bus")
        (self.folder / "bus").chmod(0o777)
        return self

    def __exit__(self, *_: object) -> None:
        for service in self.services:
            service.end()
        for process in reversed(self._ours):
            process.kill()
            process.wait()

    def logs(self) -> str:
        """Return what the bus, the stand-ins and the service have logged."""
        return "\n".join(f"{path.name}\n{path.read_text()}" for path in sorted(self.folder.glob("*.log")))

    def _listens(self) -> bool:
        with socket.socket(socket.AF_UNIX) as trial:
            return trial.connect_ex(str(self.folder / "bus")) == 0

    def _start(self, command: list[str], log: Path) -> subprocess.Popen[bytes]:
        with log.open("ab") as out:
            process = subprocess.Popen(command, stdout=out, stderr=out, env=self.environment)
        self._ours.append(process)
        return process

    @property
    def environment(self) -> dict[str, str]:
        return {**os.environ, "DBUS_SYSTEM_BUS_ADDRESS": self.address}

    @contextlib.contextmanager
    def as_user(self, uid: int) -> Iterator[None]:
        """Let connections that are made meanwhile, in this process and its only thread, be those of another user."""
        before = os.environ["DBUS_SYSTEM_BUS_ADDRESS"]
        os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = f"unix:abstract={self.abstract}"  # no folder stands in their way
        os.seteuid(uid)
        try:
            yield
        finally:
            os.seteuid(0)
            os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = before

    def connect(self) -> SdBus:
        return sd_bus_open_system()

    def has(self, name: str) -> bool:
        return bool(self.call("org.freedesktop.DBus", "/org/freedesktop/DBus", "org.freedesktop.DBus", "NameHasOwner",
                              "s", name))  # fmt: skip

    def call(self, name: str, path: str, interface: str, member: str, form: str = "", *data: Any) -> Any:
        before, os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = os.environ["DBUS_SYSTEM_BUS_ADDRESS"], self.address
        connection = self.connect()
        os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = before
        try:
            message = connection.new_method_call_message(name, path, interface, member)
            if form:
                message.append_data(form, *data)
            return connection.call(message).get_contents()
        finally:
            connection.close()

    def start_polkit(self, allowed: list[str] | None = None) -> None:
        """Start the stand-in for polkit; it allows ``allowed``, by default everything of ours."""
        template = Path(__file__).with_name("polkit_stand_in.py")
        command = [DEBIAN_PYTHON, "-m", "dbusmock", "--system", "--template", str(template)]
        self._start(command, self.folder / "polkit.log")
        wait_for(lambda: self.has("org.freedesktop.PolicyKit1"), what=(self.folder / "polkit.log").read_text())
        self.allow(ACTIONS if allowed is None else allowed)

    def start_login_manager(self) -> None:
        """Start a stand-in for the login manager."""
        command = [DEBIAN_PYTHON, "-m", "dbusmock", "--system", "--template", "logind"]
        self._start(command, self.folder / "logind.log")
        wait_for(lambda: self.has("org.freedesktop.login1"), what=(self.folder / "logind.log").read_text())

    def inhibitors(self) -> list[tuple[str, str, str]]:
        """Return what keeps the computer awake: what is kept from happening, by whom, and why."""
        manager = ("org.freedesktop.login1", "/org/freedesktop/login1", "org.freedesktop.login1.Manager")
        return [one[:3] for one in self.call(*manager, "ListInhibitors")]

    def allow(self, actions: list[str], with_password: list[str] | None = None, *, silently: bool = False) -> None:
        """Let polkit allow some actions, and others after a password; it tells so, unless ``silently``."""
        member = "SetRulesSilently" if silently else "SetRules"
        self.call(*POLKIT, member, "asas", actions, with_password or [])

    def person(self, does: str) -> None:
        """Say what a person who is asked for a password does: waits, accepts, dismisses."""
        self.call(*POLKIT, "SetPerson", "s", does)

    def hang_polkit(self, *, hangs: bool) -> None:
        """Let polkit answer nothing at all, or answer again."""
        self.call(*POLKIT, "Hang", "b", hangs)

    def questions(self) -> int:
        """Return how many answers polkit owes."""
        return self.call(*POLKIT, "Waiting")

    def answer_questions(self, *, accepted: bool = True) -> None:
        """Let the person answer the questions that wait."""
        self.call(*POLKIT, "Release", "b", accepted)

    def start_service(
        self,
        *words: str,
        on: str = "twin:tern",
        killed_at: int | None = None,
        root_is_asked: bool = True,
        **replaced: Any,
    ) -> "Service":
        """Start the service; with ``killed_at`` it dies after that many steps (see killed_service.py).

        Tests run as root, which is asked for no right; with ``root_is_asked`` it is, as any other user. ``GRACE_S``
        can be given another value.
        """
        constants = {f"upright_bolt.service.shared_machine.{name}": value for name, value in replaced.items()}
        if root_is_asked:
            constants["upright_bolt.service.rights.UNASKED"] = frozenset()
        given = ["--machine", on, "--data", str(self.folder / "state"), "service", *words]
        service = Service(self, given, killed_at, constants)
        self.services.append(service)
        return service


class Service:
    """The service as a process of its own."""

    def __init__(self, bus: PrivateBus, words: list[str], killed_at: int | None, replaced: dict[str, Any]) -> None:
        self._log = bus.folder / "service.log"
        self._log.touch()
        self._from = self._log.stat().st_size
        self.process = CommandProcess(words, self._log, self._log, bus.environment, killed_at, replaced)
        wait_for(lambda: "ready;" in self.log or self.process.poll() is not None, what="the service did not start")

    @property
    def log(self) -> str:
        return self._log.read_bytes()[self._from :].decode()

    @property
    def memory_kb(self) -> int:
        for line in Path(f"/proc/{self.process.pid}/status").read_text().splitlines():
            if line.startswith("VmRSS:"):
                return int(line.split()[1])
        raise AssertionError("no such process")

    @property
    def most_memory_kb(self) -> int:
        """The most memory it has had at a time."""
        status = Path(f"/proc/{self.process.pid}/status").read_text()
        return next(int(line.split()[1]) for line in status.splitlines() if line.startswith("VmHWM:"))

    def kill(self) -> None:
        self.process.kill()
        self.process.wait()

    def end(self) -> int:
        with contextlib.suppress(ProcessLookupError):
            self.process.send_signal(signal.SIGTERM)
        return self.process.wait(HANGS_S)
