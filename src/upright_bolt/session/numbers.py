"""Between samples and analysis: rows of telemetry, and the numbers of a run from them."""

from array import array
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from math import nan
from statistics import fmean, stdev
from typing import TYPE_CHECKING

from upright_bolt.model.constraint import CODE, Constraint
from upright_bolt.model.run import BURST_S, WHOLE_SLICE_S, RunHead, RunNumbers, Slice, settled_from_s
from upright_bolt.model.sample import Sample
from upright_bolt.model.work import Options
from upright_bolt.session.stages import stage_numbers, stages_of

if TYPE_CHECKING:
    from upright_bolt.analysis.summary import Floats

HELD_BY = "held_by"
"""Telemetry column that holds the constraint, by its number in ``Constraint``; ``held_by.p-cores`` for one kind."""


def number_rows(sample: Sample, sensors: int, of_chip: Constraint | None = None) -> list[float]:
    """Return a sample as telemetry keeps it: NaN where not measured, and the constraints' numbers at the end.

    Args:
        sample: the sample.
        sensors: how many the run has columns for: those of a chip that came later are left out.
        of_chip: what held the graphics chip, where nothing but that has worked.
    """
    held = (of_chip or sample.constraint, *sample.kinds)
    return [nan if value is None else value for value in sample.values[:sensors]] + [
        CODE[constraint] for constraint in held
    ]


def is_held(column: str) -> bool:
    """Tell whether a telemetry column holds constraints."""
    return column.partition(".")[0] == HELD_BY


def held_columns(kinds: Sequence[str]) -> tuple[str, ...]:
    """Return the names of the columns that hold constraints: of all cores, then of each kind."""
    return (HELD_BY, *(f"{HELD_BY}.{kind.lower()}" for kind in kinds))


class Rows:
    """The samples of a run, one after another in one block: a run may last a day, and lists would take much more.

    Args:
        width: numbers in a row: its time, then one for each column.
    """

    def __init__(self, width: int) -> None:
        self._width = width
        self._flat = array("d")

    def __len__(self) -> int:
        return len(self._flat) // self._width

    def __getitem__(self, index: int) -> "array[float]":
        at = range(len(self))[index] * self._width
        return self._flat[at : at + self._width]

    def __iter__(self) -> "Iterator[array[float]]":
        return (self[i] for i in range(len(self)))

    def append(self, row: Iterable[float]) -> None:
        """Add a row of ``width`` numbers."""
        self._flat.extend(row)

    def forget_before(self, time_s: float) -> None:
        """Drop the rows before a time."""
        first = next((i for i in range(len(self)) if self[i][0] >= time_s), len(self))
        del self._flat[: first * self._width]

    def table(self) -> "Floats":
        """Return all rows as an array of shape ``(rows, width)``. It has to be let go of before the next row comes."""
        import numpy as np  # noqa: PLC0415 - half of this program's commands never need it

        # a view of the block, which cannot grow as long as somebody looks at it
        return np.frombuffer(self._flat, dtype=float).reshape(-1, self._width)


def run_numbers(
    table: "Floats",
    columns: tuple[str, ...],
    start_s: float,
    duration_s: float,
    score: float | None,
    score_settled: float | None = None,
    work: tuple[str, Options] = ("steady", Options()),
) -> RunNumbers:
    """Return the numbers of a run from rows of time and columns.

    Args:
        table: of shape ``(rows, 1 + columns)``: time in s, then a number per column.
        columns: sensor names, and ``held_by``.
        start_s: time of the load start on the same clock.
        duration_s: time under load.
        score: units per minute.
        score_settled: the same over the settled part.
        work: the workload's name and options: the load of some changes by design.
    """
    from upright_bolt.analysis.summary import summarise  # noqa: PLC0415 - brings numpy along

    by_name = {name: table[:, i + 1] for i, name in enumerate(columns)}
    time_s = table[:, 0] - start_s
    stages = stages_of(*work, time_s)
    full = None if stages is None else stages.full
    found = summarise(time_s, by_name, duration_s, score, score_settled, full)
    if stages is None:
        return found
    return replace(found, extra=found.extra | stage_numbers(stages, by_name))


GRAPHICS_FIGURES = {"clock": "graphics_mhz", "power": "graphics_w", "temperature": "graphics_c"}
"""What a run of a graphics chip is told of it, by the kind of its sensor: means over the settled part of the load."""


def graphics_numbers(
    table: "Floats", head: RunHead, start_s: float, duration_s: float, score: float | None
) -> dict[str, float]:
    """Return the numbers of the graphics chip that a run worked on; none if it worked on none.

    Args:
        table: of shape ``(rows, 1 + columns)``, as for ``run_numbers``.
        head: of the run.
        start_s: time of the load start on the table's clock.
        duration_s: time under load.
        score: frames a minute.
    """
    if not head.options.chip or score is None:
        return {}
    from upright_bolt.analysis.summary import mean_over  # noqa: PLC0415 - brings numpy along

    from_s = settled_from_s(duration_s) or duration_s / 2.0
    found = {}
    for kind, key in GRAPHICS_FIGURES.items():
        name = f"{head.options.chip}.{kind}"
        if name in head.columns:
            column = table[:, head.columns.index(name) + 1]
            mean = mean_over(table[:, 0] - start_s, column, from_s, duration_s)
            if mean is not None:
                found[key] = mean
    if found.get("graphics_w", 0.0) > 0.0:
        found["frames_per_watt"] = score / found["graphics_w"]
    return found


def without_the_processor_s(numbers: RunNumbers) -> RunNumbers:
    """Return the numbers of a run whose work was done on a chip with watts of its own, without those per watt."""
    return replace(numbers, score_per_watt=None, settled_per_watt=None, energy_per_unit_j=None)


def with_work(
    numbers: RunNumbers,
    units: float,
    slices: Sequence[Slice],
    extra: dict[str, float] | None = None,
    others: dict[str, float] | None = None,
    resting_j: float | None = 0.0,
) -> RunNumbers:
    """Return the numbers with those that come of the work itself.

    Args:
        numbers: from telemetry.
        units: done under load; 0 if the workload counts none.
        slices: of the run, in their order.
        extra: numbers of the workload alone.
        others: what else was running.
        resting_j: what the machine would have drawn at rest over the same time, which is not the work's; None if that
            is not known, so that the energy of a unit is not either.
    """
    of_work_j = None if numbers.energy_j is None or resting_j is None else numbers.energy_j - resting_j
    paces = [part.score for part in slices if part.from_s >= BURST_S and part.to_s - part.from_s >= WHOLE_SLICE_S]
    settled = len(paces) > 1 and fmean(paces) > 0
    return replace(
        numbers,
        energy_per_unit_j=of_work_j / units if of_work_j is not None and units > 0 else None,
        pace_spread=100.0 * stdev(paces) / fmean(paces) if settled else None,
        extra={**numbers.extra, **(extra or {})},
        others=others or {},
    )
