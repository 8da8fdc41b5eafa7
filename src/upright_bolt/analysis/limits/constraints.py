"""What holds the clock back at a moment, from live limit bits where there are any, else from the numbers."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from math import inf

from msgspec import Struct

from upright_bolt.model.constraint import Basis, Constraint

BUSY_SHARE = 30.0
"""Busy share in % of the busiest processor below which there is no work to hold back."""
NEAR_LIMIT = 0.97
"""Part of a limit from which on watts count as at it: limiters swing by two or three percent."""
OVER_LIMIT = 1.15
"""Limits of the moment are passed by so much at most, for less than a sample."""
NEAR_CLOCK_MHZ = 60.0
"""Clocks are set in steps of 100 MHz and read as averages: within about half a step counts as at it."""
NEAR_CEILING_C = 1.5
HEAT_LAG_C = 12.0
"""What throttles has been hot a moment ago: a sensor read afterwards lies below the ceiling, but not by more."""

Limits = Sequence[tuple[Constraint, float | None]]
"""Limits on watts, by what they are; None where not known."""
NO_WATTS: Limits = ()


class Readings(Struct):
    """What is known at a moment, of all cores or of one kind; None where not measured. Made for every sample.

    Attributes:
        busiest: share of the busiest processor in %.
        busy_cores: how many cores are at work, which chooses the row of the turbo table.
        clock_mhz: mean clock of the busy processors.
        power_w: package watts.
        limits: limits of the package in force, in W, in the order of their constraints.
        average_w: what the limiter's moving average may be at most.
        board_w, board_limit_w: watts of the whole board, and the limit on them.
        temp_c: package temperature.
        ceiling_c: the temperature at which the processor throttles.
        throttled: a throttle counter has grown since the last sample.
        cap_mhz: highest clock allowed by settings.
        turbo_table_mhz: highest clock by number of active cores.
        highest_mhz: highest clock of these cores, for want of a table.
        lowest_mhz: lowest clock that the processor works at.
        reasons: constraints by the processor's live bits.
    """

    busiest: float | None
    busy_cores: int | None = None
    clock_mhz: float | None = None
    power_w: float | None = None
    limits: Limits = NO_WATTS
    average_w: float | None = None
    board_w: float | None = None
    board_limit_w: float | None = None
    temp_c: float | None = None
    ceiling_c: float | None = None
    throttled: bool = False
    cap_mhz: float | None = None
    turbo_table_mhz: tuple[float, ...] = ()
    highest_mhz: float | None = None
    lowest_mhz: float | None = None
    reasons: frozenset[Constraint] = frozenset()


def held_by(now: Readings) -> Constraint:
    """Return the one constraint that holds the clock back; "unknown" if nothing explains it.

    None is named that the numbers of the moment contradict, whatever the processor's bits say: bits are set for what
    happened between two samples. Of several limits that the watts touch, the lowest holds.
    """
    if now.busiest is None:
        return Constraint.UNKNOWN
    # Before all else: a clock that nobody asked to be high is held back by nothing.
    if now.busiest < BUSY_SHARE:
        return Constraint.NO_WORK
    touched = _touched(now)
    # Bits first, as the processor knows; but only as far as its own numbers agree.
    if now.reasons:
        said = _from_bits(now, touched)
        if said is not None:
            return said
    if (now.throttled or _at_ceiling(now)) and _is_hot(now):
        return Constraint.HEAT
    if touched is not None:
        return touched
    table = now.highest_mhz
    if now.turbo_table_mhz:
        # The table has a row for each number of cores at work; more cores than rows share the last one.
        row = min(max(now.busy_cores or 1, 1), len(now.turbo_table_mhz)) - 1
        table = now.turbo_table_mhz[row]
    return _from_clocks(now.clock_mhz, now.cap_mhz, table) or _out_of_reach(now) or Constraint.UNKNOWN


def _out_of_reach(now: Readings) -> Constraint | None:
    """Return the sustained limit if it has pushed the clock to its lowest, and the watts lie above it all the same."""
    watts, clock, lowest = now.power_w, now.clock_mhz, now.lowest_mhz
    if watts is None or clock is None or lowest is None or clock > lowest + NEAR_CLOCK_MHZ:
        return None
    limit = _limit_of(now, Constraint.SUSTAINED)
    return Constraint.SUSTAINED if limit is not None and watts > limit else None


def _limit_of(now: Readings, constraint: Constraint) -> float | None:
    return next((limit for one, limit in now.limits if one is constraint), None)


def _from_bits(now: Readings, touched: Constraint | None) -> Constraint | None:
    """Return what the processor's bits say, as far as the numbers bear it out."""
    reasons = now.reasons
    # A signal from outside (PROCHOT) has no number that it could be held against.
    if Constraint.HOT_SIGNAL in reasons:
        return Constraint.HOT_SIGNAL
    if Constraint.HEAT in reasons and _is_hot(now):
        return Constraint.HEAT
    if Constraint.CURRENT in reasons:  # one bit for all that is electrical, limits on peak and board among it
        if _touches_peak(now):
            return Constraint.PEAK
        return Constraint.BOARD if _touches_board(now) else Constraint.CURRENT
    for constraint in (Constraint.BURST, Constraint.SUSTAINED):
        if constraint in reasons:
            return touched if touched is not None else _unopposed(now, constraint)
    return None


def _unopposed(now: Readings, constraint: Constraint) -> Constraint | None:
    """Return a limit that its bit alone speaks for, unless the watts speak against it."""
    limit = _limit_of(now, constraint)
    if now.power_w is None or limit is None:
        return constraint
    if constraint is not Constraint.SUSTAINED:
        return None
    # The average is met: the watts come down to it, or lie below until what was drawn before is made up for
    # Without a history, the watts of the moment are the best guess at the average.
    average = now.power_w if now.average_w is None else now.average_w
    return constraint if max(now.power_w, average) >= NEAR_LIMIT * limit else None


def _at_ceiling(now: Readings) -> bool:
    return now.temp_c is not None and now.ceiling_c is not None and now.temp_c >= now.ceiling_c - NEAR_CEILING_C


def _is_hot(now: Readings) -> bool:
    return now.temp_c is None or now.ceiling_c is None or now.temp_c >= now.ceiling_c - HEAT_LAG_C


def _touched(now: Readings) -> Constraint | None:
    """Return the lowest limit that the watts touch; None if they touch none."""
    watts, lowest, found = now.power_w, inf, None
    if watts is not None:
        for constraint, limit in now.limits:
            if limit is not None and NEAR_LIMIT * limit <= watts <= OVER_LIMIT * limit and limit < lowest:
                # Above the sustained limit a burst is under way, which that limit does not hold back.
                if constraint is Constraint.SUSTAINED and watts > limit / NEAR_LIMIT:
                    continue
                lowest, found = limit, constraint
    if found is None and now.board_w is not None and _touches_board(now):
        return Constraint.BOARD
    return found


def _touches_peak(now: Readings) -> bool:
    peak = _limit_of(now, Constraint.PEAK)
    return peak is not None and now.power_w is not None and NEAR_LIMIT * peak <= now.power_w <= OVER_LIMIT * peak


def _touches_board(now: Readings) -> bool:
    watts, limit = now.board_w, now.board_limit_w
    return watts is not None and limit is not None and NEAR_LIMIT * limit <= watts <= limit / NEAR_LIMIT


def _from_clocks(clock_mhz: float | None, cap_mhz: float | None, table_mhz: float | None) -> Constraint | None:
    if clock_mhz is None:
        return None
    # A cap above what the table allows never holds anything.
    if cap_mhz is not None and (table_mhz is None or cap_mhz < table_mhz) and _near(clock_mhz, cap_mhz):
        return Constraint.CLOCK_CAP
    if table_mhz is not None and clock_mhz >= table_mhz - NEAR_CLOCK_MHZ:
        return Constraint.TURBO_TABLE
    return None


def _near(clock_mhz: float, cap_mhz: float) -> bool:
    return abs(clock_mhz - cap_mhz) <= NEAR_CLOCK_MHZ


def bears_out(found: Basis) -> bool:
    """Tell whether the numbers of a basis speak for its constraint, or at least not against it."""
    if found.value is None or found.limit is None:
        return True
    least, most = _SPANS.get(found.constraint, (0.0, inf))
    near = found.limit - found.value if found.constraint in (Constraint.HEAT, Constraint.CLOCK_CAP) else 0.0
    within = HEAT_LAG_C if found.constraint is Constraint.HEAT else NEAR_CLOCK_MHZ
    # A clock above its cap contradicts it; a temperature above the ceiling does not.
    over = NEAR_CLOCK_MHZ if found.constraint is Constraint.CLOCK_CAP else inf
    return least * found.limit <= found.value <= most * found.limit and -over <= near <= within


_SPANS = {
    Constraint.BURST: (NEAR_LIMIT, OVER_LIMIT),
    Constraint.PEAK: (NEAR_LIMIT, OVER_LIMIT),
    Constraint.BOARD: (NEAR_LIMIT, 1.0 / NEAR_LIMIT),
    Constraint.POWER: (NEAR_LIMIT, 1.0 / NEAR_LIMIT),
}
"""Parts of a limit between which watts bear it out; those of the sustained limit are told apart in words."""


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


def basis_of(constraint: Constraint, read: Reading, *, bounds: Bounds = NO_BOUNDS, kind: str = "") -> Basis:
    """Return the numbers that speak for a constraint; a limit that they contradict is left out.

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
        Constraint.PEAK: ("power.package", read("limit.peak")),
        Constraint.BOARD: ("power.board", read("limit.board")),
        Constraint.POWER: ("power.package", read("limit.sustained")),
        Constraint.CURRENT: ("power.package", None),
        Constraint.HEAT: ("temperature.package", bounds.ceiling_c),
        Constraint.HOT_SIGNAL: ("", None),
        Constraint.NO_WORK: (f"busy.{of}", None),
        Constraint.CLOCK_CAP: (clock, bounds.cap_mhz),
    }.get(constraint, (clock, None))
    found = Basis(constraint, read(sensor) if sensor else None, limit)
    return found if bears_out(found) else replace(found, limit=None)
