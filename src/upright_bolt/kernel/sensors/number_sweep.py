"""Files that hold one number or one word each, all read and decoded in one go.

This is the innermost loop of sampling, whose cost ``make bench`` compares with bare ``pread`` calls. A sweep of numbers
is laid out for the case that every file gives a plain one, when all are decoded together as a list in JSON. If one does
not, each is decoded by itself, and what gives none is None.
"""

from math import isfinite
from operator import call, mul

from msgspec import DecodeError
from msgspec.json import Decoder

from upright_bolt.kernel.ports import Read
from upright_bolt.model.sample import Numbers

NUMBERS = Decoder(list[float])
FEW = 4
"""So few numbers are decoded faster one by one."""


class _OpenFiles(list[Read]):
    """Reads files in one go; once one has failed, each by itself until none does."""

    def __init__(self) -> None:
        super().__init__()
        self._failing = False

    def read(self) -> list[bytes]:
        """Return the content of each, empty where it cannot be read."""
        # One list of calls without a try for each is what makes a sample cheap; a file that fails ends it for all.
        if not self._failing:
            try:
                return list(map(call, self))
            except OSError:
                self._failing = True
        found = [read_or_nothing(read) for read in self]
        self._failing = b"" in found
        return found


class TextSweep:
    """Reads a list of open files that hold a word or a line."""

    def __init__(self) -> None:
        self._files = _OpenFiles()
        self._raw: list[bytes] = []

    def add(self, read: Read) -> int:
        """Add a file and return its place."""
        self._files.append(read)
        return len(self._files) - 1

    def read(self) -> list[bytes]:
        """Read all files and return what they hold; the same list as before, if no file has changed."""
        raw = self._files.read()
        if raw != self._raw:
            self._raw = raw
        return self._raw


class NumberSweep:
    """Reads a list of open files that hold a number."""

    def __init__(self) -> None:
        self._files = _OpenFiles()
        self._scales: list[float] = []
        self._voids: list[tuple[int, float]] = []
        self._raw: list[bytes] = []
        self._numbers: Numbers = []

    def __len__(self) -> int:
        return len(self._files)

    def add(self, read: Read, scale: float, void: int | None = None) -> int:
        """Add a file and return its place.

        Args:
            read: reads it.
            scale: what its number is multiplied with, at most 1: no plain number grows beyond all bounds by that.
            void: a number that means "nothing there".

        Raises:
            ValueError: the scale is larger.
        """
        if scale > 1.0:
            raise ValueError(f"a scale of {scale} is more than 1")
        self._files.append(read)
        self._scales.append(scale)
        if void is not None:
            self._voids.append((len(self) - 1, void * scale))
        return len(self) - 1

    def read(self) -> Numbers:
        """Read all files and return a number each; the same list as before, if no file has changed."""
        raw = self._files.read()
        if raw != self._raw:
            self._raw, self._numbers = raw, self._decoded(raw)
        return self._numbers

    def _decoded(self, raw: list[bytes]) -> Numbers:
        # The JSON decoder reads them all in one go, which is faster than float() for each.
        plain = _all_plain(raw) if len(raw) > FEW else []
        if len(plain) == len(raw):
            numbers: Numbers = list(map(mul, plain, self._scales))
        else:
            numbers = [number_of(data, scale) for data, scale in zip(raw, self._scales, strict=True)]
        for place, void in self._voids:
            if numbers[place] == void:
                numbers[place] = None
        return numbers


def _all_plain(raw: list[bytes]) -> list[float]:
    """Return the numbers; fewer or more of them, if some files hold no plain number."""
    try:
        return NUMBERS.decode(b"[%b]" % b",".join(raw))
    except DecodeError:
        return []


def number_of(data: bytes, scale: float) -> float | None:
    """Return what a file's content says, times ``scale``; None if that is no number."""
    try:
        number = float(data) * scale
    except ValueError:
        return None
    return number if isfinite(number) else None


def read_or_nothing(read: Read) -> bytes:
    """Return a file's content, empty if it cannot be read."""
    try:
        return read()
    except OSError:
        return b""
