"""Tells, sample by sample, what holds the clock back: of all cores, and of each kind where there are several.

Reading is somebody else's work: this gets numbers. It remembers the throttle counters and the sticky bits of the
sample before, since only what has grown since then counts.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import compress
from math import exp
from operator import itemgetter

from upright_bolt.analysis.limits.constraints import BUSY_SHARE, NO_WATTS, Limits, Readings, held_by
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.machine import Topology
from upright_bolt.model.sample import Numbers
from upright_bolt.model.sensor import Sensor, SensorKind, by_processor, index_of, span_of

USUAL_WINDOW_S = 28.0
"""Averaging time of limiters that do not tell theirs."""


def averaged(before_w: float, watts: float, seconds: float, window_s: float) -> float:
    """Return the average after ``watts`` were drawn for ``seconds``.

    An exponential average of time constant ``window_s``, as in the kernel's Documentation/power/powercap on constraints
    with a time window.
    """
    kept = exp(-max(0.0, seconds) / window_s)
    return before_w * kept + watts * (1.0 - kept)


LIVE_BITS, LOGGED_BITS, STATUS_BITS = "limit.reasons", "limit.log", "limit.status"
"""Sensors that hold the processor's own bits."""
PICKED = ("clock.mean", "power.package", "temperature.package", "power.board", "limit.board", "limit.window")
LIMITS = {
    Constraint.SUSTAINED: "limit.sustained",
    Constraint.BURST: "limit.burst",
    Constraint.PEAK: "limit.peak",
}
NOTHING_SAID: frozenset[Constraint] = frozenset()
UNSEEN = 3.0
"""What was drawn before the first sample may have been so many times the limit: in a burst, or before it was set."""
BitMeanings = tuple[tuple[Constraint, int], ...]


@dataclass(frozen=True, slots=True)
class FixedLimits:
    """What does not change from sample to sample, None or empty where unknown.

    Attributes:
        ceiling_c: temperature at which the processor throttles.
        turbo_table_mhz: highest clock by number of active cores.
        highest_mhz, lowest_mhz: highest and lowest clock of the machine.
        kind_highest_mhz: highest clock of each kind of core, in the topology's order.
        live_bits, status_bits: what the processor's bits mean, see ``kernel.registers``.
        enforced: whether the power limits hold at all.
    """

    ceiling_c: float | None = None
    turbo_table_mhz: tuple[float, ...] = ()
    highest_mhz: float | None = None
    lowest_mhz: float | None = None
    kind_highest_mhz: tuple[float | None, ...] = ()
    live_bits: BitMeanings = ()
    status_bits: BitMeanings = ()
    enforced: bool = True


@dataclass(frozen=True, slots=True)
class _KindOfCore:
    clock: int
    busy: tuple[int, ...]


class ConstraintJudge:
    """Judges the samples of one machine, in their order.

    Args:
        sensors: what the numbers mean.
        topology: the machine's.
        limits: what does not change; may be replaced.
    """

    def __init__(self, sensors: Sequence[Sensor], topology: Topology, limits: FixedLimits) -> None:
        self.limits = limits
        index = index_of(sensors)
        busy = by_processor(sensors, SensorKind.BUSY)
        self._busy = span_of(list(busy.values()))
        cores = [topology.core_of.get(cpu, (0, cpu)) for cpu in busy]
        self._cores = [cores.index(core) for core in cores]
        self._all_cores = len(set(cores))
        self._throttle = span_of([i for i, sensor in enumerate(sensors) if sensor.kind is SensorKind.THROTTLE])
        # Indices instead of names, as this runs for every sample of every run.
        self._pick = _picker([index.get(name) for name in PICKED])
        self._limits = [(constraint, index[name]) for constraint, name in LIMITS.items() if name in index]
        self._bits = tuple(index.get(name) for name in (LIVE_BITS, LOGGED_BITS, STATUS_BITS))
        self._has_bits = any(i is not None for i in self._bits)
        self._kinds = [
            _KindOfCore(index[f"clock.{kind.lower()}"], tuple(busy[cpu] for cpu in cpus if cpu in busy))
            for kind, cpus in topology.kinds
        ]
        self._average_w: float | None = None
        self._judged_s = 0.0
        self._last_throttle: Numbers = []
        self._last_log: int | None = None

    def _average(self, time_s: float, power: float | None, watts: Limits, window: float | None) -> float | None:
        """Return what the limiter's average may be at most; what came before the first sample may have been a burst."""
        limit = watts[0][1] if watts and watts[0][0] is Constraint.SUSTAINED else None
        if power is None or limit is None:
            self._average_w = None
        elif self._average_w is None:
            # An upper bound: it comes down to the true average within a few windows, and never lies below it.
            self._average_w = max(power, UNSEEN * limit)
        else:
            self._average_w = averaged(self._average_w, power, time_s - self._judged_s, window or USUAL_WINDOW_S)
        self._judged_s = time_s
        return self._average_w

    def judge(self, time_s: float, values: Numbers, caps_mhz: Numbers) -> tuple[Constraint, tuple[Constraint, ...]]:
        """Return what holds all cores, and what holds each kind.

        Args:
            time_s: of the sample.
            values: a number per sensor.
            caps_mhz: highest clock allowed by settings, of all cores and then of each kind.
        """
        # Looked at in every sample, also of an idle one: the next is told apart from it by what has grown since.
        counts = values[self._throttle]
        throttled = counts != self._last_throttle and self._throttled(counts)
        clock, power, temperature, board, board_limit, window = self._pick(values)
        limits = self.limits
        watts = [(constraint, values[i]) for constraint, i in self._limits] if limits.enforced else NO_WATTS
        average = self._average(time_s, power, watts, window) if self._has_bits else None
        shares = values[self._busy]
        try:
            busiest = max(shares) if shares else None  # type: ignore[type-var]
        # Faster than asking each reading of each processor: they are nearly never missing.
        except TypeError:  # some are missing
            shares = [share or 0.0 for share in shares]
            busiest = max(shares)  # type: ignore[type-var]
        if busiest is None or busiest < BUSY_SHARE:
            held = held_by(Readings(busiest))
            return held, tuple([held_by(Readings(_busiest(kind, values))) for kind in self._kinds])
        cores = self._busy_cores(shares) if limits.turbo_table_mhz else 0  # type: ignore[arg-type]
        now = Readings(
            busiest, cores, clock, power, watts, average, board, board_limit, temperature, limits.ceiling_c, throttled,
            caps_mhz[0] if caps_mhz else None, limits.turbo_table_mhz, limits.highest_mhz, limits.lowest_mhz,
            self._said(values) if self._has_bits else NOTHING_SAID,
        )  # fmt: skip
        held = held_by(now)
        return held, self._kinds_held(now, values, caps_mhz) if self._kinds else ()

    def _busy_cores(self, shares: list[float]) -> int:
        """Return how many cores work; threads of one core count once, and in most loads all work."""
        # The usual case under load, without making a set of the cores.
        if min(shares) >= BUSY_SHARE:
            return self._all_cores
        return len(set(compress(self._cores, map(BUSY_SHARE.__le__, shares))))

    def _kinds_held(self, now: Readings, values: Numbers, caps_mhz: Numbers) -> tuple[Constraint, ...]:
        """Return what holds each kind: watts, heat and signals hold all that work, clocks each kind by itself."""
        found = []
        # The table is of the whole processor; of each kind only its highest clock is known.
        now.busy_cores, now.turbo_table_mhz = 0, ()
        for kind, cap, highest in zip(self._kinds, caps_mhz[1:], self.limits.kind_highest_mhz, strict=True):
            now.busiest, now.clock_mhz, now.cap_mhz, now.highest_mhz = (
                _busiest(kind, values), values[kind.clock], cap, highest,
            )  # fmt: skip
            found.append(held_by(now))
        return tuple(found)

    def _throttled(self, counts: Numbers) -> bool:
        """Tell whether one of the counts has grown."""
        last, self._last_throttle = self._last_throttle, counts
        return bool(last) and any(n is not None and o is not None and n > o for n, o in zip(counts, last, strict=True))

    def _said(self, values: Numbers) -> frozenset[Constraint]:
        """Return what the processor's bits say: those that are live, and those that were set since the last sample."""
        live, log, status = [0 if i is None else int(values[i] or 0) for i in self._bits]
        # Logged bits stay set until somebody clears them, so what the first sample shows may be hours old.
        fresh = log & ~self._last_log if self._last_log is not None else 0
        self._last_log = log
        if not (live or fresh or status):
            return NOTHING_SAID
        said = {constraint for constraint, bits in self.limits.live_bits if (live | fresh) & bits}
        return frozenset(said | {constraint for constraint, bits in self.limits.status_bits if status & bits})


def _busiest(kind: _KindOfCore, values: Numbers) -> float | None:
    return max((share for i in kind.busy if (share := values[i]) is not None), default=None)


def _picker(indices: Sequence[int | None]) -> Callable[[Numbers], Sequence[float | None]]:
    """Return what picks two numbers or more out of a sample, None for an index that is None."""
    known = [i for i in indices if i is not None]
    if len(known) == len(indices):
        return itemgetter(*known)
    return lambda values: [None if i is None else values[i] for i in indices]
