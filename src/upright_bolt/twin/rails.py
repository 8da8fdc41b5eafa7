"""A twin's voltage rails: what the offsets do to them, and what too little voltage leads to.

Where core and cache share a rail, its voltage is the higher of what the two ask for: the weaker offset counts for
both, and an offset of one alone moves nothing. On rails of their own each moves by itself.
"""

from dataclasses import dataclass
from math import exp

from upright_bolt.twin.chip import ChipSpec
from upright_bolt.twin.noise import Noise
from upright_bolt.twin.state import TwinState

EDGE_S = 40.0
"""At its edge a fully loaded machine errs about this often."""
HAZARD_MV = 3.5
"""Millivolts over which the rate of errors grows by a factor of e: a steep slope, but no cliff."""
NEVER_MV = -24.0
"""Distance kept from an edge at which nothing happens any more: a rate of once in ten hours."""
CORE, CACHE = 0, 2
"""Planes of the voltage mailbox."""


@dataclass(slots=True)
class Rails:
    """How far the rails are moved, in mV, and how far beyond its edge each part is."""

    core_mv: float
    cache_mv: float
    core_beyond_mv: float
    cache_beyond_mv: float
    freeze_beyond_mv: float

    @property
    def worst_mv(self) -> float:
        """How far beyond its edge the worse part is."""
        return max(self.core_beyond_mv, self.cache_beyond_mv)

    @property
    def weak_block(self) -> str:
        """The instruction mix that shows the worse part's errors first."""
        return "memory" if self.cache_beyond_mv > self.core_beyond_mv else "vector"


def rails_of(chip: ChipSpec, offsets_mv: list[float]) -> Rails:
    """Return where the offsets put the rails."""
    core, cache = offsets_mv[CORE], offsets_mv[CACHE]
    if chip.shared_rail:
        core = cache = max(core, cache)
    return Rails(core, cache, chip.core_edge_mv - core, chip.cache_edge_mv - cache, chip.freeze_beyond_mv)


def freezes(rails: Rails, noise: Noise, dt: float) -> bool:
    """Tell whether the machine freezes within ``dt`` seconds."""
    beyond = rails.worst_mv - rails.freeze_beyond_mv
    return beyond > NEVER_MV and noise.uniform() < 1.0 - exp(-exp(min(beyond / HAZARD_MV, 12.0)) / EDGE_S * dt)


def errs(rails: Rails, busy: float, noise: Noise, dt: float) -> bool:
    """Tell whether a result goes wrong within ``dt`` seconds; ``busy`` is the share of full watts, 0 to 1."""
    rate = exp(min(rails.worst_mv / HAZARD_MV, 12.0)) / EDGE_S * (0.15 + 0.85 * busy)
    return noise.uniform() < 1.0 - exp(-rate * dt)


def take_fault(state: TwinState, rails: Rails, threads: frozenset[int], mix: str, noise: Noise) -> None:
    """Let one of the busy processors give a wrong result."""
    cpu = sorted(threads)[int(noise.uniform() * len(threads))]
    state.faults_seen.append([state.time_s, float(cpu), mix or rails.weak_block])
