"""The installed layout as the system itself uses it: the bus starts polkit and the service when somebody calls.

``unshare -m -p -f --mount-proc --kill-child python installed_scene.py STAGE``, as root; STAGE is what ``make install
DESTDIR=STAGE`` made. Everything is mounted over in this namespace only. Prints what came out, as JSON.
"""

import json
import os
import shutil
import subprocess
import sys
import time
from contextlib import suppress
from pathlib import Path
from typing import Any

from bus_support import wait_for

SCRATCH = Path("/media")
"""Mounted over: not /tmp, since this very file may lie there."""
SHARE = Path("/usr/share")
OURS = {
    "dbus-1/system-services": "org.upright_bolt.Machine1.service",
    "dbus-1/system.d": "org.upright_bolt.Machine1.conf",
    "polkit-1/actions": "org.upright-bolt.policy",
}
PROGRAM = "/usr/local/bin/upright-bolt"
PLAIN = {"PATH": "/usr/bin:/bin:/usr/sbin:/sbin", "LC_ALL": "C.UTF-8"}
WORKLOADS = "steady single proof edge bursts frames graphics both battery idle cooling command watch"
CALLER = 1
"""The user who calls sudo."""
RENDERED = ["--on", "software", "--weight", "light"]
MORE = {"command": ["--exec", "/bin/true"], "cooling": ["--below", "85C"], "graphics": RENDERED,
        "both": [*RENDERED, "--threads", "1"]}  # fmt: skip
THREADED = ("steady", "proof", "edge", "bursts", "frames", "battery")


def mount(*words: str) -> None:
    subprocess.run(["mount", *words], check=True)


def prepare(made: Path) -> None:
    stage = Path("/srv")
    mount("--bind", str(made), str(stage))
    mount("-t", "tmpfs", "-o", "mode=1777", "tmpfs", str(SCRATCH))
    for folder, name in OURS.items():
        kept = SCRATCH / "kept" / folder
        shutil.copytree(SHARE / folder, kept, symlinks=True)
        mount("-t", "tmpfs", "tmpfs", str(SHARE / folder))
        shutil.copytree(kept, SHARE / folder, symlinks=True, dirs_exist_ok=True)
        shutil.copy(stage / "usr/share" / folder / name, SHARE / folder)
    for folder in ("/run/dbus", "/run/systemd", "/var/lib"):
        Path(folder).mkdir(exist_ok=True)
        mount("-t", "tmpfs", "tmpfs", folder)
    Path("/var/lib/polkit-1").mkdir()
    mount("--bind", str(stage / "usr/local"), "/usr/local")


def command(*words: str, user: list[str] | None = None, **environment: str) -> dict[str, Any]:
    done = subprocess.run(
        [*(user or []), PROGRAM, *words], capture_output=True, text=True, check=False, env={**PLAIN, **environment}
    )
    return {"code": done.returncode, "out": done.stdout, "err": done.stderr}


def folder_with_code() -> Path:
    """Return a folder in which code of our name lies."""
    other = SCRATCH / "with-code"
    if not other.exists():
        (other / "upright_bolt").mkdir(parents=True)
        for name in ("__init__", "__main__"):
            (other / "upright_bolt" / f"{name}.py").write_text("raise SystemExit('code of the folder was run')\n")
    return other


def run_every_workload(who: str, user: list[str]) -> dict[str, Any]:
    """Run each workload as installed, from a folder of no importance and from one with code of our name in it."""
    told = {}
    for folder in (Path("/"), folder_with_code()):
        started = {}  # all of a folder at once, which a run on the same record or by the same user would refuse
        for name in WORKLOADS.split():
            more = MORE.get(name, ["--threads", "1"] if name in THREADED else [])
            own = SCRATCH / f"{who}-{name}-{folder.name}"
            words = ["--data", str(own), "run", name, "--duration", "5s", "--json", *more]
            environment = {**PLAIN, "XDG_RUNTIME_DIR": f"{own}-run", "STATE_DIRECTORY": f"{own}-state"}
            started[f"{name} in {folder}"] = subprocess.Popen(
                [*user, PROGRAM, *words],
                text=True,
                cwd=folder,
                env=environment,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
            )
        for what, process in started.items():
            out, err = process.communicate()
            told[what] = {"code": process.returncode, "out": out, "err": err}
    return told


def under_sudo() -> dict[str, Any]:
    """Run as root on behalf of a user: whose are the processes and the files?"""
    data = SCRATCH / "sudo-data"
    sudo: dict[str, Any] = {"SUDO_UID": str(CALLER), "SUDO_GID": str(CALLER), "SUDO_USER": "daemon"}
    told: dict[str, Any] = {}
    words = ("--data", str(data), "run", "command", "--duration", "20s", "--exec", "/usr/bin/id -u",
             "--pattern", r"(\d+)", "--json")  # fmt: skip
    told["command"] = command(*words, **sudo)
    steady = subprocess.Popen(
        [PROGRAM, "--data", str(data), "run", "steady", "--duration", "5s", "--threads", "1"],
        env={**PLAIN, **sudo}, cwd=folder_with_code(), stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    wait_for(lambda: pids("upright_bolt.workload.worker") or steady.poll() is not None)
    told["worker uids"] = [Path(f"/proc/{pid}").stat().st_uid for pid in pids("upright_bolt.workload.worker")]
    told["helper uids"] = sorted(Path(f"/proc/{pid}").stat().st_uid for pid in pids("run steady"))
    out, err = steady.communicate()
    told["steady"] = {"code": steady.returncode, "out": out, "err": err}
    told["export"] = command("--data", str(data), "runs", "export", "1", "--csv", str(SCRATCH / "sudo.csv"), **sudo)
    told["capture"] = command("capture", str(SCRATCH / "sudo.tar.gz"), **sudo)
    mine = [*data.rglob("*"), SCRATCH / "sudo.csv", SCRATCH / "sudo.tar.gz"]
    told["owners"] = {str(path): path.stat().st_uid for path in mine if path.exists()}
    return told


def planted_record() -> dict[str, Any]:
    """Let a user plant a record in a data folder, and root look at the machine with it."""
    data = SCRATCH / "planted"
    folder = data / "machines" / "host"
    folder.mkdir(parents=True)
    victim = SCRATCH / "victim"
    victim.write_text("precious")
    (folder / "journal").write_text(f'{{"before": {{"{victim}": "overwritten"}}}}\n')
    for path in (data, data / "machines", folder, folder / "journal"):
        os.chown(path, CALLER, CALLER)
    told = {"as root": command("--data", str(data), "status")}
    told["a twin"] = command("--machine", "twin:tern", "--data", str(data), "status")
    told["under sudo"] = command("--data", str(data), "status", SUDO_UID=str(CALLER))
    told["runs"] = command("--data", str(data), "runs")
    return {**told, "victim": victim.read_text(), "aside": [str(p) for p in folder.glob("*damaged*")]}


def strangers_lock(nobody: list[str]) -> dict[str, Any]:
    """Let a stranger try to lock root's record, and hold a folder of their own locked."""
    script = "import fcntl, os, sys; fcntl.flock(os.open(sys.argv[1], os.O_RDONLY), fcntl.LOCK_EX)"
    done = subprocess.run(
        [*nobody, "/usr/bin/python3", "-c", script, "/var/lib/upright-bolt/host"], capture_output=True, text=True,
        check=False,
    )  # fmt: skip
    return {"stranger": done.stderr, "put back": command("put-back")}


def pids(words: str) -> list[str]:
    """Return the processes whose command line holds ``words``."""
    found = []
    for folder in Path("/proc").iterdir():
        if folder.name.isdecimal():
            with suppress(OSError):
                line = (folder / "cmdline").read_bytes().replace(b"\0", b" ").decode()
                found += [folder.name] if words in line else []
    return found


def main() -> None:
    prepare(Path(sys.argv[1]))
    nobody = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"]
    told: dict[str, Any] = {"without a bus": command("machine", user=nobody)}
    told["without a home"] = command("set", "turbo=off", user=nobody, HOME="/nonexistent")
    told["workloads"] = run_every_workload("user", nobody)
    told["workloads as root"] = run_every_workload("root", [])
    told["under sudo"] = under_sudo()
    told["planted"] = planted_record()
    told["lock"] = strangers_lock(nobody)
    bus = subprocess.Popen(["dbus-daemon", "--system", "--nofork", "--nopidfile", "--nosyslog"])
    wait_for(Path("/run/dbus/system_bus_socket").exists)
    told["before"] = pids("upright-bolt service")
    begun = time.monotonic()
    told["machine"] = command("machine", "--json")
    told["first_answer_s"] = time.monotonic() - begun
    told["after"] = pids("upright-bolt service")
    told["status"] = command("status", "--json")
    told["nobody"] = command("machine", user=nobody)
    told["polkit"] = pids("polkitd")  # root is not asked about
    told["nobody sets"] = command("set", "turbo=off", user=nobody)
    told["uid"] = [Path(f"/proc/{pid}").stat().st_uid for pid in told["after"]]
    told["state"] = sorted(
        str(p.relative_to("/var/lib/upright-bolt")) for p in Path("/var/lib/upright-bolt").rglob("*")
    )
    bus.kill()
    print(json.dumps(told))


if __name__ == "__main__":
    os.environ.pop("DBUS_SYSTEM_BUS_ADDRESS", None)
    main()
