"""Rights, kills and attacks on the installed layout, with the real polkit and a service that the bus starts.

``unshare -m -p -f --mount-proc --kill-child python installed_attack_scene.py STAGE LONG``, as root. The service is the
installed one; the machine behind it is a twin, so that there is something to set. Prints what came out, as JSON.
"""

import asyncio
import json
import os
import random
import signal
import subprocess
import sys
import time
from contextlib import suppress
from pathlib import Path

from sdbus import sd_bus_open_system

import installed_scene
import rights_scene
from bus_support import BUS_NAME, PATH, wait_for
from installed_scene import SHARE, pids
from rights_scene import GUEST, NOBODY, OWNER, RULES, as_user, look_and_try, outcome
from upright_bolt.errors import BoltError
from upright_bolt.service.client import ServiceAccess

SERVICE = "upright-bolt --machine twin:tern"
CHANGED_WITHIN_S = 20.0


def with_a_twin() -> None:
    """Let the installed service, as the bus starts it, serve a twin."""
    unit = SHARE / "dbus-1/system-services/org.upright_bolt.Machine1.service"
    words = "bin/upright-bolt --machine twin:tern --data /var/lib/upright-bolt service"
    unit.write_text(unit.read_text().replace("bin/upright-bolt service", words))


def service_pid() -> str:
    return next(iter(pids(SERVICE)), "")


def attack_of_a_stranger():
    """What one who may do nothing tries: huge calls, floods, questions. Returns what the answers said."""
    bus = sd_bus_open_system()

    async def call(member, form="", *data):
        message = bus.new_method_call_message(BUS_NAME, PATH, BUS_NAME, member)
        if form:
            message.append_data(form, *data)
        return await bus.call_async(message)

    async def all_of_it():
        said = set()
        for calls in (
            [call("Apply", "a{sv}bb", {"x" * (20 << 20): ("d", 1.0)}, False, False)],
            [call("BeginSeries", "asb", ["sustained"] * 500_000, True)],
            [call("Describe") for _ in range(300)],
            [call("Apply", "a{sv}bb", {"sustained": ("d", 25.0)}, True, True) for _ in range(300)],
            [call("PutBack")], [call("BeginRun", "s", "x")],
        ):  # fmt: skip
            for answer in await asyncio.gather(*calls, return_exceptions=True):
                said.add(str(answer)[:60] if isinstance(answer, Exception) else "answered")
        return sorted(said)

    return asyncio.run(all_of_it())


def beside(uid, act):
    """Start ``act`` as a user and return its process, whose output is what it returns."""
    pid = os.fork()
    if pid == 0:
        with suppress(BaseException):
            as_user(uid, act)
        os._exit(0)
    return pid


def worst_wait_beside_an_attack() -> float:
    access = ServiceAccess()
    attacker = beside(GUEST, attack_of_a_stranger)
    worst = 0.0
    while os.waitpid(attacker, os.WNOHANG) == (0, 0):
        begun = time.monotonic()
        access.status()
        worst = max(worst, time.monotonic() - begun)
        time.sleep(0.02)
    access.close()
    return worst


def most_memory_mb() -> float:
    status = Path(f"/proc/{service_pid()}/status").read_text()
    return next(int(line.split()[1]) for line in status.splitlines() if line.startswith("VmHWM:")) / 1024


def withdrawn() -> dict[str, object]:
    """A rule lets nobody watch, then is taken away while nobody is connected."""
    reader, writer = os.pipe()

    def watching():
        access = ServiceAccess()
        told = [outcome(lambda: access.status().trial)]
        os.write(writer, b"x")
        until_s = time.monotonic() + CHANGED_WITHIN_S
        while (said := outcome(lambda: access.status().trial)) is None and time.monotonic() < until_s:
            time.sleep(0.1)
        return [*told, said]

    def withdraw():
        os.read(reader, 1)
        (RULES / "10-ours.rules").unlink()

    pid = os.fork()
    if pid == 0:
        withdraw()
        os._exit(0)
    told = as_user(NOBODY, watching)
    os.waitpid(pid, 0)
    return {"before": told[0], "after": told[1]}


def kills(count: int) -> dict[str, object]:
    """Kill the service at random moments of what the owner at the desk does; the bus starts the next."""
    dice = random.Random(5)
    wrong, started = [], set()
    for number in range(count):
        pid = os.fork()
        if pid == 0:
            with suppress(BaseException):
                as_user(OWNER, lambda number=number: storm(number), session=True)
            os._exit(0)
        time.sleep(0.4 + dice.random() * 0.3)
        with suppress(ProcessLookupError, ValueError):
            os.kill(int(service_pid()), signal.SIGKILL)
        os.waitpid(pid, 0)
        access = ServiceAccess()
        status, values = access.status(), access.current_values()
        started.add(service_pid())
        expected = {"sustained": 18.0, "burst": 45.0, **status.kept, **(status.trial.settings if status.trial else {})}
        if status.drift or any(values[name] != value for name, value in expected.items()):
            wrong.append([number, str(status), {name: values[name] for name in expected}])
        if status.trial is not None:
            access.revert("")
        access.close()
    return {"wrong": wrong, "started": len(started)}


def storm(number: int) -> list[str]:
    dice = random.Random(number)
    try:
        access = ServiceAccess()
        for _ in range(200):
            access.try_settings({"sustained": dice.choice([12.0, 25.0]), "burst": 30.0}, standing=number % 2 == 0)
            if dice.random() < 0.3:
                access.keep() if dice.random() < 0.5 else access.revert("")
    except BoltError as fault:
        return [str(fault)]
    return []


def main() -> None:
    installed_scene.prepare(Path(sys.argv[1]))
    rights_scene.prepare()
    with_a_twin()
    bus = subprocess.Popen(["dbus-daemon", "--system", "--nofork", "--nopidfile", "--nosyslog"])
    wait_for(Path("/run/dbus/system_bus_socket").exists)
    told: dict[str, object] = {"before": service_pid()}
    told["root"] = look_and_try()
    told["uid"] = Path(f"/proc/{service_pid()}").stat().st_uid
    told["stranger"] = as_user(GUEST, look_and_try)
    told["owner"] = as_user(OWNER, look_and_try, session=True)
    told["owner with password"] = as_user(OWNER, look_and_try, accept=True, session=True)
    told["attack"] = as_user(GUEST, attack_of_a_stranger)
    told["worst_s"] = worst_wait_beside_an_attack()
    told["most_mb"] = most_memory_mb()
    told["withdrawn"] = withdrawn()
    told["kills"] = kills(int(sys.argv[2]))
    folder = Path("/var/lib/upright-bolt/machines/twin-tern")
    told["modes"] = sorted({oct(path.stat().st_mode & 0o777) for path in (folder, *folder.iterdir())})
    bus.kill()
    print(json.dumps(told))


if __name__ == "__main__":
    os.environ.pop("DBUS_SYSTEM_BUS_ADDRESS", None)
    main()
