"""Frame times that another program has written, one frame a line, in a column of a CSV file."""

import csv
import io
from math import isfinite
from pathlib import Path

from upright_bolt.disk import read_given
from upright_bolt.errors import BadInput

UNITS = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "µs": 1e-6}
SAMPLE_CHARS = 8192
MOST_BYTES = 64 << 20
"""A day of frames at 60 a second is less than a tenth of that."""


def read_frame_times(path: Path, column: str, unit: str) -> list[float]:
    """Return the frame times in s.

    Args:
        path: a file with a heading line; cells are separated by commas, semicolons or tabs.
        column: the column's heading; empty if there is but one.
        unit: s, ms or us.

    Raises:
        BadInput: no such column or unit, a cell that is not a time, or the file cannot be read.
    """
    factor = UNITS.get(unit)
    if factor is None:
        raise BadInput(f"unit: “{unit}” is not a unit of frame times; write s, ms or us.")
    text = read_given(path, MOST_BYTES).decode("utf-8-sig", "replace")
    try:
        delimiter = max(",;\t", key=text[:SAMPLE_CHARS].count)
        reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
        index = _index([cell.strip() for cell in next(reader, [])], column, path)
        return [_time(row, index, line, path) * factor for line, row in enumerate(reader, start=2) if any(row)]
    except csv.Error as fault:
        raise BadInput(f"{path} is not a table of text: {fault}.") from fault


def _index(names: list[str], column: str, path: Path) -> int:
    if not column and len(names) == 1:
        return 0
    if column in names:
        return names.index(column)
    there = ", ".join(name for name in names if name) or "none"
    said = f"column: {path.name} has no column “{column}”" if column else f"column: say which column of {path.name}"
    raise BadInput(f"{said}; it has: {there}.")


def _time(row: list[str], index: int, line: int, path: Path) -> float:
    text = row[index].strip() if index < len(row) else ""
    try:
        value = float(text.replace(",", "."))
    except ValueError:
        value = -1.0
    if not isfinite(value) or value <= 0:
        raise BadInput(f"{path.name}, line {line}: “{text}” is not a frame time above zero.")
    return value
