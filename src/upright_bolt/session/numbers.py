"""Between samples and analysis: rows of telemetry, and the numbers of a run from them."""

from math import nan

from upright_bolt.model.constraint import CODE
from upright_bolt.model.run import RunNumbers
from upright_bolt.session.sampler import Sample

HELD_BY = "held_by"
"""Telemetry column that holds the constraint, by its place in ``Constraint``."""


def number_rows(sample: Sample) -> list[float]:
    """Return a sample as telemetry keeps it: NaN where not measured, and the constraint's number at the end."""
    return [nan if value is None else value for value in sample.values] + [CODE[sample.constraint]]


def run_numbers(
    rows: list[list[float]], columns: tuple[str, ...], start_s: float, duration_s: float, score: float | None
) -> RunNumbers:
    """Return the numbers of a run from rows of time and columns.

    Args:
        rows: time in s, then a number per column.
        columns: sensor names, and ``held_by``.
        start_s: time of the load start on the rows' clock.
        duration_s: time under load.
        score: units per minute.
    """
    import numpy as np  # noqa: PLC0415 - half of this program's commands never need it

    from upright_bolt.analysis.summary import summarise  # noqa: PLC0415 - same

    table = np.asarray(rows, dtype=np.float64).reshape(-1, len(columns) + 1)
    by_name = {name: table[:, i + 1] for i, name in enumerate(columns)}
    return summarise(table[:, 0] - start_s, by_name, duration_s, score)
