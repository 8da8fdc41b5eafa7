"""Busy shares from the kernel's table of processor times (``/proc/stat``).

A share is one minus the idle time that passed, over the time that passed on the machine's own clock. Only the two
idle columns are decoded: the table is the longest file of a sample. A table that stands still, as in a copy of
kernel files, measures nothing.

The kernel's own pages: Documentation/filesystems/proc, on /proc/stat.
"""

from operator import sub

from upright_bolt.kernel.ports import Read
from upright_bolt.model.sample import Numbers

TICK_S = 0.01  # USER_HZ is 100 on every architecture this program runs on
ROW_BYTES = 160
"""Room for one row; the table begins with them, and what follows them is not read."""
IDLE, WAITING = 4, 5
"""Columns of a row that count idle time; the first is the processor's name."""


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
        self._last_waiting: list[bytes] = []
        self._columns = self._end = 1
        self._names: list[bytes] = []
        self._rows: list[int] = []
        self._side_by_side = False

    def take(self, now_s: float, values: Numbers) -> None:
        """Fill the shares in % since the last call into ``values``.

        When processors have come or gone, rows are matched to them anew and this call gives no shares.
        """
        try:
            table = self._read()
        except OSError:
            table = b""
        columns, end = self._columns, self._end
        words = table.split(None, end + 1)
        if words[columns : end + 1 : columns or 1] != self._names:
            self._learn(table)
            columns, end = self._columns, self._end
            words = table.split(None, end + 1)
        try:
            idle = list(map(int, words[columns + IDLE : end : columns]))
            passed = self._idle_passed(idle, words[columns + WAITING : end : columns])
        except ValueError:
            idle, passed = [], []
        if passed and now_s > self._last_s and table != self._last_table:
            whole = 100.0 * TICK_S / (now_s - self._last_s)
            shares: Numbers = [
                part if 0.0 <= (part := 100.0 - whole * ticks) <= 100.0 else (0.0 if part < 0.0 else 100.0)
                for ticks in passed
            ]
            if self._side_by_side:
                values[self._rows[0] : self._rows[-1] + 1] = shares
            else:
                for index, share in zip(self._rows, shares, strict=True):
                    values[index] = share
        self._last_s, self._last_table, self._last_idle = now_s, table, idle

    def _idle_passed(self, idle: list[int], waiting: list[bytes]) -> list[int]:
        """Return the idle ticks since the last call by row; none where the rows were others then.

        Waiting for the disk is idle time too. It hardly ever changes, so it is decoded only when it does.
        """
        last, self._last_waiting, before = self._last_idle, waiting, self._last_waiting
        if len(last) != len(self._rows) or len(idle) != len(self._rows):
            return []
        passed = list(map(sub, idle, last))
        if waiting == before:
            return passed
        return [ticks + int(new) - int(old) for ticks, new, old in zip(passed, waiting, before, strict=True)]

    def _learn(self, table: bytes) -> None:
        """Learn which rows the table has, and how many columns; the word after the last row is part of its form."""
        rows = [row.split() for row in table.split(b"\n")]
        self._columns = columns = max(len(rows[0]), WAITING + 2)
        known = [row[0] for row in rows[1:] if row and row[0] in self._index and len(row) == columns]
        self._end = end = columns * (len(known) + 1)
        self._names = table.split(None, end + 1)[columns : end + 1 : columns]
        self._rows = [self._index[name] for name in known] if self._names[: len(known)] == known else []
        self._side_by_side = self._rows == list(range(min(self._rows, default=0), max(self._rows, default=-1) + 1))
        self._last_idle = []
