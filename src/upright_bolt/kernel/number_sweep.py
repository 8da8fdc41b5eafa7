"""Files that hold one number each, all read and decoded in one go.

This is the innermost loop of sampling, whose cost ``make bench`` compares with bare ``pread`` calls: the sweep is laid
out for the case that every file gives a number. If one fails, each is decoded by itself, and what gives none is None.
"""

from math import isfinite
from operator import call, mul

from upright_bolt.kernel.ports import Read
from upright_bolt.model.sample import Numbers


class NumberSweep:
    """Reads a list of open files."""

    def __init__(self) -> None:
        self._reads: list[Read] = []
        self._scales: list[float] = []
        self._voids: list[tuple[int, float]] = []
        self._raw: list[bytes] = []
        self._numbers: Numbers = []

    def __len__(self) -> int:
        return len(self._reads)

    def add(self, read: Read, scale: float, void: int | None = None) -> int:
        """Add a file and return its place.

        Args:
            read: reads it.
            scale: what its number is multiplied with.
            void: a number that means "nothing there".
        """
        self._reads.append(read)
        self._scales.append(scale)
        if void is not None:
            self._voids.append((len(self) - 1, void * scale))
        return len(self) - 1

    def read(self) -> Numbers:
        """Read all files and return a number each; the same list as before, if no file has changed."""
        try:
            raw = list(map(call, self._reads))
        except OSError:
            raw = [read_or_nothing(read) for read in self._reads]
        if raw != self._raw:
            self._raw, self._numbers = raw, self._decoded(raw)
        return self._numbers

    def _decoded(self, raw: list[bytes]) -> Numbers:
        try:
            numbers: Numbers = list(map(mul, map(float, raw), self._scales))
        except ValueError:
            numbers = []
        if not (numbers and isfinite(sum(numbers))):  # type: ignore[arg-type]
            numbers = [number_of(data, scale) for data, scale in zip(raw, self._scales, strict=True)]
        for place, void in self._voids:
            if numbers[place] == void:
                numbers[place] = None
        return numbers


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
