"""What of a kernel file goes into a capture: only what this program looks at, where the file may hold more than that.

The kernel's arguments may name disks, users and passwords; its version names who built it and where; some processors'
``cpuinfo`` has a serial number; ``stat`` tells when the machine was started; and a mouse's battery bears its address.
"""

import re
from collections.abc import Callable

from upright_bolt.kernel import paths
from upright_bolt.kernel.interfaces.arguments import concerns

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
