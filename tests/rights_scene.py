"""Rights with the real polkitd, our own actions, made-up people and sessions. Run in namespaces of its own, as root.

``unshare -m -p -f --mount-proc --kill-child python rights_scene.py FOLDER`` prints what each person got, as JSON.
"""

import asyncio
import json
import os
import shutil
import subprocess
import sys
import threading
import time
from pathlib import Path

from sdbus import DbusFailedError, DbusInterfaceCommonAsync, DbusUnprivilegedFlag, dbus_method_async, sd_bus_open_system

from bus_support import SYSTEM, PrivateBus, wait_for
from upright_bolt.errors import BoltError
from upright_bolt.service.client import ServiceAccess

SCRATCH = Path("/media")
"""Mounted over: not /tmp, since this very file may lie there."""
ACTIONS = Path("/usr/share/polkit-1/actions")
RULES = Path("/etc/polkit-1/rules.d")
CGROUPS = Path("/sys/fs/cgroup")
POLKITD = "/usr/lib/polkit-1/polkitd"
AUTHORITY = ("org.freedesktop.PolicyKit1", "/org/freedesktop/PolicyKit1/Authority",
             "org.freedesktop.PolicyKit1.Authority")  # fmt: skip
NOBODY, GUEST, OWNER = 65534, 61001, 61002
RULE = """polkit.addRule(function(action, subject) {
    if (action.id == "org.upright-bolt.watch" && subject.user == "nobody") return polkit.Result.YES;
});
"""
SESSION = f"""UID={OWNER}
USER=owner
ACTIVE=1
IS_DISPLAY=1
STATE=active
REMOTE=0
TYPE=wayland
CLASS=user
SEAT=seat0
"""


class Dismissed(DbusFailedError):
    dbus_error_name = "org.freedesktop.PolicyKit1.Error.Cancelled"


class Agent(DbusInterfaceCommonAsync, interface_name="org.freedesktop.PolicyKit1.AuthenticationAgent"):
    """Stands in for the desktop's password question: says yes as root, or is dismissed."""

    def __init__(self, bus, accept):
        super().__init__()
        self._bus, self._accept = bus, accept

    @dbus_method_async("sssa{ss}sa(sa{sv})", "", flags=DbusUnprivilegedFlag, method_name="BeginAuthentication")
    async def begin(self, action, message, icon, details, cookie, identities):
        if not self._accept:
            raise Dismissed("The person closed the question.")
        answer = self._bus.new_method_call_message(*AUTHORITY, "AuthenticationAgentResponse2")
        answer.append_data("us(sa{sv})", 0, cookie, identities[0])
        await self._bus.call_async(answer)

    @dbus_method_async("s", "", flags=DbusUnprivilegedFlag, method_name="CancelAuthentication")
    async def cancel(self, cookie):
        return


class Question:
    """An authentication agent for one process, in a process of its own."""

    def __init__(self, pid, accept):
        self._pid, self._accept = pid, accept
        self._ready = threading.Event()
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._live, daemon=True)

    def __enter__(self):
        self._thread.start()
        assert self._ready.wait(10)
        return self

    def __exit__(self, *_):
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join()

    def _live(self):
        asyncio.set_event_loop(self._loop)
        self._loop.run_until_complete(self._register())
        self._ready.set()
        self._loop.run_forever()

    async def _register(self):
        bus = sd_bus_open_system()
        self._agent = Agent(bus, self._accept)
        self._agent.export_to_dbus("/agent", bus)
        started = int(Path(f"/proc/{self._pid}/stat").read_text().rsplit(") ", 1)[1].split()[19])
        who = ("unix-process", {"pid": ("u", self._pid), "start-time": ("t", started)})
        call = bus.new_method_call_message(*AUTHORITY, "RegisterAuthenticationAgent")
        call.append_data("(sa{sv})ss", who, "C", "/agent")
        await bus.call_async(call)


def outcome(act):
    try:
        return act()
    except BoltError as fault:
        return f"{type(fault).__name__}: {fault}"


def look_and_try():
    """What a person does: looks, tries a limit, keeps nothing, tries a voltage."""
    try:
        access = ServiceAccess()
    except BoltError as fault:
        return {"watch": f"{type(fault).__name__}: {fault}"}
    told = {"watch": "yes"}
    told["set"] = outcome(lambda: access.try_settings({"sustained": 25.0}, standing=False).ok)
    told["back"] = outcome(lambda: access.revert("").before_values)
    told["voltage"] = outcome(lambda: access.try_settings({"core-offset": -50.0}, standing=False).ok)
    told["back2"] = outcome(lambda: access.revert("").before_values)
    access.close()
    return told


def leave_standing():
    access = ServiceAccess()
    done = outcome(lambda: access.try_settings({"sustained": 25.0}, standing=True).ok)
    access.close()
    return done


def keep_others():
    access = ServiceAccess()
    told = {"keep": outcome(lambda: access.keep().settings), "back": outcome(lambda: access.revert("").settings)}
    access.close()
    return told


def as_user(uid, act, accept=None, session=False):
    """Let a forked process of user ``uid`` do ``act``; ``accept`` is how its password question is answered."""
    reader, writer = os.pipe()
    gate, open_gate = os.pipe()
    pid = os.fork()
    if pid == 0:
        os.read(gate, 1)
        os.setgroups([])
        os.setgid(65534)
        os.setuid(uid)
        os.write(writer, json.dumps(act()).encode())
        os._exit(0)
    os.close(writer)
    if session:
        scope = SCRATCH / f"cgroup-{pid}"
        scope.write_text(f"0::/user.slice/user-{uid}.slice/session-c7.scope\n")
        subprocess.run(["mount", "--bind", str(scope), f"/proc/{pid}/cgroup"], check=True)
    if accept is None:
        os.write(open_gate, b"x")
        text = os.fdopen(reader).read()
    else:
        with Question(pid, accept):
            os.write(open_gate, b"x")
            text = os.fdopen(reader).read()
    os.waitpid(pid, 0)
    return json.loads(text)


def prepare():
    people = SCRATCH / "passwd"
    names = f"guest:x:{GUEST}:65534::/:/bin/false\nowner:x:{OWNER}:65534::/:/bin/false\n"
    people.write_text(Path("/etc/passwd").read_text() + names)
    subprocess.run(["mount", "--bind", str(people), "/etc/passwd"], check=True)
    """Our actions beside the system's, one rule, one made-up active session; all of it only in this namespace."""
    kept = SCRATCH / "actions"
    shutil.copytree(ACTIONS, kept)
    for index in (ACTIONS, RULES, Path("/run/systemd")):
        index.mkdir(parents=True, exist_ok=True)
        subprocess.run(["mount", "-t", "tmpfs", "tmpfs", str(index)], check=True)
    shutil.copytree(kept, ACTIONS, dirs_exist_ok=True)
    shutil.copy(SYSTEM / "org.upright-bolt.policy", ACTIONS)
    (RULES / "10-ours.rules").write_text(RULE)
    if not CGROUPS.is_mount():  # without it nobody can tell which session a process belongs to
        subprocess.run(["mount", "-t", "cgroup2", "cgroup2", str(CGROUPS)], check=True)
    for name in ("sessions", "seats", "users", "machines"):
        Path("/run/systemd", name).mkdir()
    Path("/run/systemd/sessions/c7").write_text(SESSION)
    Path("/run/systemd/seats/seat0").write_text("IS_SEAT0=1\nACTIVE=c7\nACTIVE_UID=61002\nSESSIONS=c7\n")
    Path(f"/run/systemd/users/{OWNER}").write_text("NAME=owner\nSTATE=active\nDISPLAY=c7\nSESSIONS=c7\n")
    subprocess.run(["chmod", "-R", "a+rX", "/run/systemd", str(ACTIONS), "/etc/polkit-1"], check=True)


def main():
    subprocess.run(["mount", "-t", "tmpfs", "-o", "mode=1777", "tmpfs", str(SCRATCH)], check=True)
    folder = SCRATCH / "scene"
    folder.mkdir()
    prepare()
    with PrivateBus(folder) as bus:
        os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = bus.address
        bus._start([POLKITD], folder / "polkitd.log")
        wait_for(lambda: bus.has("org.freedesktop.PolicyKit1"), what=(folder / "polkitd.log").read_text())
        service = bus.start_service()
        told = {
            "root": look_and_try(),
            "stranger": as_user(GUEST, look_and_try),
            "stranger who could be asked": as_user(GUEST, look_and_try, accept=True),
            "nobody under a rule": as_user(NOBODY, look_and_try),
            "nobody who dismisses": as_user(NOBODY, look_and_try, accept=False),
            "nobody who accepts": as_user(NOBODY, look_and_try, accept=True),
            "owner at the desk": as_user(OWNER, look_and_try, session=True),
            "owner who dismisses": as_user(OWNER, look_and_try, accept=False, session=True),
            "owner who accepts": as_user(OWNER, look_and_try, accept=True, session=True),
            "owner leaves a standing trial": as_user(OWNER, leave_standing, session=True),
        }
        told["nobody keeps it"] = as_user(NOBODY, keep_others, accept=True)
        told["owner comes back"] = as_user(OWNER, keep_others, session=True)
        time.sleep(0.2)
        told["log"] = service.log
    print(json.dumps(told))


if __name__ == "__main__":
    sys.exit(main())
