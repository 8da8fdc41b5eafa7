"""What holds the clock back at a moment, from live limit bits where there are any, else from the numbers."""

from dataclasses import dataclass

from upright_bolt.model.constraint import Constraint

IDLE_SHARE = 30.0
"""Busy share in % of the busiest processor below which there is no work to hold back."""
NEAR_LIMIT = 0.97
"""Part of a limit from which on watts count as at it: limiters swing by two or three percent."""
NEAR_CLOCK_MHZ = 60.0
"""Clocks are set in steps of 100 MHz and read as averages: within about half a step counts as at it."""
NEAR_CEILING_C = 1.5


@dataclass(frozen=True, slots=True)
class Evidence:
    """What one sample says; None where not measured. ``reasons`` are the live constraints by their bits."""

    busiest: float | None = None
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
    reasons: frozenset[Constraint] | None = None


_LIVE_ORDER = (
    Constraint.HOT_SIGNAL,
    Constraint.HEAT,
    Constraint.CURRENT,
    Constraint.BURST,
    Constraint.SUSTAINED,
)


def held_by(evidence: Evidence) -> Constraint:
    """Return the one constraint that holds the clock back; "unknown" if nothing explains it."""
    e = evidence
    if e.busiest is None:
        return Constraint.UNKNOWN
    if e.busiest < IDLE_SHARE:
        return Constraint.NO_WORK
    if e.reasons:
        for constraint in _LIVE_ORDER:
            if constraint in e.reasons:
                return constraint
    return _from_heat_and_watts(e) or _from_clocks(e) or Constraint.UNKNOWN


def _from_heat_and_watts(e: Evidence) -> Constraint | None:
    near_ceiling = e.temp_c is not None and e.ceiling_c is not None and e.temp_c >= e.ceiling_c - NEAR_CEILING_C
    if e.throttled or near_ceiling:
        return Constraint.HEAT
    if e.power_w is None:
        return None
    if e.burst_w is not None and e.power_w >= NEAR_LIMIT * e.burst_w:
        flat = e.sustained_w is not None and e.burst_w <= e.sustained_w
        return Constraint.SUSTAINED if flat else Constraint.BURST
    if e.sustained_w is not None and NEAR_LIMIT * e.sustained_w <= e.power_w <= e.sustained_w / NEAR_LIMIT:
        return Constraint.SUSTAINED
    return None


def _from_clocks(e: Evidence) -> Constraint | None:
    if e.clock_mhz is None:
        return None
    table = e.highest_mhz
    if e.turbo_table_mhz:
        place = min(max(e.busy_cores or 1, 1), len(e.turbo_table_mhz)) - 1
        table = e.turbo_table_mhz[place]
    if e.cap_mhz is not None and (table is None or e.cap_mhz < table) and e.clock_mhz >= e.cap_mhz - NEAR_CLOCK_MHZ:
        return Constraint.CLOCK_CAP
    if table is not None and e.clock_mhz >= table - NEAR_CLOCK_MHZ:
        return Constraint.TURBO_TABLE
    return None
