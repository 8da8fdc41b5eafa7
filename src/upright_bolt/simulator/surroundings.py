"""What is around a twin and never quite the same: the room, others' work, and how the case stands.

Each wanders around its mean and forgets where it was within some minutes (Ornstein-Uhlenbeck processes), so that two
runs of one setting differ as they do on real machines, and drift while they go on.
"""

from dataclasses import dataclass
from math import exp, sqrt

from upright_bolt.simulator.noise import Noise

EVERY_S = 5.0
"""Time between two steps of what wanders by minutes."""


@dataclass(frozen=True, slots=True)
class Wander:
    """A quantity that wanders: its standard deviation, and the seconds in which it forgets."""

    deviation: float
    memory_s: float


ROOM_C = Wander(0.4, 3000.0)
OTHERS = Wander(0.16, 300.0)
"""Of the logarithm of what others take of the processor."""
CASE = Wander(0.03, 3600.0)
"""Of the logarithm of how badly the case sheds its heat: a lap, a cushion, a draught."""
OTHERS_SHARE = 0.0185
"""Share of every processor that a desktop takes while it does nothing much."""


@dataclass(slots=True)
class Surroundings:
    """Where everything stands: degrees off the room's mean, and logarithms off the other means.

    ``due_s`` is when, on the twin's clock, it goes on.
    """

    room_c: float = 0.0
    others: float = 0.0
    case: float = 0.0
    due_s: float = 0.0

    def go_on(self, noise: Noise, restless: float) -> None:
        """Let ``EVERY_S`` pass."""
        self.due_s += EVERY_S
        self.room_c = _moved(self.room_c, ROOM_C, noise, restless)
        self.others = _moved(self.others, OTHERS, noise, restless)
        self.case = _moved(self.case, CASE, noise, restless)


def drawn(seed: int, restless: float, now_s: float) -> Surroundings:
    """Return where everything stands when a twin is first switched on."""
    noise = Noise(seed ^ 0x5DEECE66D)
    room, others, case = (wander.deviation * restless * noise.gaussian() for wander in (ROOM_C, OTHERS, CASE))
    return Surroundings(room, others, case, now_s + EVERY_S)


def _moved(value: float, wander: Wander, noise: Noise, restless: float) -> float:
    # An Ornstein–Uhlenbeck process: it wanders, and is drawn back, with the same spread at all times.
    kept = exp(-EVERY_S / wander.memory_s)
    return value * kept + wander.deviation * restless * sqrt(1.0 - kept * kept) * noise.gaussian()
