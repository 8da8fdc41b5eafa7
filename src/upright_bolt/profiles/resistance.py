"""No fights: how often a setting is put back before it is left alone, and how long each time waits."""

from dataclasses import dataclass, field

MOST = 5
WITHIN_S = 600.0
PAUSES_S = (0.0, 1.0, 3.0, 10.0, 30.0)
"""From one putting back of a setting to the next: at once the first time, then longer each time."""


@dataclass(slots=True)
class Resistance:
    """How often one setting has been put back lately.

    Attributes:
        times_s: when, oldest first.
        resting: it is left alone.
        who: who changed it last, in words.
        since: date and time from which it is left alone.
    """

    times_s: list[float] = field(default_factory=list)
    resting: bool = False
    who: str = ""
    since: str = ""

    def due_s(self, now_s: float) -> float:
        """Return when it may be put back again; forget what is long past."""
        self.times_s = [at for at in self.times_s if now_s - at < WITHIN_S]
        if not self.times_s:
            return now_s
        return max(now_s, self.times_s[-1] + PAUSES_S[min(len(self.times_s), len(PAUSES_S) - 1)])

    @property
    def enough(self) -> bool:
        """Whether it has been put back so often that it is to be left alone."""
        return len(self.times_s) >= MOST
