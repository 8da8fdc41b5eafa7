"""Workloads on a twin: a demand on its simulated cores, and the units its physics counts."""

from upright_bolt.model.run import WorkError
from upright_bolt.twin.machine import Twin
from upright_bolt.workload.load import check_workload


class TwinLoad:
    """Port ``Load`` on a twin.

    Args:
        twin: the twin.
        workload: its name.
        cpus: the simulated processors to keep busy.
    """

    scores = True

    def __init__(self, twin: Twin, workload: str, cpus: tuple[int, ...]) -> None:
        check_workload(workload)
        self._cpus = frozenset(cpus)
        self._twin = twin
        self._start_units = 0.0
        self._start_s = 0.0
        self._marks: list[tuple[float, float]] = []
        self._working = False

    def prepare(self) -> None:
        """A twin needs no preparation."""

    def ready(self) -> bool:
        """A twin is always ready."""
        return True

    def start(self) -> float:
        """Put the simulated threads to work."""
        state = self._twin.state
        self._start_units = state.units
        self._start_s = state.time_s
        state.mishaps.clear()
        self._marks = [(state.time_s, 0.0)]
        self._twin.demand(self._cpus)
        self._working = True
        return state.time_s

    def units_until(self, time_s: float) -> float:
        """Return units done up to ``time_s``, in proportion between the moments at which it was asked."""
        self._mark()
        for (t0, u0), (t1, u1) in zip(reversed(self._marks[:-1]), reversed(self._marks[1:]), strict=True):
            if t0 <= time_s <= t1:
                return u0 + (u1 - u0) * ((time_s - t0) / (t1 - t0) if t1 > t0 else 1.0)
        return self._marks[-1][1] if time_s > self._marks[-1][0] else 0.0

    def _mark(self) -> None:
        state = self._twin.state
        if self._working and state.time_s > self._marks[-1][0]:
            self._marks.append((state.time_s, state.units - self._start_units))

    def complete_until(self) -> float:
        """Everything the twin has done is final."""
        self._mark()
        return self._marks[-1][0]

    def errors(self) -> list[WorkError]:
        """Return the wrong results that too little voltage has led to."""
        return [
            WorkError(float(time_s) - self._start_s, int(float(cpu)), str(block), "wrong result")
            for time_s, cpu, block in self._twin.state.mishaps
            if float(time_s) > self._start_s
        ]

    def alive(self) -> bool:
        """Simulated workers do not die."""
        return self._working

    def stop(self) -> None:
        """Let the simulated threads rest."""
        if self._working:
            self._mark()
            self._working = False
            self._twin.demand(frozenset())
