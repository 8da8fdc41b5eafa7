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
WORKLOADS = "steady single proof bursts frames battery idle command watch"
WITH_WORKERS = "steady proof frames command"
THREADED = ("steady", "proof", "bursts", "frames", "battery")


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


def command(*words: str, user: list[str] | None = None) -> dict[str, object]:
    done = subprocess.run([*(user or []), PROGRAM, *words], capture_output=True, text=True, check=False, env=PLAIN)
    return {"code": done.returncode, "out": done.stdout, "err": done.stderr}


def run_every_workload(user: list[str]) -> dict[str, object]:
    """Run each workload as installed, from a folder of no importance and from one with code of our name in it."""
    other = SCRATCH / "with-code"
    (other / "upright_bolt").mkdir(parents=True)
    for name in ("__init__", "__main__"):
        (other / "upright_bolt" / f"{name}.py").write_text("raise SystemExit('code of the folder was run')\n")
    started = {}  # all at once
    for folder, names in ((Path("/"), WORKLOADS), (other, WITH_WORKERS)):
        for name in names.split():
            more = ["--exec", "/bin/true"] if name == "command" else ["--threads", "1"] if name in THREADED else []
            data = f"{SCRATCH}/{name}-{folder.name}"
            words = ["--data", data, "run", name, "--duration", "5s", "--json", *more]
            pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE}
            started[f"{name} in {folder}"] = subprocess.Popen(
                [*user, PROGRAM, *words], text=True, cwd=folder, env=PLAIN, **pipes
            )
    told = {}
    for what, process in started.items():
        out, err = process.communicate()
        told[what] = {"code": process.returncode, "out": out, "err": err}
    return told


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
    told: dict[str, object] = {"without a bus": command("machine", user=nobody)}
    told["workloads"] = run_every_workload(nobody)
    bus = subprocess.Popen(["dbus-daemon", "--system", "--nofork", "--nopidfile", "--nosyslog"])
    wait_for(Path("/run/dbus/system_bus_socket").exists)
    told["before"] = pids("upright-bolt service")
    begun = time.monotonic()
    told["machine"] = command("machine", "--json")
    told["first_answer_s"] = time.monotonic() - begun
    told["after"] = pids("upright-bolt service")
    told["polkit"] = pids("polkitd")
    told["status"] = command("status", "--json")
    told["nobody"] = command("machine", user=nobody)
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
