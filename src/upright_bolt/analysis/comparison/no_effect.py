"""Settings that change nothing, since another one holds first: what is drafted or set is told so."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from enum import StrEnum

from upright_bolt.model.catalogue import FIRMWARE_LIMITS, TOGETHER
from upright_bolt.model.control import Value

LEAST_W = 0.05


class Why(StrEnum):
    """Why a setting has no effect."""

    ABOVE_BURST = "above-burst"
    """A sustained limit above the burst limit: the burst limit holds at every moment."""
    NO_BURST = "no-burst"
    """A window, while the burst limit leaves no burst to last."""
    BEYOND_PEAK = "beyond-peak"
    NOT_ENFORCED = "not-enforced"
    ABOVE_CLOCK = "above-clock"
    """A turbo table above the highest clock."""
    TURBO_OFF = "turbo-off"
    """A turbo table while turbo is off."""
    ALONE_ON_RAIL = "alone-on-rail"
    """One of two offsets that count together where core and cache share a rail: the weaker one counts."""


@dataclass(frozen=True, slots=True)
class NoEffect:
    """A setting without effect, its value, and the control and value that hold first (empty and None for none)."""

    name: str
    value: Value
    why: Why
    by: str = ""
    by_value: Value | None = None


def without_effect(asked: Collection[str], after: Mapping[str, Value | None]) -> tuple[NoEffect, ...]:
    """Return which of the asked settings have no effect, or have taken it from another.

    Args:
        asked: names of what is set.
        after: every control with the value that it will have.
    """
    found = _of_limits(asked, after)
    if "turbo-table" in asked:
        found += _of_clocks(after)
    if [name for name in TOGETHER if name in asked]:
        found += _of_offsets(after)
    return tuple(found)


def _of_limits(asked: Collection[str], after: Mapping[str, Value | None]) -> list[NoEffect]:
    if after.get("limiter") == "off":
        named = [name for name in FIRMWARE_LIMITS if name in asked]
        return [NoEffect(n, v, Why.NOT_ENFORCED, "limiter", "off") for n in named if (v := after.get(n)) is not None]
    found = []
    sustained, burst, peak = [
        w if isinstance(w := after.get(n), float) else None for n in ("sustained", "burst", "peak")
    ]
    if sustained is not None and burst is not None and sustained > burst + LEAST_W:
        if "sustained" in asked or "burst" in asked:
            found.append(NoEffect("sustained", sustained, Why.ABOVE_BURST, "burst", burst))
    elif sustained is not None and burst is not None and "window" in asked and burst <= sustained + LEAST_W:
        found.append(NoEffect("window", after.get("window") or 0.0, Why.NO_BURST, "burst", burst))
    for name, limit in (("sustained", sustained), ("burst", burst)):
        if limit is not None and peak is not None and limit > peak + LEAST_W and (name in asked or "peak" in asked):
            found.append(NoEffect(name, limit, Why.BEYOND_PEAK, "peak", peak))
    return found


def _of_offsets(after: Mapping[str, Value | None]) -> list[NoEffect]:
    offsets = sorted((mv, name) for name in TOGETHER if isinstance(mv := after.get(name), float))
    if len(offsets) < len(TOGETHER):
        return []
    (deeper_mv, deeper), (counting_mv, counting) = offsets
    if deeper_mv >= counting_mv:
        return []
    return [NoEffect(deeper, deeper_mv, Why.ALONE_ON_RAIL, counting, counting_mv)]


def _of_clocks(after: Mapping[str, Value | None]) -> list[NoEffect]:
    table, high = after.get("turbo-table"), after.get("clock-max")
    if not isinstance(table, str):
        return []
    if after.get("turbo") == "off":
        return [NoEffect("turbo-table", table, Why.TURBO_OFF, "turbo", "off")]
    rows = [float(part) for part in table.split(",") if part.strip()]
    if isinstance(high, float) and rows and min(rows) >= high:
        return [NoEffect("turbo-table", table, Why.ABOVE_CLOCK, "clock-max", high)]
    return []
