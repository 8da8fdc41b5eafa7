"""Workloads on a twin: a demand on its simulated cores, and the units its physics counts."""

from bisect import bisect_right
from itertools import pairwise
from random import Random

from upright_bolt.errors import BadInput
from upright_bolt.model.run import WorkError
from upright_bolt.model.workloads import MIXES, Mode
from upright_bolt.simulator.machine import SimulatedMachine
from upright_bolt.workload.load import Load, Task
from upright_bolt.workload.plan import pauses
from upright_bolt.workload.simulated_demand import FRAME_WORK, TASK_WORK, StagedDemand, TaskDemand

COMMAND_UNITS = 400.0
"""What stands in for a command: so many units on all cores."""
PLANTED = "planted"
HICCUP_PART = 0.004
"""Part of a twin's frames that something else on its desktop delays."""
HICCUP_S = 0.012


class SimulatedLoad(Load):
    """``Load`` on a twin.

    Args:
        twin: the twin.
        task: what it is made for; the word of a command is not run, a fixed piece of work stands in for it.

    Raises:
        BadInput: a twin cannot do what is asked.
    """

    def __init__(self, twin: SimulatedMachine, task: Task) -> None:
        if task.options.pattern:
            raise BadInput(
                "pattern: a twin has no programs whose output could be searched; a fixed piece of work stands in "
                "for the command, scored by its wall time."
            )
        self._task = task
        self._mode = task.known.mode
        self.scores = task.known.counts
        self._threads = frozenset(task.cpus)
        self._twin = twin
        self._start_units = 0.0
        self._start_s = 0.0
        self._marks: list[tuple[float, float]] = []
        self._turns: TaskDemand | None = None
        self._caught: bool | None = None
        self._told = False
        self._working = False

    def start(self) -> float:
        """Put the simulated threads to work. Raises ValueError for work that is not simulated here."""
        state = self._twin.state
        self._start_units = state.units
        self._start_s = state.time_s
        state.faults_seen.clear()
        self._marks = [(state.time_s, 0.0)]
        self._working = True
        match self._mode:
            case Mode.STAGES:
                # The checker must catch one error that is known to be there, or its silence would prove nothing.
                state.faults_seen.append([state.time_s, float(min(self._threads)), PLANTED])
                self._twin.follow(StagedDemand(self._threads, state.time_s, self._task.known.stages))
            case Mode.TASKS:
                rests = pauses(0)
                begin = state.time_s + next(rests)
                self._turns = TaskDemand(self._threads, TASK_WORK, begin, lambda _due, end: end + next(rests))
                self._twin.follow(self._turns)
            case Mode.FRAMES:
                self._turns = TaskDemand(self._threads, FRAME_WORK, state.time_s, self._beat)
                self._twin.follow(self._turns)
            case Mode.MIXED | Mode.COMMAND:
                self._twin.demand(self._threads)
            case other:
                raise ValueError(f"no simulated work is done in the way {other}")
        return state.time_s

    def _beat(self, due: float, end: float) -> float:
        """Return when the next frame begins: at its beat, or at once when late; now and then the desktop delays it."""
        pieces = self._turns.pieces if self._turns is not None else []
        # By the number of the frame, so that a run is the same whatever else draws from the machine's dice.
        dice = Random(len(pieces) * 7919 + self._twin.spec.seed)  # noqa: S311 - hiccups, not secrets
        late = HICCUP_S * dice.random() if dice.random() < HICCUP_PART else 0.0
        return max(due + 1.0 / self._task.options.rate_fps, end) + late

    def units_until(self, time_s: float) -> float:
        """Return units done up to ``time_s``, in proportion between the moments at which it was asked."""
        if self._turns is not None:
            return float(bisect_right(self._turns.pieces, time_s, key=lambda piece: piece[1]))
        self._mark()
        # From the end: what is asked for is nearly always the newest.
        for (t0, u0), (t1, u1) in zip(reversed(self._marks[:-1]), reversed(self._marks[1:]), strict=True):
            if t0 <= time_s <= t1:
                return self._counted(u0 + (u1 - u0) * ((time_s - t0) / (t1 - t0) if t1 > t0 else 1.0))
        return self._counted(self._marks[-1][1]) if time_s > self._marks[-1][0] else 0.0

    def _counted(self, units: float) -> float:
        return float(units // COMMAND_UNITS) if self._mode is Mode.COMMAND else units

    def _mark(self) -> None:
        state = self._twin.state
        if self._working and state.time_s > self._marks[-1][0]:
            self._marks.append((state.time_s, state.units - self._start_units))

    def complete_until(self) -> float:
        """Everything the twin has done is final."""
        self._mark()
        return self._twin.state.time_s if self._working else self._marks[-1][0]

    def done(self) -> bool:
        """Tell whether the piece of work that stands in for a command has been done as often as asked."""
        self._mark()
        wanted = COMMAND_UNITS * self._task.options.times
        return self._mode is Mode.COMMAND and self._marks[-1][1] >= wanted

    def own_score(self) -> float | None:
        """Return the mean wall time of the times so far, for a command."""
        if self._mode is not Mode.COMMAND:
            return None
        ends = self._times()
        return (ends[-1] - self._start_s) / len(ends) if ends else None

    def _times(self) -> list[float]:
        """Return when each time of a command was over."""
        self._mark()
        ends: list[float] = []
        for (t0, u0), (t1, u1) in pairwise(self._marks):
            while len(ends) < self._task.options.times and u1 >= (wanted := COMMAND_UNITS * (len(ends) + 1)):
                ends.append(t0 + (t1 - t0) * (wanted - u0) / (u1 - u0))
        return ends

    def figures(self, duration_s: float) -> dict[str, float]:
        """Return latencies, frame numbers, what was checked, or how often a command ran."""
        from upright_bolt.analysis.responsiveness import frame_numbers, latencies  # noqa: PLC0415 - needs numbers that light commands do not load

        if self._turns is not None:
            pieces = [p for p in self._turns.pieces if p[1] <= self._start_s + duration_s + 1e-9]
            if self._mode is Mode.FRAMES:
                gaps = [b - a for (_, a), (_, b) in pairwise(pieces)]
                return frame_numbers(gaps, self._task.options.rate_fps)
            return latencies([end - due for due, end in pieces])
        if self._mode is Mode.STAGES:
            blocks = self.units_until(self._start_s + duration_s) * len(MIXES)
            return {"blocks_checked": float(int(blocks)), "planted_caught": float(bool(self._caught))}
        return {"times_run": float(len(self._times()))} if self._mode is Mode.COMMAND else {}

    def errors(self) -> list[WorkError]:
        """Return the wrong results that too little voltage has led to."""
        found = []
        for time_s, cpu, block in self._twin.state.faults_seen:
            if block == PLANTED:
                self._caught = True
            # What was seen before the load belongs to another run.
            elif float(time_s) > self._start_s:
                found.append(WorkError(float(time_s) - self._start_s, int(float(cpu)), str(block), "wrong result"))
        return found

    def doubt(self) -> str:
        """Return a sentence if the checker was never tested."""
        untested = self._mode is Mode.STAGES and not self._caught
        return "The checker did not come to its test: this run proves nothing." if untested else ""

    def self_test_passed(self) -> int | None:
        """Tell once that the checker has caught its planted error."""
        if self._told or not self._caught:
            return None
        self._told = True
        return 0

    def alive(self) -> bool:
        """Simulated workers do not die."""
        return self._working

    def stop(self) -> None:
        """Let the simulated threads rest."""
        if self._working:
            self._mark()
            self._working = False
            self._twin.follow(None)
