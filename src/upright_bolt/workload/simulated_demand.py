"""Work by turns on a twin: tasks after pauses, paced frames, and the stages of ``proof``."""

from collections.abc import Callable, Sequence

from upright_bolt.model.workloads import Stage
from upright_bolt.simulator.demand import Demand
from upright_bolt.simulator.physics import Physics
from upright_bolt.workload.plan import ACTIVITY, stage_at

FINE_S = 0.01
"""Steps while a task or frame is at work: the clock ramps within some tens of milliseconds."""
TASK_WORK = 0.05
"""Work of a task: seconds at 1 GHz without waiting for memory."""
FRAME_WORK = 0.026
LEAST_S = 1e-4


class TaskDemand:
    """Work that comes in pieces: due, worked on by all its threads, done; then due again.

    Args:
        threads: the simulated processors, each of which does the same piece.
        work: of one piece, per thread.
        first_s: when the first piece is due, on the twin's clock.
        next_due: from when a piece was due and done to when the next one is.

    Attributes:
        pieces: when each piece was due, and done.
    """

    def __init__(
        self, threads: frozenset[int], work: float, first_s: float, next_due: Callable[[float, float], float]
    ) -> None:
        self._threads = threads
        self._work = work
        self._due = first_s
        self._next_due = next_due
        self._left: float | None = None
        self.pieces: list[tuple[float, float]] = []

    def before(self, physics: Physics) -> float:
        """Work while a piece is due; rest until the next."""
        now = physics.state.time_s
        if self._left is None and now >= self._due - LEAST_S:
            self._left = self._work
            physics.demand = Demand(self._threads)
        if self._left is None:
            return max(LEAST_S, self._due - now)
        return max(LEAST_S, min(FINE_S, self._left / physics.pace()))

    def after(self, physics: Physics, dt: float) -> None:
        """Count the work done; a piece ends where its work does, within the step."""
        if self._left is None:
            return
        done = physics.pace() * dt
        if done < self._left:
            self._left -= done
            return
        end = physics.state.time_s - dt * (1.0 - self._left / done)
        self.pieces.append((self._due, end))
        self._due = max(self._next_due(self._due, end), physics.state.time_s)
        self._left = None
        if self._due > physics.state.time_s:
            physics.demand = Demand()


class StagedDemand:
    """The stages of a workload that has some."""

    def __init__(self, threads: frozenset[int], start_s: float, stages: Sequence[Stage]) -> None:
        self._threads = threads
        self._start_s = start_s
        self._stages = stages

    def before(self, physics: Physics) -> float:
        """Ask for what the stage of the moment asks for."""
        stage, left_s = stage_at(self._stages, physics.state.time_s - self._start_s)
        threads = self._threads if stage.mix else frozenset()
        physics.demand = Demand(threads, ACTIVITY[stage.mix], stage.share, stage.mix)
        return max(LEAST_S, left_s)

    def after(self, physics: Physics, dt: float) -> None:
        """The twin counts the work itself."""
