"""Builds what the emulated machine boots from: kernel, register module, tables of its firmware, and a disk.

Everything lies in one folder outside the checkout and is made anew only when what it is made of has changed. Nothing
of it is installed here: the kernel's packages are fetched and unpacked.
"""

import gzip
import hashlib
import os
import shutil
import subprocess
from dataclasses import dataclass
from pathlib import Path

from rig.root import make_root

KERNEL_TESTS = Path(__file__).resolve().parents[1]
PROJECT = KERNEL_TESTS.parents[1]
TABLES = ("laptop", "platform")
BOOT_MODULES = ("virtio_pci", "virtio_blk", "ext4", "crc32c_generic")
GUEST_MODULES = (
    "acpi-cpufreq", "ac", "battery", "thermal", "button", "fan", "msr", "video", "ideapad-laptop", "intel_rapl_msr",
    "cpufreq_powersave", "cpufreq_userspace", "cpufreq_ondemand", "cpufreq_conservative",
)  # fmt: skip
BACKPORTS = (
    "deb [signed-by=/usr/share/keyrings/debian-archive-keyring.gpg] "
    "http://deb.debian.org/debian bookworm-backports main\n"
)
PROCESSOR = """    External (\\_SB.CPUS.C{number:03X}, DeviceObj)
    Scope (\\_SB.CPUS.C{number:03X})
    {{
        Name (_PCT, Package () {{
            ResourceTemplate () {{ Register (SystemIO, 8, 0, 0x{port:04X}) }},
            ResourceTemplate () {{ Register (SystemIO, 8, 0, 0x{port:04X}) }} }})
        Method (_PSS) {{ Return (\\LPSS) }}
        Method (_PPC) {{ Return (\\PPCV) }}
    }}
"""
"""Clocks of a processor beyond the two that the laptop's own table has, for an emulated board with more."""
PORT = 0x05E0
FIRST = """#!/bin/busybox sh
export PATH=/bin
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev
while read -r module; do insmod "/modules/$module" || echo "insmod $module failed"; done < /modules/order
mount -t ext4 /dev/vda /new && mount -t ext4 -o ro /dev/vdb /new/program || poweroff -f
mount --bind /new/program/upright_bolt /new/usr/local/lib/upright-bolt/upright_bolt
mount --move /proc /new/proc; mount --move /sys /new/sys; mount --move /dev /new/dev
begin=/program/guest/begin
for word in $(cat /new/proc/cmdline); do case $word in rig.first=*) begin=${word#rig.first=};; esac; done
exec switch_root /new $begin
"""


@dataclass(frozen=True, slots=True)
class Rig:
    """Where everything lies.

    Attributes:
        folder: all of it, and what runs of it leave.
        kernel, first_disk, root, program: kernel, initial disk in memory, the guest's disk and the one with our code.
        tables: compiled tables of the firmware, by name.
        newer: its kernel is the newer one.
    """

    folder: Path
    kernel: Path
    first_disk: Path
    root: Path
    program: Path
    tables: dict[str, Path]
    newer: bool


def run(*words: str, cwd: Path | None = None, **environment: str) -> str:
    """Run a command and return what it prints. Raises SystemExit with what went wrong."""
    done = subprocess.run(
        words, cwd=cwd, capture_output=True, text=True, check=False, env={**os.environ, **environment}
    )
    if done.returncode:
        raise SystemExit(f"{' '.join(words)[:200]}: {done.stderr.strip()[-2000:] or done.stdout.strip()[-2000:]}")
    return done.stdout


def digest(*paths: Path | str) -> str:
    """Return a short name for the contents of files and folders, and for texts."""
    whole = hashlib.sha256()
    for path in paths:
        if isinstance(path, str):
            whole.update(path.encode())
            continue
        for file in sorted(path.rglob("*")) if path.is_dir() else [path]:
            if file.is_file() and "__pycache__" not in file.parts:
                whole.update(str(file.relative_to(path)).encode() + file.read_bytes())
    return whole.hexdigest()[:12]


def build(folder: Path, *, newer: bool = False, processors: int = 2) -> Rig:
    """Return the rig in ``folder``, made as far as it is missing or has changed.

    Args:
        folder: where it is.
        newer: with a newer kernel.
        processors: how many its machines have, at least two.
    """
    folder = folder / "newer" if newer else folder
    folder.mkdir(parents=True, exist_ok=True)
    packages = Packages(folder, newer=newer)
    version = packages.kernel_version()
    kernel = _kernel(folder, version, packages)
    module = _registers(folder, kernel, version)
    made_by = Path(__file__).with_name("root.py")
    made_of = (PROJECT / "runtime.lock", PROJECT / "system", PROJECT / "tools/install.sh", KERNEL_TESTS / "registers")
    key = digest(made_by, *made_of, version)
    root = folder / f"root-{key}.img"
    if not root.exists():
        for old in folder.glob("root-*.img"):
            old.unlink()
        make_root(folder / "tree", root, module, _module_files(kernel, version, GUEST_MODULES), kernel, version)
    first = _first_disk(folder, kernel, version)
    return Rig(
        folder, kernel / "boot" / f"vmlinuz-{version}", first, root, _program(folder), _tables(folder, processors),
        newer,
    )  # fmt: skip


class Packages:
    """Debian's packages as this machine knows them, or those of its backports.

    Args:
        folder: where lists of backports are kept, and packages fetched.
        newer: those of backports.
    """

    def __init__(self, folder: Path, *, newer: bool) -> None:
        self._folder = folder
        self._options: tuple[str, ...] = ()
        if newer:
            lists, source = folder / "lists", folder / "backports.list"
            (lists / "partial").mkdir(parents=True, exist_ok=True)
            source.write_text(BACKPORTS)
            self._options = ("-o", f"Dir::Etc::sourcelist={source}", "-o", "Dir::Etc::sourceparts=/dev/null",
                             "-o", f"Dir::State::lists={lists}", "-o", f"Dir::Cache={folder}")  # fmt: skip
            run("apt-get", *self._options, "update", "-q")

    def depends(self, package: str) -> list[str]:
        """Return what a package depends on."""
        lines = run("apt-cache", *self._options, "depends", package).splitlines()
        return [line.split()[-1] for line in lines if "Depends: " in line]

    def kernel_version(self) -> str:
        """Return the version of Debian's own kernel. Raises SystemExit if the lists do not know it."""
        names = [name for name in self.depends("linux-image-amd64") if name.startswith("linux-image-")]
        if not names:
            raise SystemExit("The package list does not know linux-image-amd64: apt-get update")
        return names[0].removeprefix("linux-image-")

    def unpack(self, names: list[str], into: Path) -> None:
        """Fetch packages and unpack them in a folder; nothing of them is installed."""
        for name in names:
            run("apt-get", *self._options, "download", "-q", name, cwd=self._folder)
            archive = next(iter(sorted(self._folder.glob(f"{name}_*.deb"))))
            run("dpkg", "-x", str(archive), str(into))
            archive.unlink()


def _kernel(folder: Path, version: str, packages: Packages) -> Path:
    """Return the unpacked kernel and its headers; every other version is removed."""
    target = folder / f"kernel-{version}"
    if not (target / "whole").exists():
        for old in folder.glob("kernel-*"):
            shutil.rmtree(old)
        headers = f"linux-headers-{version}"
        wanted = [name for name in packages.depends(headers) if name.startswith(("linux-headers", "linux-kbuild"))]
        target.mkdir()
        packages.unpack([f"linux-image-{version}", headers, *wanted], target)
        run("depmod", "-b", str(target), version)
        _relocate(target, version)
        (target / "whole").touch()
    return target


def _relocate(target: Path, version: str) -> None:
    """Let the headers find each other where they lie, and not under /usr."""
    headers = target / "usr/src" / f"linux-headers-{version}"
    for file in [*headers.rglob("Makefile"), *headers.glob(".config")]:
        if file.is_file():
            text = file.read_text(errors="surrogateescape")
            for place in ("/usr/src/linux-", "/usr/lib/linux-kbuild"):
                text = text.replace(place, f"{target}{place}")
            file.write_text(text, errors="surrogateescape")
    for link in (target / "usr/src").rglob("*"):
        if link.is_symlink() and str(link.readlink()).startswith("/usr/"):
            pointed = f"{target}{link.readlink()}"
            link.unlink()
            link.symlink_to(pointed)


def _registers(folder: Path, kernel: Path, version: str) -> Path:
    """Return the module that keeps registers, compiled for this kernel."""
    source = KERNEL_TESTS / "registers"
    made = folder / f"registers-{digest(source, version)}.ko"
    if not made.exists():
        for old in folder.glob("registers*"):
            shutil.rmtree(old) if old.is_dir() else old.unlink()
        work = folder / "registers"
        shutil.copytree(source, work)
        run(
            "make",
            "-s",
            "-C",
            str(kernel / "usr/src" / f"linux-headers-{version}"),
            f"M={work}",
            "CONFIG_DEBUG_INFO_BTF_MODULES=",
            "modules",
        )
        shutil.copy(work / "rig_registers.ko", made)
    return made


def _module_files(kernel: Path, version: str, names: tuple[str, ...]) -> list[Path]:
    files: dict[Path, None] = {}
    for name in names:
        for line in run("/sbin/modprobe", "-d", str(kernel), "-S", version, "--show-depends", name).splitlines():
            if line.startswith("insmod "):
                files[Path(line.split()[1])] = None
    return list(files)


def _first_disk(folder: Path, kernel: Path, version: str) -> Path:
    """Return the disk in memory that finds the real one."""
    made = folder / f"first-{digest(FIRST, version)}.gz"
    if made.exists():
        return made
    for old in folder.glob("first-*.gz"):
        old.unlink()
    tree = folder / "first"
    shutil.rmtree(tree, ignore_errors=True)
    for name in ("bin", "proc", "sys", "dev", "new", "modules"):
        (tree / name).mkdir(parents=True)
    shutil.copy("/bin/busybox", tree / "bin/busybox")
    for name in ("sh", "mount", "insmod", "cat", "echo", "switch_root", "poweroff"):
        (tree / "bin" / name).symlink_to("busybox")
    order = _module_files(kernel, version, BOOT_MODULES)
    for file in order:
        shutil.copy(file, tree / "modules")
    (tree / "modules/order").write_text("".join(f"{file.name}\n" for file in order))
    (tree / "init").write_text(FIRST)
    (tree / "init").chmod(0o755)
    names = "\n".join(str(path.relative_to(tree)) for path in sorted(tree.rglob("*")))
    packed = subprocess.run(["cpio", "-o", "-H", "newc", "--quiet"], cwd=tree, input=names.encode(), check=True,
                            capture_output=True).stdout  # fmt: skip
    made.write_bytes(gzip.compress(packed, 1))
    shutil.rmtree(tree)
    return made


def _program(folder: Path) -> Path:
    """Return a disk with our code as it is now, and with the checks."""
    tree, made = folder / "program", folder / "program.img"
    shutil.rmtree(tree, ignore_errors=True)
    ignored = shutil.ignore_patterns("__pycache__", "desktop")
    shutil.copytree(PROJECT / "src/upright_bolt", tree / "upright_bolt", ignore=ignored)
    shutil.copytree(KERNEL_TESTS / "guest", tree / "guest", ignore=ignored)
    shutil.copy(KERNEL_TESTS / "rig/page.py", tree / "guest")
    shutil.copytree(PROJECT / "system/debian", tree / "debian")
    kept = ("--invalidation-mode", "unchecked-hash", "-s", str(tree))
    run("/usr/bin/python3", "-m", "compileall", "-q", *kept, str(tree))
    made.unlink(missing_ok=True)
    run("mke2fs", "-q", "-t", "ext4", "-O", "^has_journal", "-d", str(tree), str(made), "48M")
    return made


def _tables(folder: Path, processors: int) -> dict[str, Path]:
    sources = {name: (KERNEL_TESTS / "tables" / f"{name}.dsl").read_text() for name in TABLES}
    if processors > 2:
        scopes = "".join(PROCESSOR.format(number=number, port=PORT + number) for number in range(2, processors))
        known = "    External (\\LPSS, PkgObj)\n    External (\\PPCV, FieldUnitObj)\n"
        head = 'DefinitionBlock ("", "SSDT", 2, "RIG", "CPUS", 0x00000001)'
        sources["processors"] = f"{head}\n{{\n{known}{scopes}}}\n"
    made = {}
    for name, text in sources.items():
        compiled = folder / f"{name}-{digest(text)}.aml"
        if not compiled.exists():
            for old in folder.glob(f"{name}-*.aml"):
                old.unlink()
            source = compiled.with_suffix(".dsl")
            source.write_text(text)
            run("iasl", "-ve", "-p", str(compiled), str(source))
        made[name] = compiled
    return made
