"""How much of its work a load has done, in slices and as scores."""

from upright_bolt.model.run import SLICE_S, Slice, settled_from_s
from upright_bolt.model.workloads import Mode, Workload
from upright_bolt.workload.load import Load

NOTHING_DONE = (
    "Not one piece of work was done in its time: this run tells nothing. Give it more time, or end other work."
)


class WorkDone:
    """Counts what a load does. Times are seconds since its start, unless said otherwise.

    Args:
        load: the load.
        work: what kind of work it is.
        asked_s: how long it works at most.

    Attributes:
        paced: whether it goes on evenly enough for scores of parts to be compared.
        slices: the scores of its parts so far.
        start_s: when it was started, on the machine's clock; None before that.
    """

    def __init__(self, load: Load, work: Workload, asked_s: float) -> None:
        self.paced = work.even or work.mode is Mode.FRAMES
        self.slices: list[Slice] = []
        self.start_s: float | None = None
        self._load = load
        self._work = work
        self._asked_s = asked_s

    def elapsed(self, now_s: float) -> float:
        """Return for how long it works, from a moment on the machine's clock."""
        # it begins a moment after the sample that it was begun with
        return 0.0 if self.start_s is None else max(0.0, now_s - self.start_s)

    def complete_until(self) -> float:
        """Return until when all that was done is known."""
        return self._load.complete_until() - (self.start_s or 0.0)

    def units(self, until_s: float) -> float:
        """Return the units done until a moment; 0 for work that is not counted."""
        return self._load.units_until((self.start_s or 0.0) + until_s) if self._load.scores else 0.0

    def take_slices(self, elapsed: float, *, final: bool) -> list[Slice]:
        """Return the slices that are complete since the last call; ``final``: with the rest."""
        if self.start_s is None or not self._load.scores:
            return []
        elapsed = min(elapsed, self._asked_s)
        complete = elapsed if final else min(elapsed, self.complete_until())
        fresh: list[Slice] = []
        while True:
            begin = (len(self.slices) + len(fresh)) * SLICE_S
            end = min(begin + SLICE_S, elapsed) if final else begin + SLICE_S
            if end > complete + 1e-6 or end - begin < 1.0:
                break
            units = self.units(end) - self.units(begin)
            fresh.append(Slice(begin, end, units, units * self._work.per_s / (end - begin)))
        self.slices += fresh
        return fresh

    def score(self, duration_s: float) -> float | None:
        """Return the score after a time: the load's own, or work per second; None if it has none."""
        load = self._load
        if (own := load.own_score()) is not None:
            return own
        if self.start_s is None or duration_s <= 0 or not load.scores or self._work.mode is Mode.COMMAND:
            return None
        return self.units(duration_s) * self._work.per_s / duration_s

    def settled_score(self, duration_s: float) -> float | None:
        """Return the score over the settled part alone; None for a run too short to have one."""
        from_s = settled_from_s(duration_s)
        if from_s is None or self.start_s is None or not self.paced:
            return None
        return (self.units(duration_s) - self.units(from_s)) * self._work.per_s / (duration_s - from_s)

    def doubt(self) -> str:
        """Return why its score does not count, as a sentence; empty if it does. A score of 0 is no measurement."""
        if why := self._load.doubt():
            return why
        load = self._load
        if not load.scores or load.own_score() is not None or self._work.mode is Mode.COMMAND:
            return ""
        return "" if self.units(self._asked_s) > 0 else NOTHING_DONE
