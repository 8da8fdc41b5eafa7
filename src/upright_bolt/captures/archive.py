"""A capture: exactly the kernel files and registers that this program looks at, in one archive that ``tree:`` opens.

Nothing personal is in it. No serial number, MAC address or host name is ever read; of files that may hold more than
what this program looks at, only that is kept (``kept_of``). Registers lie in ``dev/cpu/N/msr``, eight bytes
each in the order of their numbers; those that were not read hold all ones.
"""

import io
import re
import tarfile
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from upright_bolt.captures.reader import members
from upright_bolt.disk import writing_bytes
from upright_bolt.errors import BoltError, FileFault
from upright_bolt.kernel import mailbox, paths
from upright_bolt.kernel.clock import Clock
from upright_bolt.kernel.interfaces.arguments import concerns
from upright_bolt.kernel.ports import COPY_STRIDE, UNREAD, KernelFiles, Registers
from upright_bolt.kernel.recording import RecordingFiles, RecordingRegisters
from upright_bolt.kernel.sensors.sample_reader import SampleReader
from upright_bolt.kernel.survey import survey

LEFT_OUT = (
    "Serial numbers, hardware addresses and the host name are not in it; of the kernel's arguments only those that "
    "concern these settings are, and the name of the boot is blanked out."
)


@dataclass(frozen=True, slots=True)
class Captured:
    """What went into a capture."""

    files: int
    registers: int
    unreadable: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Collected:
    """What a machine's files and registers hold: contents by path (None: unreadable), and which may be written."""

    contents: dict[str, bytes | None]
    writable: frozenset[str]
    registers: dict[tuple[int, int], int]


def collect(files: KernelFiles, registers: Registers, clock: Clock) -> Collected:
    """Look at a machine as any session does, and return all that was read."""
    seen, known = RecordingFiles(files), RecordingRegisters(registers)
    found = survey(seen, known, "machine")
    for driver in found.controls.values():
        driver.facts()
        driver.read()
    SampleReader(seen, known, found, clock).read()
    with suppress(FileFault):
        seen.read(paths.BOOT_ID)
    values = {key: value for key, value in known.values.items() if key[1] != mailbox.MAILBOX}
    return Collected(dict(seen.contents), frozenset(seen.open_to_writes), values)


def write(collected: Collected, target: Path) -> Captured:
    """Write what was collected as an archive. Raises BoltError if it cannot be written."""
    values = collected.registers
    addresses: dict[str, str] = {}
    with writing_bytes(target) as file, tarfile.open(fileobj=file, mode="w:gz") as archive:
        for path, data in sorted(collected.contents.items()):
            if data is not None:
                name = without_addresses(path, addresses)
                _add(archive, name, kept_of(path, data), writable=path in collected.writable)
        for cpu in sorted({cpu for cpu, _ in values}):
            _add(archive, paths.msr_device(cpu), _register_file(values, cpu), writable=False)
    unreadable = tuple(path for path, data in collected.contents.items() if data is None)
    return Captured(len(collected.contents) - len(unreadable), len(values), unreadable)


def _register_file(values: dict[tuple[int, int], int], cpu: int) -> bytes:
    mine = {register: value for (other, register), value in values.items() if other == cpu}
    data = bytearray(UNREAD.to_bytes(COPY_STRIDE, "little") * (max(mine) + 1))
    for register, value in mine.items():
        offset = register * COPY_STRIDE
        data[offset : offset + COPY_STRIDE] = value.to_bytes(COPY_STRIDE, "little")
    return bytes(data)


def _add(archive: tarfile.TarFile, path: str, data: bytes, *, writable: bool) -> None:
    entry = tarfile.TarInfo(path.lstrip("/"))
    entry.size = len(data)
    entry.mode = 0o644 if writable else 0o444
    archive.addfile(entry, io.BytesIO(data))


def unpack(source: Path, folder: Path) -> None:
    """Unpack a capture into ``folder``, which is new; nothing is left there unless the whole capture is sound.

    Raises:
        BoltError: it is not a capture, or too large to be one.
    """
    try:
        for member in members(source):
            target = folder.joinpath(*member.parts)
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(member.content)
            target.chmod(0o600 if member.writable else 0o400)
    except OSError as fault:
        raise BoltError(f"{source} is not a capture: a name in it is a file and a folder at once ({fault}).") from fault


NO_BOOT = b"00000000-0000-0000-0000-000000000000\n"
CPUINFO_KEYS = (
    b"processor", b"vendor_id", b"cpu family", b"model", b"model name", b"stepping", b"microcode", b"cpu MHz",
    b"physical id", b"core id", b"siblings", b"cpu cores", b"flags",
)  # fmt: skip
_ADDRESS = re.compile(r"(?:[0-9A-Fa-f]{2}[:_-]){5}[0-9A-Fa-f]{2}")


def _arguments(data: bytes) -> bytes:
    return b" ".join(word for word in data.split() if concerns(word.decode("utf-8", "replace"))) + b"\n"


def _version(data: bytes) -> bytes:
    return b" ".join(data.split()[:3]) + b"\n"


def _cpuinfo(data: bytes) -> bytes:
    lines = data.split(b"\n")
    return b"\n".join(line for line in lines if not line or line.split(b":")[0].strip() in CPUINFO_KEYS)


def _stat(data: bytes) -> bytes:
    return b"".join(line for line in data.splitlines(keepends=True) if line.startswith(b"cpu"))


# The kernel's arguments may name disks, users and passwords; its version names who built it and where; some processors'
# cpuinfo has a serial number; stat tells when the machine was started. Only what this program looks at is kept of them.
_SIFTED: dict[str, Callable[[bytes], bytes]] = {
    paths.COMMAND_LINE: _arguments,
    paths.VERSION: _version,
    paths.CPUINFO: _cpuinfo,
    paths.STAT: _stat,
    paths.BOOT_ID: lambda _data: NO_BOOT,
}


def kept_of(path: str, data: bytes) -> bytes:
    """Return what of a file's content goes into a capture."""
    return _SIFTED[path](data) if path in _SIFTED else data


def without_addresses(path: str, known: dict[str, str]) -> str:
    """Return a path without the hardware addresses in it: devices without wires bear theirs in their names.

    Args:
        path: of a kernel file.
        known: addresses seen so far, and what stands for each; it is added to.
    """
    return _ADDRESS.sub(lambda found: known.setdefault(found[0], f"device-{len(known) + 1}"), path)
