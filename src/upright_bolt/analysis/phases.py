"""The phases of a run, found from its own watts and clocks: the burst, if there is one, and what follows it."""

from collections.abc import Mapping
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from upright_bolt.analysis.limits.constraints import NO_BOUNDS, Bounds, basis_of
from upright_bolt.analysis.summary import Floats, Mask, constraint_shares
from upright_bolt.model.constraint import CODE, Basis, Constraint

ABOVE = 1.06
"""A burst draws at least this much more than what follows; limiters swing by two or three percent."""
SMOOTH = 5
"""Samples over which a reading is smoothed (median) before it is looked at."""
SHORTEST_S = 2.0
BURST, SUSTAINED, WHOLE, FULL = "burst", "sustained", "whole", "full load"
LEAST_SHARE = 0.02


@dataclass(frozen=True, slots=True)
class Held:
    """A constraint in a phase: of all cores or of one kind, its share of the time, since when, and what speaks for it.

    ``share`` is 0 to 1, ``since_s`` from load start.
    """

    kind: str
    constraint: str
    share: float
    since_s: float
    basis: Basis


@dataclass(frozen=True, slots=True)
class Phase:
    """A stretch of a run, times in s from load start; numbers are means over it, None where not measured."""

    name: str
    from_s: float
    to_s: float
    clock_mhz: float | None
    power_w: float | None
    temp_c: float | None
    temp_max_c: float | None
    constraint_share: dict[str, float]
    held: tuple[Held, ...] = ()


def whole(
    time_s: Floats,
    columns: Mapping[str, Floats],
    duration_s: float,
    *,
    bounds: Bounds = NO_BOUNDS,
    full: Mask | None = None,
) -> tuple[Phase, ...]:
    """Return the run as one phase: for work that asks for more and less by itself.

    Args:
        time_s: as for ``find``, and so the three that follow.
        columns: by sensor name.
        duration_s: time under load.
        bounds: of settings.
        full: of work whose load changes by design, the samples at full load, shape (n,): the phase is made of those.
    """
    under_load = time_s > 0 if full is None else (time_s > 0) & full
    if not under_load.any():
        return ()
    name = WHOLE if full is None else FULL
    return (_phase(name, 0.0, duration_s, time_s, columns, bounds, under_load),)


def find(
    time_s: Floats, columns: Mapping[str, Floats], duration_s: float, *, bounds: Bounds = NO_BOUNDS
) -> tuple[Phase, ...]:
    """Return the phases of a run.

    The end of the burst is where the smoothed watts (or, without them, the clock) first come down to within 6 % of the
    median of the run's last third, and stay there to the end.

    Args:
        time_s: sample times from load start, shape (n,), rising.
        columns: by sensor name, each of shape (n,), NaN where not measured.
        duration_s: time under load.
        bounds: highest clock and temperature that settings allowed.
    """
    # The last sample is taken as the load ends, with the rounding of a clock.
    under_load = (time_s > 0) & (time_s <= duration_s + 1e-6)
    if not under_load.any():
        return ()
    end = _burst_end(time_s[under_load], columns, under_load)
    cuts = [(SUSTAINED, 0.0, duration_s)] if end is None else [(BURST, 0.0, end), (SUSTAINED, end, duration_s)]
    return tuple(_phase(name, a, b, time_s, columns, bounds) for name, a, b in cuts)


def _burst_end(time_s: Floats, columns: Mapping[str, Floats], under_load: Mask) -> float | None:
    # Watts first: a burst is the power limiter's doing, while clocks also fall by heat.
    for name in ("power.package", "clock.mean"):
        column = columns.get(name)
        if column is None:
            continue
        known = ~np.isnan(column[under_load])
        if known.sum() < 3 * SMOOTH:
            continue
        times, smooth = time_s[known], _smoothed(column[under_load][known])
        level = float(np.median(smooth[-len(smooth) // 3 :]))
        above = np.flatnonzero(smooth > ABOVE * level)
        # A burst begins with the load and is over before the end; what rises later is something else.
        if not above.size or above[0] > SMOOTH or above[-1] + 1 >= len(times):
            return None
        end = float(times[above[-1] + 1])
        return end if end >= SHORTEST_S else None
    return None


def _smoothed(values: Floats) -> Floats:
    # A median, as a mean would smear the edge that is looked for.
    padded = np.pad(values, SMOOTH // 2, mode="edge")
    return np.asarray(np.median(np.lib.stride_tricks.sliding_window_view(padded, SMOOTH), axis=1))


def _phase(
    name: str,
    from_s: float,
    to_s: float,
    time_s: Floats,
    columns: Mapping[str, Floats],
    bounds: Bounds,
    within: Mask | None = None,
) -> Phase:
    where = (time_s > from_s) & (time_s <= to_s + 1e-6)
    if within is not None:
        where &= within

    def measured(sensor: str) -> Floats:
        column = columns.get(sensor)
        return np.empty(0) if column is None else column[where][~np.isnan(column[where])]

    clock, power, temp = (measured(sensor) for sensor in ("clock.mean", "power.package", "temperature.package"))
    return Phase(
        name, from_s, to_s, _mean(clock), _mean(power), _mean(temp), float(temp.max()) if temp.size else None,
        constraint_shares(columns.get("held_by"), where), _held(time_s, columns, where, bounds),
    )  # fmt: skip


def _held(time_s: Floats, columns: Mapping[str, Floats], where: Mask, bounds: Bounds) -> tuple[Held, ...]:
    """Return what held all cores, then each kind, with the means of the samples in which it did."""
    found = []
    for column, codes in columns.items():
        head, _, kind = column.partition(".")
        if head != "held_by":
            continue
        for word, share in constraint_shares(codes, where).items():
            if share < LEAST_SHARE:
                continue
            constraint = Constraint(word)
            indices = np.flatnonzero(where & (codes == CODE[constraint]))
            read = partial(_mean_at, columns, indices)
            said = basis_of(constraint, read, bounds=bounds, kind=kind)
            found.append(Held(kind, word, share, float(time_s[indices[0]]), said))
    return tuple(found)


def _mean_at(columns: Mapping[str, Floats], indices: NDArray[np.intp], name: str) -> float | None:
    column = columns.get(name)
    return None if column is None else _mean(column[indices][~np.isnan(column[indices])])


def _mean(values: Floats) -> float | None:
    return float(values.mean()) if values.size else None


def at_most(count: int, *columns: Floats) -> tuple[Floats, ...]:
    """Return every so many-th row of columns, so that about ``count`` are left: more bands cannot be told apart."""
    step = max(1, -(-columns[0].size // count))
    return tuple(column[::step] for column in columns)
