"""The face that a workload in execution shows to a run, wherever it executes."""

from collections.abc import Callable
from typing import Protocol

from upright_bolt.errors import BadInput, NotHere
from upright_bolt.model.machine import Topology
from upright_bolt.model.run import WorkError

WORKLOADS = {
    "steady": "All cores, mixed work: vectors, integers and hashing, compression, memory.",
    "single": "One core alone, the same work: how far turbo goes when nothing else needs watts.",
    "idle": "No work: what the machine draws and how warm it is when left alone.",
    "watch": "No work of ours: records while you do something else, whose results you enter afterwards.",
}
"""Workloads by name, with a sentence on what each is for."""
RESTING = ("idle", "watch")
"""Workloads without work of ours, and so without a score."""


class Load(Protocol):
    """A workload in execution. All times are on the machine's clock.

    Attributes:
        scores: whether it counts work units at all.
    """

    scores: bool

    def prepare(self) -> None:
        """Begin whatever must stand before work starts. Raises BoltError if it cannot."""
        ...

    def ready(self) -> bool:
        """Tell whether work could start now. Raises BoltError if it never will."""
        ...

    def start(self) -> float:
        """Start the work and return the moment of the load start in s."""
        ...

    def units_until(self, time_s: float) -> float:
        """Return the work units done from the load start to ``time_s``, blocks under way in proportion."""
        ...

    def complete_until(self) -> float:
        """Return the moment up to which ``units_until`` is final."""
        ...

    def errors(self) -> list[WorkError]:
        """Return wrong results and dead workers so far; times in s from the load start."""
        ...

    def alive(self) -> bool:
        """Tell whether any worker is still at work."""
        ...

    def stop(self) -> None:
        """End the work at once; harmless when called again."""
        ...


def check_workload(name: str) -> None:
    """Raise ``NotHere`` unless there is a workload called ``name``."""
    if name not in WORKLOADS:
        raise NotHere(f"There is no workload “{name}”. Workloads: {', '.join(WORKLOADS)}.")


def choose_cpus(topology: Topology, workload: str, threads: int | None, kind: str) -> tuple[int, ...]:
    """Return the logical processors that a workload keeps busy: one thread of each core first, then the second ones.

    Args:
        topology: the machine's.
        workload: its name; ``single`` takes one.
        threads: how many; None for all, or one for ``single``.
        kind: of these cores alone; empty for any.

    Raises:
        BadInput: no such kind of core, or more threads than there are.
    """
    cpus = topology.cpus
    if kind:
        kinds = dict(topology.kinds)
        if kind not in kinds:
            there = ", ".join(kinds) if kinds else "this machine has cores of one kind"
            raise BadInput(f"kind: “{kind}” is no kind of core here: {there}.")
        cpus = kinds[kind]
    wanted = threads if threads is not None else (1 if workload == "single" else len(cpus))
    if not 1 <= wanted <= len(cpus):
        raise BadInput(f"threads: from 1 to {len(cpus)} can be kept busy here; {wanted} is outside that.")
    seen: dict[tuple[int, int], int] = {}
    order: list[tuple[int, int, int]] = []
    for cpu in cpus:
        core = topology.core_of.get(cpu, (0, cpu))
        order.append((seen.get(core, 0), len(order), cpu))
        seen[core] = seen.get(core, 0) + 1
    return tuple(sorted(cpu for _, _, cpu in sorted(order)[:wanted]))


class RestLoad:
    """A workload that does nothing: the machine is left alone, or somebody else works.

    Args:
        now_s: the machine's clock.
    """

    scores = False

    def __init__(self, now_s: Callable[[], float]) -> None:
        self._now_s = now_s

    def prepare(self) -> None:
        """Nothing is to be prepared."""

    def ready(self) -> bool:
        """It always is."""
        return True

    def start(self) -> float:
        """Return the present moment."""
        return self._now_s()

    def units_until(self, time_s: float) -> float:  # noqa: ARG002 - the port's signature
        """No units are done."""
        return 0.0

    def complete_until(self) -> float:
        """Everything up to now is final."""
        return self._now_s()

    def errors(self) -> list[WorkError]:
        """Nothing can go wrong."""
        return []

    def alive(self) -> bool:
        """It never ends by itself."""
        return True

    def stop(self) -> None:
        """There is nothing to end."""
