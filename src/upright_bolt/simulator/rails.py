"""A twin's voltage rails: what the offsets do to them, and what too little voltage leads to.

Where core and cache share a rail, its voltage is the higher of what the two ask for: the weaker offset counts for
both, and an offset of one alone moves nothing. On rails of their own each moves by itself.

How close a part is to its edge moves with temperature, clock, instruction mix and steps of load, and differs from core
to core. Wrong results and freezes are Poisson processes whose rate grows by a factor of e over ``slope_mv``, however
far from the edge; a resting machine freezes too, somewhat further down.
"""

from dataclasses import dataclass
from math import exp, log

from upright_bolt.simulator.chip import ChipSpec

EDGE_S = 40.0
"""At its edge a fully loaded machine errs about this often."""
LOG_EDGE_S = log(EDGE_S)
HIGHEST = 12.0
"""Rates grow no further than by e to this power."""
CORE, GRAPHICS, CACHE, AGENT = range(4)
"""Planes of the voltage mailbox."""
MIX_MV = {
    "vector": (0.0, -6.0),
    "integer": (-4.0, -8.0),
    "compression": (-5.0, -6.0),
    "memory": (-8.0, 0.0),
    "": (-3.0, -2.0),
}
"""How much nearer core and cache are to their edges in each mix, in mV."""
WARM_C, WARM_MV = 70.0, 0.06
"""Above so many °C each degree brings the edges nearer by so many mV."""
COLD_C, COLD_MV = 38.0, 0.12
CLOCK_MV = 0.25
"""Nearer per 100 MHz above the base clock."""
STEP_MV = 4.0
"""A step of load lets the voltage sag: nearer by so much."""
RESTING = 0.05
"""Below this share of full watts a machine counts as resting."""
BEND = log(1.0 / 2000.0)
"""Where the slope may turn flatter: once in 2000 s."""
DAY_S = 24 * 3600.0
AGENT_FURTHER_MV = 25.0
"""So much further than the cache holds the system agent; beyond that the machine freezes without a wrong result."""
AGENT_V, AGENT_PART, AGENT_POWER = 0.95, 0.35, 3.0
"""The system agent's voltage, its part of the uncore's watts at rest, and by which power of the voltage they go."""
DELIVERY_PER_MV = 0.005
"""Part of its work that a chip loses for each mV that its offset is too deep for the power delivery."""


@dataclass(slots=True)
class Rails:
    """How far the rails are moved, in mV, and how far beyond its edge each part is."""

    core_mv: float
    cache_mv: float
    core_beyond_mv: float
    cache_beyond_mv: float
    agent_beyond_mv: float

    @property
    def worst_mv(self) -> float:
        """How far beyond its edge the worse part is."""
        return max(self.core_beyond_mv, self.cache_beyond_mv)


@dataclass(frozen=True, slots=True)
class Conditions:
    """What moves the edges: temperature, clock, share of full watts, mix, and whether the load has just risen."""

    die_c: float
    clock_mhz: float
    load: float
    mix: str = ""
    stepped: bool = False


@dataclass(frozen=True, slots=True)
class Rates:
    """Errors of core and of cache, and freezes, per second."""

    core: float
    cache: float
    freezes: float


def rails_of(chip: ChipSpec, offsets_mv: list[float], now_s: float = 0.0) -> Rails:
    """Return where the offsets put the rails; the edges of an ageing chip come nearer with time."""
    core, cache = offsets_mv[CORE], offsets_mv[CACHE]
    if chip.shared_rail:
        # The rail carries the higher of the two voltages asked for, so the smaller offset counts.
        core = cache = max(core, cache)
    # Linear: over the weeks that a test plays, real ageing is nearly so.
    aged = chip.ageing_mv_per_day * now_s / DAY_S
    of_cache = chip.cache_edge_mv + aged
    # The agent's edge goes along with the cache's: both hang on the uncore's silicon.
    agent = of_cache - AGENT_FURTHER_MV - offsets_mv[AGENT]
    return Rails(core, cache, chip.core_edge_mv + aged - core, of_cache - cache, agent)


def rates(chip: ChipSpec, rails: Rails, now: Conditions) -> Rates:
    """Return how often something goes wrong under given conditions."""
    nearer = CLOCK_MV * (now.clock_mhz - chip.base_mhz) / 100.0
    # Between the two bounds temperature moves nothing; above, delays grow, below, transistors switch more weakly.
    if now.die_c > WARM_C:
        nearer += WARM_MV * (now.die_c - WARM_C)
    elif now.die_c < COLD_C:
        nearer += COLD_MV * (COLD_C - now.die_c)
    if now.stepped:
        nearer += STEP_MV
    # At rest nothing is computed that could be wrong. Light voltage dips at idle are what freezes such machines.
    if now.load < RESTING:
        idle = _rate(chip, rails.worst_mv + chip.idle_nearer_mv)
        return Rates(0.0, 0.0, idle + _rate(chip, rails.agent_beyond_mv))
    # Each mix strains another part, so no single load finds every edge.
    of_core, of_cache = MIX_MV[now.mix]
    core, cache = rails.core_beyond_mv + nearer + of_core, rails.cache_beyond_mv + nearer + of_cache
    # A machine freezes by whichever part is further beyond its edge.
    frozen = _rate(chip, max(core, cache) - chip.freeze_beyond_mv) * now.load
    agent = _rate(chip, rails.agent_beyond_mv + nearer)
    return Rates(_rate(chip, core) * now.load, _rate(chip, cache) * now.load, frozen + agent)


def agent_watts_part(offsets_mv: list[float]) -> float:
    """Return what part is left of the uncore's watts at rest by the system agent's offset."""
    # Its leakage and switching together fall with about the third power of its voltage.
    lower = max(0.0, AGENT_V + offsets_mv[AGENT] / 1000.0) / AGENT_V
    left: float = 1.0 - AGENT_PART * (1.0 - lower**AGENT_POWER)
    return left


def _rate(chip: ChipSpec, beyond_mv: float) -> float:
    # Bounded, as an exponent of hundreds would overflow.
    power = min(beyond_mv / chip.slope_mv, HIGHEST) - LOG_EDGE_S
    if power < BEND:
        # Beyond what any test can see, the true slope may be flatter than the measured one.
        power = BEND + (power - BEND) / chip.tail_flatter
    return exp(power)


def delivered(chip: ChipSpec, rails: Rails) -> float:
    """Return what part of its work a chip gets done: very deep offsets make the power delivery skip clocks."""
    too_deep = chip.delivery_mv - rails.core_mv
    return 1.0 if too_deep <= 0.0 else max(0.5, 1.0 - DELIVERY_PER_MV * too_deep)
