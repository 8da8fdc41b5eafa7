"""Busy shares from the kernel's table of processor times (``/proc/stat``).

A share is one minus the idle time that passed, over the time that passed on the machine's own clock. Only the two
idle columns are decoded: the table is the longest file of a sample. A table that stands still, as in a copy of
kernel files, measures nothing.

The kernel's own pages: Documentation/filesystems/proc, on /proc/stat.
"""

from operator import add

from upright_bolt.kernel.ports import Read

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
        self._waiting: list[int] = []
        self._columns = self._end = 1
        self._names: list[bytes] = []
        self._rows: list[int] = []

    def take(self, now_s: float, values: list[float | None]) -> None:
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
            waiting = words[columns + WAITING : end : columns]
            if waiting != self._last_waiting:  # it hardly ever changes
                self._last_waiting, self._waiting = waiting, list(map(int, waiting))
            idles = list(map(add, map(int, words[columns + IDLE : end : columns]), self._waiting))
        except ValueError:
            idles = []
        if self._last_idle and now_s > self._last_s and table != self._last_table:
            whole = 100.0 * TICK_S / (now_s - self._last_s)
            for index, new, old in zip(self._rows, idles, self._last_idle, strict=False):
                share = 100.0 - whole * (new - old)
                values[index] = share if 0.0 <= share <= 100.0 else (0.0 if share < 0.0 else 100.0)
        self._last_s, self._last_table, self._last_idle = now_s, table, idles

    def _learn(self, table: bytes) -> None:
        """Learn which rows the table has, and how many columns; the word after the last row is part of its form."""
        rows = [row.split() for row in table.split(b"\n")]
        self._columns = columns = max(len(rows[0]), WAITING + 2)
        known = [row[0] for row in rows[1:] if row and row[0] in self._index and len(row) == columns]
        self._end = end = columns * (len(known) + 1)
        self._names = table.split(None, end + 1)[columns : end + 1 : columns]
        self._rows = [self._index[name] for name in known] if self._names[: len(known)] == known else []
        self._last_idle = []
