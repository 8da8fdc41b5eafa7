"""Busy shares from the kernel's table of processor times (``/proc/stat``).

A share is one minus the idle time that passed, over the time that passed on the machine's own clock. The table is the
longest file of a sample, so only the two idle columns are decoded, from where they were found: as long as the table has
the same shape, which is the same with each digit as a 0, they stand at the same bytes. A table that stands still, as in
a copy of kernel files, measures nothing.

The kernel's own pages: Documentation/filesystems/proc, on /proc/stat.
"""

import re
from collections.abc import Callable
from operator import itemgetter, sub

from upright_bolt.kernel.number_sweep import read_or_nothing
from upright_bolt.kernel.ports import Read
from upright_bolt.model.sample import Numbers

TICK_S = 0.01  # USER_HZ is 100 on every architecture this program runs on
ROW_BYTES = 160
"""Room for one row; the table begins with them, and what follows them is not read."""
ROW = re.compile(rb"^(cpu\d+)(?: +\d+){3} +(\d+) +(\d+) +\d", re.MULTILINE)
"""A processor's row: its name, and after three other columns the time idle and the time waiting for a disk."""
NEXT_NAME = 4
"""Bytes of what comes after the last row that tell whether it is one more."""
NO_SHAPE = b"1"
"""That of no table, since it has a digit."""
AS_ZERO = bytes.maketrans(b"123456789", b"000000000")


class BusyShares:
    """Decodes the table.

    Args:
        read: reads the table.
        index: logical processor to its index in a sample.
    """

    def __init__(self, read: Read, index: dict[int, int]) -> None:
        self._read = read
        self._index = {b"cpu%d" % cpu: i for cpu, i in index.items()}
        self._last_s = 0.0
        self._last_table = b""
        self._last_idle: list[int] = []
        self._last_waiting: tuple[bytes, ...] = ()
        self._shape, self._end = NO_SHAPE, 0
        self._names: tuple[bytes, ...] = ()
        self._cut: Callable[[bytes], tuple[bytes, ...]] = _nothing
        self._rows: list[int] = []
        self._side_by_side = False

    def take(self, now_s: float, values: Numbers) -> None:
        """Fill the shares in % since the last call into ``values``.

        When processors have come or gone, rows are matched to them anew and this call gives no shares.
        """
        table = read_or_nothing(self._read)
        seconds, self._last_s = now_s - self._last_s, now_s
        if table == self._last_table:
            return
        self._last_table = table
        count = len(self._rows)
        words = self._cut(table)
        if words[:count] != self._names or table[: self._end].translate(AS_ZERO) != self._shape:
            self._learn(table)
            count = len(self._rows)
            words = self._cut(table)
        idle = list(map(int, words[count : 2 * count]))
        passed = self._idle_passed(idle, words[2 * count :])
        if passed and seconds > 0.0:
            self._fill(passed, 100.0 * TICK_S / seconds, values)

    def _fill(self, passed: list[int], percent: float, values: Numbers) -> None:
        """Fill in shares from the idle ticks that passed, each so many percent of the time."""
        shares: Numbers = [100.0 - percent * ticks for ticks in passed]
        if min(passed) < 0 or percent * max(passed) > 100.0:
            shares = [min(max(100.0 - percent * ticks, 0.0), 100.0) for ticks in passed]
        if self._side_by_side:
            values[self._rows[0] : self._rows[-1] + 1] = shares
        else:
            for index, share in zip(self._rows, shares, strict=True):
                values[index] = share

    def _idle_passed(self, idle: list[int], waiting: tuple[bytes, ...]) -> list[int]:
        """Return the idle ticks since the last call by row; none where the rows were others then.

        Waiting for the disk is idle time too. It hardly ever changes, so it is decoded only when it does.
        """
        last, self._last_idle = self._last_idle, idle
        before, self._last_waiting = self._last_waiting, waiting
        if not idle or len(last) != len(idle):
            return []
        passed = list(map(sub, idle, last))
        if waiting == before:
            return passed
        return [ticks + int(new) - int(old) for ticks, new, old in zip(passed, waiting, before, strict=True)]

    def _learn(self, table: bytes) -> None:
        """Learn where the rows' names and idle times stand."""
        rows = [row for row in ROW.finditer(table) if row[1] in self._index]
        names = tuple(row[1] for row in rows)
        if names != self._names:
            self._last_idle = []
        self._names, self._rows = names, [self._index[name] for name in names]
        self._side_by_side = bool(rows) and self._rows == list(range(self._rows[0], self._rows[-1] + 1))
        places = [slice(*row.span(group)) for group in (1, 2, 3) for row in rows]
        self._cut = itemgetter(*places) if places else _nothing
        if not rows:
            self._shape = NO_SHAPE
            return
        line_end = table.find(b"\n", rows[-1].end())
        self._end = line_end + 1 + NEXT_NAME if line_end >= 0 else len(table)
        self._shape = table[: self._end].translate(AS_ZERO)


def _nothing(_table: bytes) -> tuple[bytes, ...]:
    return ()
