"""The workload ``cooling``: mixed work on all cores for a while, then rest, while somebody moves the limits."""

from math import inf

from upright_bolt.model.run import WorkError
from upright_bolt.workload.load import Load


class HoldLoad(Load):
    """Works until it is told to rest, and goes on as a rest.

    Args:
        work: what keeps the cores busy.

    Attributes:
        found: numbers of the run, once its end is near.
    """

    scores = False

    def __init__(self, work: Load) -> None:
        self._work = work
        self._rests = False
        self.found: dict[str, float] = {}

    def prepare(self) -> None:
        """Begin what must stand before work starts. Raises BoltError if it cannot."""
        self._work.prepare()

    def ready(self) -> bool:
        """Tell whether work could start now. Raises BoltError if it never will."""
        return self._work.ready()

    def start(self) -> float:
        """Start the work and return the moment of the load start in s."""
        return self._work.start()

    def rest(self) -> None:
        """Let the cores rest from now on."""
        self._rests = True
        self._work.stop()

    def units_until(self, time_s: float) -> float:  # noqa: ARG002 - the port's signature
        """No units are counted: the watts are the result."""
        return 0.0

    def complete_until(self) -> float:
        """Return the moment up to which the work is final; a rest is so at once."""
        return inf if self._rests else self._work.complete_until()

    def errors(self) -> list[WorkError]:
        """Return wrong results, and workers that died or hang, so far."""
        return self._work.errors()

    def figures(self, duration_s: float) -> dict[str, float]:  # noqa: ARG002 - those of the whole run
        """Return what the cooling carries, once that is known."""
        return dict(self.found)

    def alive(self) -> bool:
        """Tell whether the work goes on; a rest does."""
        return self._rests or self._work.alive()

    def stop(self) -> None:
        """End the work at once."""
        self._work.stop()
