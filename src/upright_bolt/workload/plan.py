"""What a workload does when: the same plan for workers on real cores and for a twin's simulated ones."""

from collections.abc import Iterator, Sequence
from random import Random

from upright_bolt.model.work import FULL_WORTH
from upright_bolt.model.workloads import Stage, workload

ACTIVITY = {"vector": 1.12, "integer": 0.95, "compression": 0.9, "memory": 0.72, "": 1.0}
"""How much power a twin's cores draw in each mix, against the usual one."""
SHORTEST_S = 1.0
"""A stage that is shorter belongs to steps of load."""


def stage_at(stages: Sequence[Stage], elapsed_s: float) -> tuple[Stage, float]:
    """Return the stage of a workload at a time from load start, and the seconds that are left of it."""
    place = elapsed_s % sum(stage.seconds for stage in stages)
    for stage in stages:
        if place < stage.seconds - 1e-6:
            return stage, stage.seconds - place
        place -= stage.seconds
    return stages[0], stages[0].seconds


def _lasted(stages: Sequence[Stage], elapsed_s: float) -> Iterator[tuple[Stage, float]]:
    """Yield each stage of a round, and for how long it went on in so many seconds of a workload."""
    rounds, place = divmod(elapsed_s, sum(stage.seconds for stage in stages))
    for stage in stages:
        yield stage, rounds * stage.seconds + min(place, stage.seconds)
        place = max(0.0, place - stage.seconds)


GRAPHICS_STEPS = (("heavy", 2.0), ("light", 1.5), ("heavy", 1.0), ("", 0.5))
"""One round of a graphics load with steps between its weights: each is a jump of current on the chip's rail."""


def graphics_stage_at(elapsed_s: float) -> tuple[str, float]:
    """Return the weight at a time from load start, empty for none, and the seconds that are left of it."""
    place = elapsed_s % sum(seconds for _, seconds in GRAPHICS_STEPS)
    for weight, seconds in GRAPHICS_STEPS:
        if place < seconds - 1e-6:
            return weight, seconds - place
        place -= seconds
    return GRAPHICS_STEPS[0]


KIND_OF = {"heavy": "full", "light": "light", "steps": "steps", "watch": "use"}
"""Of which kind of load a graphics chip's scenes are, and a person's own use."""


def kinds_s(load: str, elapsed_s: float) -> dict[str, float]:
    """Return how much of so many seconds of a workload is ``full`` load, ``steps``, ``light`` load and ``idle``.

    Args:
        load: a workload in stages, the scene of a graphics chip, or ``watch`` for a person's own use.
        elapsed_s: seconds from load start.
    """
    found = dict.fromkeys(("full", "steps", "light", "idle"), 0.0)
    if load in KIND_OF:
        return found | {KIND_OF[load]: elapsed_s}
    for stage, seconds in _lasted(workload(load).stages, elapsed_s):
        kind = "steps" if stage.seconds < SHORTEST_S else "idle" if not stage.mix else "full"
        found["light" if 0.0 < stage.share < 1.0 else kind] += seconds
    return found


def full_load_s(load: str, elapsed_s: float) -> float:
    """Return how much full load so many seconds of a workload are worth; light load counts by its share."""
    if load in FULL_WORTH:
        return FULL_WORTH[load] * elapsed_s
    return sum(seconds * stage.share for stage, seconds in _lasted(workload(load).stages, elapsed_s))


SHORTEST_PAUSE_S, MEAN_PAUSE_S, LONGEST_PAUSE_S = 0.05, 0.45, 2.5


def pauses(worker: int) -> Iterator[float]:
    """Yield the pauses before the tasks of ``bursts`` in s, without end: random, but the same in every run."""
    dice = Random(20_011 + worker)  # noqa: S311 - pauses, not secrets
    while True:
        yield min(LONGEST_PAUSE_S, SHORTEST_PAUSE_S + dice.expovariate(1.0 / MEAN_PAUSE_S))
