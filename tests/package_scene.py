"""The Debian package on a system of its own: this one below a layer that takes all changes, as root.

``unshare -m -p -f --kill-child python package_scene.py PACKAGE`` prints what came out, as JSON.
"""

import json
import os
import subprocess
import sys
from pathlib import Path

LAYER = Path("/mnt")
ROOT = LAYER / "root"
NOBODY = 65534
PLAIN = {"PATH": "/usr/bin:/bin:/usr/sbin:/sbin", "LC_ALL": "C.UTF-8", "HOME": "/tmp"}


def inside(*words: str) -> dict[str, object]:
    done = subprocess.run(
        ["chroot", str(ROOT), *words], capture_output=True, text=True, check=False, env=PLAIN, cwd="/"
    )  # fmt: skip
    return {"code": done.returncode, "out": done.stdout, "err": done.stderr}


def as_nobody(*words: str) -> dict[str, object]:
    return inside("setpriv", "--reuid", str(NOBODY), "--regid", str(NOBODY), "--clear-groups", "--", *words)


def ours() -> list[str]:
    """Return what of the program lies in the system now, without what runs of it left in a data folder."""
    found = []
    for top in ("usr", "etc", "var/lib"):
        for folder, folders, files in os.walk(ROOT / top):
            found += [f"{folder}/{name}".removeprefix(str(ROOT)) for name in (*folders, *files) if "upright" in name]
    return sorted(path for path in found if "/var/lib/dpkg/" not in path)


def main() -> None:
    package = Path(sys.argv[1])
    subprocess.run(["mount", "-t", "tmpfs", "tmpfs", str(LAYER)], check=True)
    for name in ("upper", "work", "root"):
        (LAYER / name).mkdir()
    options = f"lowerdir=/,upperdir={LAYER}/upper,workdir={LAYER}/work"
    subprocess.run(["mount", "-t", "overlay", "overlay", "-o", options, str(ROOT)], check=True)
    subprocess.run(["mount", "-t", "proc", "proc", str(ROOT / "proc")], check=True)
    (ROOT / "package.deb").write_bytes(package.read_bytes())
    (ROOT / "data").mkdir(mode=0o700)
    os.chown(ROOT / "data", NOBODY, NOBODY)
    before = ours()
    program = ("/usr/bin/upright-bolt", "--data", "/data", "--machine", "twin:tern")
    told = {
        "install": inside("dpkg", "--install", "/package.deb"),
        "version": as_nobody("/usr/bin/upright-bolt", "--version"),
        "status": as_nobody(*program, "status"),
        "run": as_nobody(*program, "run", "steady", "--duration", "10s", "--start", "at-once", "--json"),
        "report": as_nobody(*program, "runs", "export", "1", "--html", "/data/report.html"),
        "page": inside("man", "--where", "upright-bolt"),
        "compiled": len(list((ROOT / "usr/lib/upright-bolt/upright_bolt").rglob("*.pyc"))),
        "verify": inside("dpkg", "--verify", "upright-bolt"),
        "purge": inside("dpkg", "--purge", "upright-bolt"),
        "left": sorted(set(ours()) - set(before)),
    }
    print(json.dumps(told))


if __name__ == "__main__":
    main()
