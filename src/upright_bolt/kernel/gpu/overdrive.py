"""amdgpu's overdrive table: clocks and voltages that are set by commands to a file that prints a table.

What is read cannot be written back, so the table has a path of its own here (``TABLE``) whose text is one line of words
and can: ``all s0=500 s1=2450 m1=1000 vo=-50``. Written with ``all`` in front, the driver's own table comes first
(``r``), then whatever differs from it; without, only the words given are set. Both end with ``c``, which puts them in
force. A chip takes no commands unless its performance level is ``manual``, which is seen to here.

Three shapes of the table are known: points (a clock and a voltage each), a curve of three points beside the range of
clocks, and an offset beside it. Sections that are not known are left alone, but a reset takes them along.

The kernel's own page: Documentation/gpu/amdgpu/thermal ("pp_od_clk_voltage").
"""

import errno
import re
from dataclasses import dataclass, field
from functools import partial

from upright_bolt.errors import FileFault
from upright_bolt.kernel.ports import ForwardingFiles

FILE = "pp_od_clk_voltage"
TABLE = f"{FILE}:table"
"""Stands for the table where a path of the driver's ends with ``FILE``."""
LEVEL = "power_dpm_force_performance_level"
MANUAL = "manual"
ALL = "all"
_SECTIONS = {"OD_SCLK": "s", "OD_MCLK": "m", "OD_VDDC_CURVE": "vc", "OD_VDDGFX_OFFSET": "vo"}
_POINT = re.compile(r"(\d{1,2}):\s*(\d+)\s*mhz(?:\s+(\d+)\s*mv)?", re.IGNORECASE)
_OFFSET = re.compile(r"(-?\d+)\s*mv", re.IGNORECASE)
_RANGE = re.compile(r"([A-Z_]+(?:\[\d+\])?):\s*(-?\d+)\s*m(?:hz|v)\s+(-?\d+)\s*m(?:hz|v)", re.IGNORECASE)
_WORD = re.compile(r"(s|m|vc)(\d{1,2})=(\d{1,5})(?:,(\d{1,4}))?|vo=(-?\d{1,4})")


@dataclass(frozen=True, slots=True)
class Overdrive:
    """An overdrive table.

    Attributes:
        points: by the command's letter and number (``s1``, ``m1``, ``vc2``): clock in MHz, and mV or None.
        offset_mv: of all voltages; None if the chip has no such offset.
        ranges: lowest and highest value that the driver takes, by its word for them (``SCLK``), in MHz or mV.
    """

    points: dict[str, tuple[int, int | None]] = field(default_factory=dict)
    offset_mv: int | None = None
    ranges: dict[str, tuple[int, int]] = field(default_factory=dict)

    def of(self, letter: str) -> list[str]:
        """Return the names of the points of one kind, the lowest first."""
        return sorted((n for n in self.points if n.rstrip("0123456789") == letter), key=lambda n: int(n[len(letter) :]))

    @property
    def curve(self) -> list[str]:
        """The points that carry voltages: the curve's, or those of the clocks themselves; empty if none do."""
        return self.of("vc") or [name for name in self.of("s") if self.points[name][1] is not None]

    def words(self) -> list[str]:
        """Return the whole table as words."""
        found = [word(name, *point) for name, point in self.points.items()]
        return found if self.offset_mv is None else [*found, f"vo={self.offset_mv}"]


def word(name: str, mhz: int, mv: int | None) -> str:
    """Return the word that puts a point at a clock, and at a voltage if it carries one."""
    return f"{name}={mhz}" if mv is None else f"{name}={mhz},{mv}"


def parsed(text: str) -> Overdrive:
    """Return the table that the driver prints; what is not understood is left out."""
    table = Overdrive()
    letter, offset = "", None
    for line in text.splitlines():
        head = line.strip().rstrip(":")
        if line.strip().endswith(":") and " " not in head:
            letter = _SECTIONS.get(head, "")
        elif letter == "vo" and (match := _OFFSET.fullmatch(line.strip())):
            offset = int(match[1])
        elif letter and (match := _POINT.fullmatch(line.strip())):
            table.points[f"{letter}{match[1]}"] = int(match[2]), int(match[3]) if match[3] else None
        elif match := _RANGE.fullmatch(line.strip()):
            table.ranges[match[1].upper()] = int(match[2]), int(match[3])
    return Overdrive(table.points, offset, table.ranges)


def from_words(text: str) -> Overdrive:
    """Return the table that stands in words, without ranges. Raises ValueError for anything else."""
    points: dict[str, tuple[int, int | None]] = {}
    offset = None
    for each in text.split():
        match = _WORD.fullmatch(each)
        if match is None:
            if each == ALL:
                continue
            raise ValueError(each)
        if match[5] is not None:
            offset = int(match[5])
        else:
            points[f"{match[1]}{match[2]}"] = int(match[3]), int(match[4]) if match[4] else None
    return Overdrive(points, offset)


def _command(one: str) -> str:
    """Return the driver's command for a word: ``vc2=2125,950`` is ``vc 2 2125 950``."""
    name, _, value = one.partition("=")
    letter = name.rstrip("0123456789")
    return " ".join((letter, *name[len(letter) :].split(), *value.split(",")))


class OverdriveFiles(ForwardingFiles):
    """Port ``KernelFiles`` with overdrive tables as files that can be written back."""

    def read(self, path: str) -> bytes:
        """Return the content. Raises FileFault."""
        if not path.endswith(TABLE):
            return self._files.read(path)
        return " ".join((ALL, *self._table(path).words())).encode()

    def _table(self, path: str) -> Overdrive:
        return parsed(self._files.read(path.removesuffix(TABLE) + FILE).decode("ascii", "replace"))

    def write(self, path: str, data: bytes) -> None:
        """Write the content. Raises FileFault; EINVAL for words that are none of a table's."""
        if not path.endswith(TABLE):
            self._files.write(path, data)
            return
        text = data.decode("ascii", "replace")
        try:
            asked = from_words(text)
        except ValueError as fault:
            raise FileFault(path, errno.EINVAL) from fault
        folder = path.removesuffix(TABLE)
        # The driver takes overdrive commands only at the level “manual” on most generations (Documentation/gpu/amdgpu/
        # thermal.rst, pp_od_clk_voltage).
        self._be_manual(f"{folder}{LEVEL}")
        say = partial(self._say, f"{folder}{FILE}")
        words = asked.words()
        if ALL in text.split():
            # The whole table is reset from the driver's own defaults: what equals them then needs no command.
            say("r")
            there = self._table(path).words()
            words = [each for each in words if each not in there]
        for each in words:
            say(_command(each))
        # Nothing takes effect before the commit.
        say("c")

    def _say(self, path: str, command: str) -> None:
        """Give the driver one command: it wants a line."""
        self._files.write(path, f"{command}\n".encode())

    def _be_manual(self, level: str) -> None:
        if self._files.exists(level) and self._files.read(level).strip() != MANUAL.encode():
            self._files.write(level, MANUAL.encode())

    def exists(self, path: str) -> bool:
        """Tell whether the file or folder is there."""
        return self._files.exists(_behind(path))

    def writable(self, path: str) -> bool:
        """Tell whether this process may write the file."""
        return self._files.writable(_behind(path))

    def closed_to_all(self, path: str) -> bool:
        """Tell whether nobody may write the file, not even root."""
        return self._files.closed_to_all(_behind(path))


def _behind(path: str) -> str:
    return path.removesuffix(TABLE) + FILE if path.endswith(TABLE) else path
