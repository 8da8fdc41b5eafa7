"""The hand-made machines of ``tests/trees``, written out as folders that ``tree:DIR`` opens."""

import re
from pathlib import Path

from upright_bolt.kernel.ports import COPY_STRIDE, UNREAD, DeviceRegisters, RealFiles

FOLDER = Path(__file__).with_name("trees")
TREES = tuple(sorted(path.stem for path in FOLDER.glob("*.tree")))


def build_tree(name: str, root: Path) -> Path:
    """Write the machine out below ``root`` and return ``root``."""
    registers: dict[int, int] = {}
    folders: list[tuple[str, str]] = []
    for line in (FOLDER / f"{name}.tree").read_text().splitlines():
        if not line.strip() or line.startswith("#"):
            continue
        if line.startswith("["):
            folders = _expanded(line.strip("[]"))
        elif line.startswith("msr "):
            number, value = line[4:].split(" = ")
            registers[int(number, 0)] = int(value, 0)
        else:
            file, sign, text = re.fullmatch(r"(\S+) ([:=]) ?(.*)", line).groups()
            for folder, number in folders:
                _write(root / folder / file, text.replace("{}", number), writable=sign == "=")
    if registers:
        data = bytearray(UNREAD.to_bytes(8, "little") * (max(registers) + 1))
        for register, bits in registers.items():
            data[register * COPY_STRIDE : (register + 1) * COPY_STRIDE] = bits.to_bytes(8, "little")
        device = root / "dev/cpu/0/msr"
        device.parent.mkdir(parents=True, exist_ok=True)
        device.write_bytes(bytes(data))
    return root


def ports_of(root: Path) -> tuple[RealFiles, DeviceRegisters]:
    """Return the ports of a folder."""
    return RealFiles(root), DeviceRegisters(root, COPY_STRIDE)


def _expanded(folder: str) -> list[tuple[str, str]]:
    match = re.search(r"\{([0-9,-]+)\}", folder)
    if match is None:
        return [(folder, "")]
    numbers = []
    for part in match[1].split(","):
        first, _, last = part.partition("-")
        numbers += [str(n) for n in range(int(first), int(last or first) + 1)]
    return [(folder.replace(match[0], number), number) for number in numbers]


def _write(path: Path, text: str, *, writable: bool) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text.replace("|", "\n") + "\n")
    path.chmod(0o644 if writable else 0o444)
