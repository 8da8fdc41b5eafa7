"""What holds the clock back at a moment, from live limit bits where there are any, else from the numbers."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from upright_bolt.model.constraint import Constraint
from upright_bolt.model.quantity import CLOCK, POWER, TEMPERATURE, Quantity

BUSY_SHARE = 30.0
"""Busy share in % of the busiest processor below which there is no work to hold back."""
NEAR_LIMIT = 0.97
"""Part of a limit from which on watts count as at it: limiters swing by two or three percent."""
NEAR_CLOCK_MHZ = 60.0
"""Clocks are set in steps of 100 MHz and read as averages: within about half a step counts as at it."""
NEAR_CEILING_C = 1.5


_LIVE_ORDER = (Constraint.HOT_SIGNAL, Constraint.HEAT, Constraint.CURRENT, Constraint.BURST, Constraint.SUSTAINED)


def held_by(
    busiest: float | None,
    *,
    busy_cores: int | None = None,
    clock_mhz: float | None = None,
    power_w: float | None = None,
    sustained_w: float | None = None,
    burst_w: float | None = None,
    temp_c: float | None = None,
    ceiling_c: float | None = None,
    throttled: bool = False,
    cap_mhz: float | None = None,
    turbo_table_mhz: tuple[float, ...] = (),
    highest_mhz: float | None = None,
    reasons: frozenset[Constraint] | None = None,
) -> Constraint:
    """Return the one constraint that holds the clock back; "unknown" if nothing explains it.

    Every argument is None where not measured.

    Args:
        busiest: share of the busiest processor in %.
        busy_cores: how many cores are at work, which chooses the row of the turbo table.
        clock_mhz: mean clock of the busy processors.
        power_w: package watts.
        sustained_w: the sustained limit in force.
        burst_w: the burst limit in force.
        temp_c: package temperature.
        ceiling_c: the temperature at which the processor throttles.
        throttled: a throttle counter has grown since the last sample.
        cap_mhz: highest clock allowed by settings.
        turbo_table_mhz: highest clock by number of active cores.
        highest_mhz: highest clock of the machine, for want of a table.
        reasons: constraints by the processor's live bits.
    """
    if busiest is None:
        return Constraint.UNKNOWN
    if busiest < BUSY_SHARE:
        return Constraint.NO_WORK
    if reasons:
        for constraint in _LIVE_ORDER:
            if constraint in reasons:
                return constraint
    near_ceiling = temp_c is not None and ceiling_c is not None and temp_c >= ceiling_c - NEAR_CEILING_C
    if throttled or near_ceiling:
        return Constraint.HEAT
    table = highest_mhz
    if turbo_table_mhz:
        table = turbo_table_mhz[min(max(busy_cores or 1, 1), len(turbo_table_mhz)) - 1]
    found = _from_watts(power_w, sustained_w, burst_w) or _from_clocks(clock_mhz, cap_mhz, table)
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
    """What a clock and a temperature may reach: the cap by settings, the point of throttling; None if unknown."""

    cap_mhz: float | None = None
    ceiling_c: float | None = None


NO_BOUNDS = Bounds()


def bounds_of(settings: Mapping[str, object]) -> Bounds:
    """Return the bounds that settings in force tell."""
    cap, ceiling = settings.get("clock-max"), settings.get("heat-ceiling")
    return Bounds(cap if isinstance(cap, float) else None, ceiling if isinstance(ceiling, float) else None)


def evidence(
    constraint: Constraint,
    read: Reading,
    *,
    bounds: Bounds = NO_BOUNDS,
    kind: str = "",
) -> str:
    """Return what speaks for a constraint, e.g. ``"18.0 W of 18 W"``; empty where no number does.

    Args:
        constraint: what holds the clock back.
        read: numbers of the moment, or means over a stretch.
        bounds: what clock and temperature may reach.
        kind: a kind of core, whose own clock counts; empty for all.
    """
    power, clock = read("power.package"), read(f"clock.{kind.lower() or 'mean'}")
    words = ""
    match constraint:
        case Constraint.SUSTAINED | Constraint.BURST:
            limit = read("limit.sustained" if constraint is Constraint.SUSTAINED else "limit.burst")
            words = _of(power, limit, POWER)
        case Constraint.HEAT:
            words = _of(read("temperature.package"), bounds.ceiling_c, TEMPERATURE)
        case Constraint.CURRENT:
            words = "" if power is None else f"its bit is set, at {power:.1f} W"
        case Constraint.HOT_SIGNAL:
            words = "another part of the machine asks for it"
        case Constraint.TURBO_TABLE:
            words = "" if clock is None else f"{CLOCK.show(clock)}, as high as the table goes"
        case Constraint.CLOCK_CAP:
            words = _of(clock, bounds.cap_mhz, CLOCK)
        case Constraint.NO_WORK:
            busy = read(f"busy.{kind.lower() or 'mean'}")
            words = "" if busy is None else f"busy for {busy:.0f} % of the time"
        case _:
            words = "" if clock is None else f"nothing that is measured explains {CLOCK.show(clock)}"
    return words


def _of(value: float | None, limit: float | None, quantity: Quantity) -> str:
    if value is None:
        return ""
    shown = CLOCK.show(value) if quantity is CLOCK else f"{value:.1f} {quantity.unit}"
    return shown if limit is None else f"{shown} of {quantity.show(limit)}"
