"""The guest's disk: Debian's own files of a few packages, as they lie on this machine, and what is installed.

Copied from here, not fetched: the packages that the checks need are installed on the machine that runs them.
"""

import os
import re
import shutil
import subprocess
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[3]
PACKAGES = ("base-files", "bash", "dash", "coreutils", "util-linux", "mount", "sed", "grep", "kmod", "procps",
            "systemd", "dbus", "dbus-daemon", "polkitd", "python3", "passwd", "login", "libc-bin", "libpam-modules",
            "libpam-runtime", "busybox-static", "libstdc++6", "libgcc-s1")  # fmt: skip
USER = "surveyor"
USER_ID = 1000
SIZE = "2200M"
UNIT = """[Unit]
Description=Checks on a real kernel
After=dbus.service
[Service]
ExecStart=/usr/bin/python3 -B /program/guest/agent.py
StandardOutput=tty
StandardError=tty
TTYPath=/dev/ttyS0
[Install]
WantedBy=multi-user.target
"""
RULE = """polkit.addRule(function(action, subject) {
    if (action.id.indexOf("org.upright-bolt.") == 0 && subject.user == "%s") {
        return polkit.Result.YES;
    }
});
"""
MASKED = ("systemd-tmpfiles-setup.service", "timers.target", "systemd-timesyncd.service", "getty.target",
          "systemd-networkd.service", "systemd-firstboot.service", "systemd-update-done.service",
          "systemd-journal-catalog-update.service", "systemd-binfmt.service", "systemd-sysusers.service",
          "systemd-pstore.service", "e2scrub_reap.service")  # fmt: skip


def closure(names: tuple[str, ...]) -> list[str]:
    """Return ``names`` and all installed packages that they depend on."""
    shown = subprocess.run(
        ["dpkg-query", "-W", "-f", "${Package}\t${db:Status-Status}\t${Pre-Depends}, ${Depends}\t${Provides}\n"],
        capture_output=True, text=True, check=True,
    ).stdout  # fmt: skip
    depends: dict[str, str] = {}
    provided: dict[str, str] = {}
    for line in shown.splitlines():
        name, state, wanted, provides = line.split("\t")
        if state == "installed":
            depends[name] = wanted
            provided.update({re.split(r"[ (:]", p.strip())[0]: name for p in provides.split(",") if p.strip()})
    missing = [name for name in names if name not in depends]
    if missing:
        raise SystemExit(f"These packages are missing: {' '.join(missing)}. make .venv/ready-for-kernel-tests")
    found: dict[str, None] = {}
    waiting = list(names)
    while waiting:
        name = waiting.pop()
        name = name if name in depends else provided.get(name, "")
        if not name or name in found:
            continue
        found[name] = None
        for group in depends[name].split(","):
            waiting += [re.split(r"[ (:]", choice.strip())[0] for choice in group.split("|")]
    return sorted(found)


def make_root(tree: Path, image: Path, registers: Path, modules: list[Path], kernel: Path, version: str) -> None:
    """Make the disk ``image``.

    Args:
        tree: a folder to work in; removed in the end.
        image: the disk to make.
        registers: the module that keeps registers.
        modules: the kernel's own modules that checks may load.
        kernel: the unpacked kernel.
        version: its version.
    """
    shutil.rmtree(tree, ignore_errors=True)
    for name in ("usr/bin", "usr/sbin", "usr/lib", "usr/lib64", "proc", "sys", "dev", "run", "tmp", "root", "etc",
                 "program", "rig", "var/lib", "home", "mnt"):  # fmt: skip
        (tree / name).mkdir(parents=True)
    for name in ("bin", "sbin", "lib", "lib64"):
        (tree / name).symlink_to(f"usr/{name}")
    _copy_packages(tree)
    _copy_modules(tree, modules, kernel, version)
    _install_program(tree)
    _configure(tree)
    shutil.copy(registers, tree / "rig/registers.ko")
    subprocess.run(["/sbin/ldconfig", "-r", str(tree)], check=True)
    half = image.with_suffix(".half")
    half.unlink(missing_ok=True)
    subprocess.run(["mke2fs", "-q", "-t", "ext4", "-d", str(tree), str(half), SIZE], check=True, capture_output=True)
    half.rename(image)
    shutil.rmtree(tree)


def _copy_packages(tree: Path) -> None:
    listed = subprocess.run(["dpkg", "-L", *closure(PACKAGES)], capture_output=True, text=True, check=True).stdout
    skipped = ("/usr/share/doc/", "/usr/share/man/", "/usr/share/locale/", "/usr/share/info/", "/usr/share/i18n/")
    files = {line for line in listed.splitlines() if line.startswith("/") and not line.startswith(skipped)}
    there = sorted(
        name for name in files if (Path(name).is_symlink() or not Path(name).is_dir()) and Path(name).exists()
    )
    packed = subprocess.Popen(["tar", "-c", "-C", "/", "--no-recursion", "-T", "-"], stdin=subprocess.PIPE,
                              stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)  # fmt: skip
    unpacked = subprocess.Popen(["tar", "-x", "-p", "-C", str(tree), "--keep-directory-symlink"], stdin=packed.stdout)
    assert packed.stdin is not None
    packed.stdin.write("\n".join(name[1:] for name in there).encode())
    packed.stdin.close()
    if unpacked.wait() or packed.wait() not in (0, 1):
        raise SystemExit("Debian's files could not be copied.")


def _copy_modules(tree: Path, modules: list[Path], kernel: Path, version: str) -> None:
    target = tree / "usr/lib/modules" / version
    target.mkdir(parents=True)
    source = kernel / "lib/modules" / version
    for file in source.glob("modules.*"):
        shutil.copy(file, target)
    for file in modules:
        place = tree / "usr/lib" / file.relative_to(kernel / "lib")
        place.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(file, place)


def _install_program(tree: Path) -> None:
    done = subprocess.run(
        ["make", "-s", "-C", str(PROJECT), "install", f"DESTDIR={tree}"], capture_output=True, text=True, check=False
    )
    if done.returncode:
        raise SystemExit(f"make install failed: {done.stderr.strip()[-2000:]}")
    library = tree / "usr/local/lib/upright-bolt"
    for name in ("PyQt6", "pyqtgraph", "matplotlib", "fontTools", "PIL", "pillow.libs"):
        shutil.rmtree(library / name, ignore_errors=True)
    shutil.rmtree(library / "upright_bolt")
    (library / "upright_bolt").mkdir()  # our code comes on a disk of its own, so that a change costs a second


def _configure(tree: Path) -> None:
    etc = tree / "etc"
    for name in ("passwd", "group"):  # whoever has an account on this machine has none in there
        lines = Path(f"/etc/{name}").read_text().splitlines(keepends=True)
        (etc / name).write_text("".join(line for line in lines if not 1000 <= int(line.split(":")[2]) < 65000))
    with (etc / "passwd").open("a") as file:
        file.write(f"{USER}:x:{USER_ID}:{USER_ID}::/home/{USER}:/bin/sh\n")
    with (etc / "group").open("a") as file:
        file.write(f"{USER}:x:{USER_ID}:\n")
    home = tree / "home" / USER
    home.mkdir()
    os.chown(home, USER_ID, USER_ID)
    (etc / "machine-id").write_text("5f0b3a7c9d1e4f26a8b7c6d5e4f30211\n")
    (etc / "hostname").write_text("quay\n")
    (etc / "fstab").write_text("")
    rules = etc / "polkit-1/rules.d"
    rules.mkdir(parents=True, exist_ok=True)
    (rules / "40-checks.rules").write_text(RULE % USER)
    units = etc / "systemd/system"
    units.mkdir(parents=True, exist_ok=True)
    (units / "checks.service").write_text(UNIT)
    wanted = units / "multi-user.target.wants"
    wanted.mkdir(exist_ok=True)
    (wanted / "checks.service").symlink_to("../checks.service")
    for name in MASKED:
        (units / name).unlink(missing_ok=True)
        (units / name).symlink_to("/dev/null")
    (units / "default.target").unlink(missing_ok=True)
    (units / "default.target").symlink_to("/lib/systemd/system/multi-user.target")
