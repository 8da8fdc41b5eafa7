"""Busy shares from the kernel's table of processor times (``/proc/stat``).

A share is one minus the idle time that passed, over the time that passed on the machine's own clock. The table is the
longest file of a sample, so only the two idle columns are decoded, from where they were found: as long as the table has
the same shape, which is the same with each digit as a 0, they stand at the same bytes. Under full load, when a sample
must cost least, no processor has been idle and nothing needs to be decoded. A table that stands still, as in a copy of
kernel files, measures nothing.

The kernel's own pages: Documentation/filesystems/proc, on /proc/stat.
"""

import re
from operator import sub
from struct import Struct

from upright_bolt.kernel.ports import Read
from upright_bolt.kernel.sensors.number_sweep import read_or_nothing
from upright_bolt.model.sample import Numbers

TICK_S = 0.01  # USER_HZ is 100 on every architecture this program runs on
ROW_BYTES = 160
"""Room for one row; the table begins with them, and what follows them is not read."""
ROW = re.compile(rb"^(cpu\d+ )(?: *\d+ ){3}( *\d+ )( *\d+ )", re.MULTILINE)
"""A processor's row: its name, and after three other columns the time idle and the time waiting for a disk."""
NEXT_NAME = 4
"""Bytes of what comes after the last row that tell whether it is one more."""
NO_SHAPE = b"1"
"""That of no table, since it has a digit."""
AS_ZERO = bytes.maketrans(b"123456789", b"000000000")
NAMES, IDLE, WAITING = slice(0, -1, 3), slice(1, -1, 3), slice(2, -1, 3)
"""Where the rows' names, times idle and times waiting stand in what is cut out; what comes after the rows is last."""


class BusyShares:
    """Decodes the table.

    Args:
        read: reads the table.
        index: logical processor to its index in a sample.
    """

    def __init__(self, read: Read, index: dict[int, int]) -> None:
        self._read = read
        self._index = {b"cpu%d " % cpu: i for cpu, i in index.items()}
        self._last_s = 0.0
        self._last_table = b""
        self._shape, self._end = NO_SHAPE, 0
        self._cut = Struct("")
        self._names: tuple[bytes, ...] = ()
        self._last_words: tuple[bytes, ...] = ()
        self._last_idle: list[float] = []
        self._all_busy: Numbers = []
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
        words = self._cut.unpack_from(table) if len(table) >= self._cut.size else ()
        if words and words == self._last_words:
            shares = self._all_busy
        else:
            shares = self._shares(self._words(table, words), seconds)
        if not shares or seconds <= 0.0:
            return
        if self._side_by_side:
            values[self._rows[0] : self._rows[-1] + 1] = shares
        else:
            for index, share in zip(self._rows, shares, strict=True):
                values[index] = share

    def _words(self, table: bytes, words: tuple[bytes, ...]) -> tuple[bytes, ...]:
        """Return what was cut out of the table, cut anew if names and times stand elsewhere by now."""
        if words[NAMES] == self._names and table[: self._end].translate(AS_ZERO) == self._shape:
            return words
        self._learn(table)
        return self._cut.unpack_from(table)

    def _shares(self, words: tuple[bytes, ...], seconds: float) -> Numbers:
        """Return the shares by row; none where the rows were others before.

        Waiting for the disk is idle time too. It hardly ever changes, so it is decoded only when it does.
        """
        before, self._last_words = self._last_words, words
        idle = list(map(float, words[IDLE]))
        last, self._last_idle = self._last_idle, idle
        # A processor has come or gone, so rows stand elsewhere.
        if not last or len(last) != len(idle) or seconds <= 0.0:
            return []
        passed = list(map(sub, idle, last))
        waiting, waited = words[WAITING], before[WAITING]
        if waiting != waited:
            passed = [ticks + float(new) - float(old) for ticks, new, old in zip(passed, waiting, waited, strict=True)]
        percent = 100.0 * TICK_S / seconds
        shares: Numbers = [100.0 - percent * ticks for ticks in passed]
        # The kernel's idle time may step back a tick, or be ahead of this clock (Documentation/filesystems/proc.rst).
        if min(passed) >= 0.0 and percent * max(passed) <= 100.0:
            return shares
        return [min(max(100.0 - percent * ticks, 0.0), 100.0) for ticks in passed]

    def _learn(self, table: bytes) -> None:
        """Learn where the rows' names and idle times stand."""
        rows = [row for row in ROW.finditer(table) if row[1] in self._index]
        names = tuple(row[1] for row in rows)
        if names != self._names:
            self._last_words, self._last_idle = (), []
        self._names, self._rows = names, [self._index[name] for name in names]
        self._all_busy = [100.0] * len(rows)
        self._side_by_side = bool(rows) and self._rows == list(range(self._rows[0], self._rows[-1] + 1))
        if not rows:
            self._shape, self._cut = NO_SHAPE, Struct("")
            return
        after = table.find(b"\n", rows[-1].end()) + 1 or len(table)
        self._end = min(after + NEXT_NAME, len(table))
        self._shape = table[: self._end].translate(AS_ZERO)
        self._cut = _cutting([*(row.span(group) for row in rows for group in (1, 2, 3)), (after, self._end)])


def _cutting(spans: list[tuple[int, int]]) -> Struct:
    """Return what cuts spans out of bytes."""
    starts = [0, *(end for _, end in spans)]
    return Struct("".join(f"{start - gap}x{end - start}s" for gap, (start, end) in zip(starts, spans, strict=False)))
