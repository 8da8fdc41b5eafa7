"""No fights: how often a setting is put back before it is left alone, and how long each time waits."""

from collections.abc import Collection
from dataclasses import dataclass, field

MOST = 5
WITHIN_S = 600.0
PAUSES_S = (0.0, 1.0, 3.0, 10.0, 30.0)
"""From one putting back of a setting to the next: at once the first time, then longer each time."""


@dataclass(slots=True)
class RestoreBackoff:
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
    def exhausted(self) -> bool:
        """Whether it has been put back so often that it is to be left alone."""
        return len(self.times_s) >= MOST


VAIN_LOOKS = 4


class VainWrites:
    """Counts writes that change nothing: of the present value, or of a register beside those that are enforced."""

    def __init__(self) -> None:
        self._looks: dict[str, int] = {}

    def after_look(self, written: Collection[str], changed: Collection[str]) -> set[str]:
        """Return the files that were written before each of the last looks, none of which found a change.

        Args:
            written: files that were written before this look.
            changed: files of what it found changed.
        """
        self._looks = {path: self._looks.get(path, 0) + 1 for path in written if path not in changed}
        return {path for path, looks in self._looks.items() if looks >= VAIN_LOOKS}
