"""When too little voltage shows on a twin: wrong results first, further down a freeze.

Each is a Poisson process with a rate that changes all the time: what it adds up to since the last event is compared
with a level drawn for the next one, so an event costs a draw and the time in between none.
"""

from math import exp, log

from upright_bolt.simulator import rails
from upright_bolt.simulator.chip import ChipSpec
from upright_bolt.simulator.demand import Demand
from upright_bolt.simulator.noise import Noise
from upright_bolt.simulator.rails import Conditions, Rails, Rates
from upright_bolt.simulator.state import SimulatedState

STEP_S = 0.2
"""For so long the voltage sags after a step of load."""
STEPPED = 0.4
"""A rise by so much of full watts is a step of load."""
ERROR, FREEZE = "error due", "freeze due"
LOAD, SAGS = "load", "sags until"


class VoltageFaults:
    """Lets a chip err and freeze, step by step."""

    def __init__(self, chip: ChipSpec) -> None:
        self._chip = chip

    def step(self, state: SimulatedState, moved: Rails, demand: Demand, load: float, noise: Noise, dt: float) -> bool:
        """Let ``dt`` seconds pass, and tell whether the machine freezes; a wrong result is put into the state.

        Args:
            state: where the twin stands.
            moved: where its rails are.
            demand: what it is asked to do.
            load: share of full watts, 0 to 1.
            noise: where draws come from.
            dt: the step in s.
        """
        # A step of the load draws current faster than the regulator follows: the voltage sags for a moment.
        if load - state.extra.get(LOAD, 0.0) > STEPPED:
            state.extra[SAGS] = state.time_s + STEP_S
        state.extra[LOAD] = load
        stepped = state.time_s < state.extra.get(SAGS, 0.0)
        mix = demand.mix if demand.threads else ""
        found = rails.rates(self._chip, moved, Conditions(state.die_c, state.clock_mhz, load, mix, stepped))
        if _adds_up(state, FREEZE, found.freezes * dt, noise):
            return True
        if demand.threads and _adds_up(state, ERROR, (found.core + found.cache) * dt, noise):
            self._err(state, found, demand, noise)
        return False

    def _err(self, state: SimulatedState, found: Rates, demand: Demand, noise: Noise) -> None:
        """Let one of the busy processors give a wrong result: the weakest core most often."""
        nearer = self._chip.core_nearer_mv or (0.0,) * self._chip.cores
        cpus = sorted(demand.threads)
        # Errors grow e-fold a slope, so a core that is nearer to its edge by mV errs by so much more often.
        weights = [exp(nearer[cpu // 2 % self._chip.cores] / self._chip.slope_mv) for cpu in cpus]
        place, hit = noise.uniform() * sum(weights), cpus[-1]
        for cpu, weight in zip(cpus, weights, strict=True):
            place -= weight
            if place <= 0.0:
                hit = cpu
                break
        weak = "memory" if found.cache > found.core else "vector"
        state.faults_seen.append([state.time_s, float(hit), demand.mix or weak])


def _adds_up(state: SimulatedState, what: str, expected: float, noise: Noise) -> bool:
    """Let a rate add up, and tell whether its next event is due."""
    left = state.extra.get(what)
    # Other noise than the state's: a first look at a rate must not move what all else draws.
    if left is None:
        left = _level(Noise(state.noise ^ len(what)))
    # Rates add up until a drawn level is reached. So the next event does not depend on how time is cut into steps.
    due = left <= expected
    state.extra[what] = _level(noise) if due else left - expected
    return due


def _level(noise: Noise) -> float:
    """Return what a rate has to add up to until the next event: an exponential number of mean 1."""
    return -log(1.0 - noise.uniform())
