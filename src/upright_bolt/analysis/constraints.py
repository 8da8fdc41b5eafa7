"""What holds the clock back at a moment, from live limit bits where there are any, else from the numbers."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from upright_bolt.model.constraint import Basis, Constraint

BUSY_SHARE = 30.0
"""Busy share in % of the busiest processor below which there is no work to hold back."""
NEAR_LIMIT = 0.97
"""Part of a limit from which on watts count as at it: limiters swing by two or three percent."""
NEAR_CLOCK_MHZ = 60.0
"""Clocks are set in steps of 100 MHz and read as averages: within about half a step counts as at it."""
NEAR_CEILING_C = 1.5


_LIVE_ORDER = (Constraint.HOT_SIGNAL, Constraint.HEAT, Constraint.CURRENT, Constraint.BURST, Constraint.SUSTAINED)


@dataclass(slots=True)
class Readings:
    """What is known at a moment, of all cores or of one kind; None where not measured. Not frozen, for speed.

    Attributes:
        busiest: share of the busiest processor in %.
        busy_cores: how many cores are at work, which chooses the row of the turbo table.
        clock_mhz: mean clock of the busy processors.
        power_w, sustained_w, burst_w: package watts, and the limits in force.
        temp_c: package temperature.
        ceiling_c: the temperature at which the processor throttles.
        throttled: a throttle counter has grown since the last sample.
        cap_mhz: highest clock allowed by settings.
        turbo_table_mhz: highest clock by number of active cores.
        highest_mhz: highest clock of these cores, for want of a table.
        reasons: constraints by the processor's live bits.
    """

    busiest: float | None
    busy_cores: int | None = None
    clock_mhz: float | None = None
    power_w: float | None = None
    sustained_w: float | None = None
    burst_w: float | None = None
    temp_c: float | None = None
    ceiling_c: float | None = None
    throttled: bool = False
    cap_mhz: float | None = None
    turbo_table_mhz: tuple[float, ...] = ()
    highest_mhz: float | None = None
    reasons: frozenset[Constraint] = frozenset()


def held_by(now: Readings) -> Constraint:
    """Return the one constraint that holds the clock back; "unknown" if nothing explains it."""
    if now.busiest is None:
        return Constraint.UNKNOWN
    if now.busiest < BUSY_SHARE:
        return Constraint.NO_WORK
    if now.reasons:
        for constraint in _LIVE_ORDER:
            if constraint in now.reasons:
                return constraint
    near_ceiling = now.temp_c is not None and now.ceiling_c is not None and now.temp_c >= now.ceiling_c - NEAR_CEILING_C
    if now.throttled or near_ceiling:
        return Constraint.HEAT
    table = now.highest_mhz
    if now.turbo_table_mhz:
        row = min(max(now.busy_cores or 1, 1), len(now.turbo_table_mhz)) - 1
        table = now.turbo_table_mhz[row]
    found = _from_watts(now.power_w, now.sustained_w, now.burst_w) or _from_clocks(now.clock_mhz, now.cap_mhz, table)
    return found or Constraint.UNKNOWN


def _from_watts(power_w: float | None, sustained_w: float | None, burst_w: float | None) -> Constraint | None:
    if power_w is None:
        return None
    if burst_w is not None and power_w >= NEAR_LIMIT * burst_w:
        flat = sustained_w is not None and burst_w <= sustained_w
        return Constraint.SUSTAINED if flat else Constraint.BURST
    if sustained_w is not None and NEAR_LIMIT * sustained_w <= power_w <= sustained_w / NEAR_LIMIT:
        return Constraint.SUSTAINED
    return None


def _from_clocks(clock_mhz: float | None, cap_mhz: float | None, table_mhz: float | None) -> Constraint | None:
    if clock_mhz is None:
        return None
    capped = cap_mhz is not None and (table_mhz is None or cap_mhz < table_mhz)
    if capped and cap_mhz is not None and clock_mhz >= cap_mhz - NEAR_CLOCK_MHZ:
        return Constraint.CLOCK_CAP
    if table_mhz is not None and clock_mhz >= table_mhz - NEAR_CLOCK_MHZ:
        return Constraint.TURBO_TABLE
    return None


Reading = Callable[[str], float | None]
"""Returns a sensor's number by its name; None where not measured."""


@dataclass(frozen=True, slots=True)
class Bounds:
    """What a clock and a temperature may half_width: the cap by settings, the point of throttling; None if unknown."""

    cap_mhz: float | None = None
    ceiling_c: float | None = None


NO_BOUNDS = Bounds()


def bounds_of(settings: Mapping[str, object]) -> Bounds:
    """Return the bounds that settings in force tell."""
    cap, ceiling = settings.get("clock-max"), settings.get("heat-ceiling")
    return Bounds(cap if isinstance(cap, float) else None, ceiling if isinstance(ceiling, float) else None)


def basis_of(constraint: Constraint, read: Reading, *, bounds: Bounds = NO_BOUNDS, kind: str = "") -> Basis:
    """Return the numbers that speak for a constraint.

    Args:
        constraint: what holds the clock back.
        read: numbers of the moment, or means over a stretch.
        bounds: what clock and temperature may reach.
        kind: a kind of core, whose own clock counts; empty for all.
    """
    of = kind.lower() or "mean"
    clock = f"clock.{of}"
    sensor, limit = {
        Constraint.SUSTAINED: ("power.package", read("limit.sustained")),
        Constraint.BURST: ("power.package", read("limit.burst")),
        Constraint.CURRENT: ("power.package", None),
        Constraint.HEAT: ("temperature.package", bounds.ceiling_c),
        Constraint.HOT_SIGNAL: ("", None),
        Constraint.NO_WORK: (f"busy.{of}", None),
        Constraint.CLOCK_CAP: (clock, bounds.cap_mhz),
    }.get(constraint, (clock, None))
    return Basis(constraint, read(sensor) if sensor else None, limit)
