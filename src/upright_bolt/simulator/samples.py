"""Individuals of a model: twins that differ as laptops of one batch do, each drawn from its number.

What differs is hidden from its user: how far each rail's voltage can fall, how steeply errors grow, how near a freeze
is, how well it is cooled, where it stands and what runs on it. The same number is the same machine everywhere.
"""

import re
from dataclasses import replace
from math import exp

from upright_bolt.errors import NotFound
from upright_bolt.simulator.chip import TWINS, ChipSpec, CoolingSpec, MachineSpec
from upright_bolt.simulator.graphics_spec import GraphicsSpec
from upright_bolt.simulator.noise import Noise

LARGEST = 10**9
COOLING_SPREAD = {
    "sink_j_per_k": 0.15,
    "case_j_per_k": 0.15,
    "die_to_sink": 0.12,
    "sink_to_case": 0.1,
    "case_to_air": 0.1,
    "still_w_per_k": 0.15,
    "fan_w_per_k_krpm": 0.15,
}
"""Standard deviations of the logarithms of what individuals differ in."""
ROOM_C = 2.0
CORE_MV, CACHE_MV, GAP_MV, DELIVERY_MV, IDLE_MV = (-6.0, 22.0), (18.0, 8.0), (20.0, 8.0), (-138.0, 14.0), (-22.0, 7.0)
"""Means and standard deviations in mV: core edge (against the model's), cache edge (against the core's), gap to
freezes, where the power delivery throttles, and how much nearer a resting machine is to freezing. The widths are those
of a chip whose core errs at −112 mV; they shrink with the model's."""
USUAL_CORE_MV = -112.0
SLOPE_SPREAD = 0.25
LEAST_GAP_MV = 3.0
SOLD_SLOPES = 15.0
"""An edge lies at least so many slopes below stock: a chip that errs as its maker ships it is not sold."""
LEAKAGE_SPREAD, SWITCHING_SPREAD, UNCORE_SPREAD = 0.12, 0.02, 0.08
CORES_APART_MV = 4.0
CHIP_MV, LIGHT_MV, RESET_MV = 26.0, 6.0, 6.0
"""Standard deviations of a graphics chip's edge, of how much further its light scene holds, and of the gaps to resets
and freezes."""
MEMORY_PART, LEAST_MEMORY_PART = 0.03, 0.0514
"""Parts of the stock clock: standard deviation of the memory's edge, and the least that it lies above stock."""
_NAME = re.compile(r"([a-z-]+)(?:#(\d{1,9}))?")


def spec_named(name: str) -> MachineSpec:
    """Return the twin called ``name``: a model (``tern``), or an individual of one (``tern#1234``).

    Raises:
        NotFound: no such twin.
    """
    found = _NAME.fullmatch(name)
    make = TWINS.get(found[1]) if found is not None else None
    if found is None or make is None:
        raise NotFound(
            f"There is no twin “{name}”. Twins: {', '.join(TWINS)}; another individual of one has a number of up to "
            "nine digits behind it, as in tern#1234."
        )
    return individual(make(), int(found[2])) if found[2] else make()


def individual(model: MachineSpec, number: int) -> MachineSpec:
    """Return the individual of a model that has this number."""
    # An odd multiplier spreads the numbers of neighbouring samples over all 64 bits.
    noise = Noise(model.seed * 0x2545F4914F6CDD1D + number)
    return replace(
        model,
        name=f"{model.name}#{number}",
        chip=_chip(model.chip, noise),
        cooling=_cooling(model.cooling, noise),
        seed=model.seed + 7919 * (number + 1),
        restless=model.restless * (1.2 + 4.0 * noise.uniform()),
        rest_w=model.rest_w * exp(UNCORE_SPREAD * noise.gaussian()),
        graphics=tuple(_graphics(chip, noise) for chip in model.graphics),
    )


def _graphics(chip: GraphicsSpec, noise: Noise) -> GraphicsSpec:
    """Return a graphics chip with what is hidden of it drawn: edges, slope, and how near a reset and a freeze are."""
    slope = chip.slope_mv * exp(SLOPE_SPREAD * noise.gaussian())
    reset = max(LEAST_GAP_MV, chip.reset_beyond_mv + RESET_MV * noise.gaussian())
    memory = chip.memory_mhz[0]
    return replace(
        chip,
        slope_mv=slope,
        edge_mv=min(-SOLD_SLOPES * slope, chip.edge_mv + CHIP_MV * noise.gaussian()),
        light_further_mv=max(0.0, chip.light_further_mv + LIGHT_MV * noise.gaussian()),
        reset_beyond_mv=reset,
        # Never before the reset: a driver notices a hung chip sooner than the machine does.
        freeze_beyond_mv=reset
        + max(LEAST_GAP_MV, chip.freeze_beyond_mv - chip.reset_beyond_mv + RESET_MV * noise.gaussian()),
        memory_edge_mhz=max(
            (1.0 + LEAST_MEMORY_PART) * memory, chip.memory_edge_mhz + MEMORY_PART * memory * noise.gaussian()
        ),
        leakage_w=chip.leakage_w * exp(LEAKAGE_SPREAD * noise.gaussian()),
    )


def _chip(chip: ChipSpec, noise: Noise) -> ChipSpec:
    size = chip.core_edge_mv / USUAL_CORE_MV

    def drawn(about: tuple[float, float]) -> float:
        return (about[0] + about[1] * noise.gaussian()) * size

    slope = chip.slope_mv * exp(SLOPE_SPREAD * noise.gaussian())
    # The edge lies at a fixed number of slopes below stock at least: such a sample would not have been sold.
    core = min(-SOLD_SLOPES * slope, chip.core_edge_mv + drawn(CORE_MV))
    nearer = [-CORES_APART_MV * abs(noise.gaussian()) for _ in range(chip.cores)]
    weakest = int(noise.uniform() * chip.cores)
    return replace(
        chip,
        core_edge_mv=core,
        cache_edge_mv=min(-SOLD_SLOPES * slope, core + drawn(CACHE_MV)),
        freeze_beyond_mv=max(LEAST_GAP_MV, drawn(GAP_MV)),
        slope_mv=slope,
        delivery_mv=drawn(DELIVERY_MV),
        idle_nearer_mv=min(-8.0, drawn(IDLE_MV)),
        # The chip's edge is that of its weakest core; the others hold a little further.
        core_nearer_mv=tuple(0.0 if core == weakest else mv for core, mv in enumerate(nearer)),
        leakage_w=chip.leakage_w * exp(LEAKAGE_SPREAD * noise.gaussian()),
        switching_w=chip.switching_w * exp(SWITCHING_SPREAD * noise.gaussian()),
        uncore_w=chip.uncore_w * exp(UNCORE_SPREAD * noise.gaussian()),
    )


def _cooling(cooling: CoolingSpec, noise: Noise) -> CoolingSpec:
    changed = {name: getattr(cooling, name) * exp(width * noise.gaussian()) for name, width in COOLING_SPREAD.items()}
    return replace(cooling, ambient_c=cooling.ambient_c + ROOM_C * noise.gaussian(), **changed)
