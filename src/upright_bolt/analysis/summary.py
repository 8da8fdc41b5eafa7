"""The numbers of a run from its telemetry.

Time runs from load start; samples before it are the lead-in and count for nothing here. ``burst`` is the first
``BURST_S`` under load. ``sustained`` is the settled part: the last quarter of the run, at least ``SETTLED_LEAST_S``
long and never inside the burst; a run too short for that has no sustained numbers, and nor has one whose load changes
by design: there ``full`` says which samples show it fully loaded. Every number is a mean over time,
clocks weighted by each processor's busy share; a column that was never measured gives None.
"""

from collections.abc import Mapping
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from upright_bolt.model.constraint import CODE, ORDER, Constraint
from upright_bolt.model.run import BURST_S, SLICE_S, RunNumbers, settled_from_s
from upright_bolt.model.sensor import FAN

SPREAD_OF = {
    "clock_sustained_mhz": "clock.mean",
    "power_sustained_w": "power.package",
    "temp_sustained_c": "temperature.package",
}

HOLDING = [CODE[c] for c in Constraint if c not in (Constraint.NO_WORK, Constraint.UNKNOWN, Constraint.TURBO_TABLE)]

Floats = NDArray[np.float64]
Mask = NDArray[np.bool_]


def summarise(
    time_s: Floats,
    columns: Mapping[str, Floats],
    duration_s: float,
    score: float | None,
    score_settled: float | None = None,
    full: Mask | None = None,
) -> RunNumbers:
    """Return the numbers of a run.

    Args:
        time_s: sample times from load start in s, shape (n,), rising.
        columns: by sensor name, each of shape (n,), NaN where not measured; plus ``clock.mean`` and ``held_by``.
        duration_s: time under load.
        score: units per minute over the whole run, for the score per watt.
        score_settled: the same over the settled part.
        full: of a run whose load changes by design, the samples at full load, shape (n,).
    """
    under_load = (time_s > 0) & (time_s <= duration_s + 1e-6)
    start = settled_from_s(duration_s) if full is None else None
    settled = under_load & (time_s > start) if start is not None else np.zeros_like(under_load)
    # Work that changes by design has no burst of its own: its first seconds are a stage like any other.
    burst = under_load & (time_s <= BURST_S) if full is None else settled
    loaded = under_load if full is None else under_load & full
    power = columns.get("power.package")
    mean_power = _mean(power, under_load)
    # From the mean and not from the counter, which wraps and which some machines have not.
    energy = None if mean_power is None else mean_power * duration_s
    settled_w = _mean(power, settled)
    first_s, first_by = first_held(time_s, columns.get("held_by"), loaded)
    return RunNumbers(
        clock_burst_mhz=_mean(columns.get("clock.mean"), burst),
        clock_sustained_mhz=_mean(columns.get("clock.mean"), settled),
        power_burst_w=_mean(power, burst),
        power_sustained_w=settled_w,
        temp_max_c=_highest(columns.get("temperature.package"), under_load),
        temp_sustained_c=_mean(columns.get("temperature.package"), settled),
        fan_sustained_rpm=_mean(columns.get(FAN), settled),
        energy_j=energy,
        power_mean_w=mean_power,
        score_per_watt=score / mean_power if score is not None and mean_power else None,
        score_settled=score_settled,
        settled_per_watt=score_settled / settled_w if score_settled is not None and settled_w else None,
        constraint_share=constraint_shares(columns.get("held_by"), loaded),
        spread={
            key: means
            for key, name in SPREAD_OF.items()
            if full is None and (means := slice_means(time_s, columns.get(name), duration_s))
        },
        first_held_s=first_s,
        first_held_by=first_by,
        extra=_battery(columns, under_load),
    )


def first_held(time_s: Floats, codes: Floats | None, where: Mask) -> tuple[float | None, str]:
    """Return when something first held the clock below what its turbo table gives, and what; None if nothing did."""
    if codes is None:
        return None, ""
    indices = np.flatnonzero(where & np.isin(codes, HOLDING))
    if not indices.size:
        return None, ""
    return float(time_s[indices[0]]), ORDER[int(codes[indices[0]])].value


def _battery(columns: Mapping[str, Floats], where: Mask) -> dict[str, float]:
    """Return the mean drain, and hours to empty from full: what it holds when full over the drain.

    What it holds when full is what it holds now (hours left times drain) over its charge.
    """
    drain = _mean(columns.get("battery.drain"), where)
    if drain is None or drain <= 0.0:
        return {}
    found = {"drain_w": drain}
    hours, charge = columns.get("battery.hours"), columns.get("battery.charge")
    if hours is not None and charge is not None:
        full_wh = _mean(hours * columns["battery.drain"] / np.where(charge > 0, charge, np.nan) * 100.0, where)
        if full_wh is not None:
            found["hours_full"] = full_wh / drain
    return found


def slice_means(time_s: Floats, column: Floats | None, duration_s: float) -> list[float]:
    """Return a column's means over slices of ``SLICE_S`` after the burst; empty unless each slice was measured."""
    if column is None or duration_s < BURST_S + SLICE_S:
        return []
    edges = np.arange(BURST_S, duration_s + 1e-6, SLICE_S)
    indices = np.searchsorted(time_s, edges)
    parts = [column[a:b] for a, b in pairwise(indices)]
    # A gap in one slice would give a spread over fewer, which looks like a steadier run than it was.
    if not parts or any(not part.size or np.isnan(part).any() for part in parts):
        return []
    return [round(float(part.mean()), 4) for part in parts]


def constraint_shares(codes: Floats | None, where: Mask) -> dict[str, float]:
    """Return each constraint's share of the samples in ``where``, largest first; empty without samples."""
    if codes is None:
        return {}
    chosen = codes[where & ~np.isnan(codes)].astype(int)
    if not chosen.size:
        return {}
    counts = np.bincount(chosen, minlength=len(ORDER))
    # Stable, so that equal shares keep their order from run to run.
    order = np.argsort(-counts, kind="stable")
    return {ORDER[i].value: round(float(counts[i] / chosen.size), 4) for i in order if counts[i]}


def mean_over(time_s: Floats, column: Floats, from_s: float, to_s: float) -> float | None:
    """Return the mean of a column over a span of time, both in s; None where nothing was measured."""
    return _mean(column, (time_s >= from_s) & (time_s <= to_s))


def _mean(column: Floats | None, where: Mask) -> float | None:
    chosen = _measured(column, where)
    return float(chosen.mean()) if chosen.size else None


def _highest(column: Floats | None, where: Mask) -> float | None:
    chosen = _measured(column, where)
    return float(chosen.max()) if chosen.size else None


def _measured(column: Floats | None, where: Mask) -> Floats:
    if column is None:
        return np.empty(0)
    chosen = column[where]
    return chosen[~np.isnan(chosen)]
