"""What a run needs of a workload in execution, wherever it executes."""

from collections.abc import Callable
from dataclasses import dataclass, field

from upright_bolt.errors import BadInput
from upright_bolt.model.graphics import Gpu
from upright_bolt.model.machine import Topology
from upright_bolt.model.run import WorkError
from upright_bolt.model.work import Options
from upright_bolt.model.workloads import Workload, workload


@dataclass(frozen=True, slots=True)
class Task:
    """What a load is made for: a workload's name, the processors and the graphics chip it keeps busy, and all else."""

    workload: str
    cpus: tuple[int, ...]
    options: Options = field(default_factory=Options)
    chip: Gpu | None = None

    @property
    def known(self) -> Workload:
        """The workload."""
        return workload(self.workload)

    @property
    def per_s(self) -> float:
        """Its score counts units in so many seconds."""
        return self.known.per_s


class Load:
    """A workload in execution. All times are on the machine's clock. What a kind of load lacks stands here as nothing.

    Attributes:
        scores: whether it counts work units at all.
    """

    scores = True

    def prepare(self) -> None:
        """Begin whatever must stand before work starts. Raises BoltError if it cannot."""

    def ready(self) -> bool:
        """Tell whether work could start now. Raises BoltError if it never will."""
        return True

    def start(self) -> float:
        """Start the work and return the moment of the load start in s."""
        raise NotImplementedError

    def units_until(self, time_s: float) -> float:
        """Return the work units done from the load start to ``time_s``, blocks under way in proportion."""
        raise NotImplementedError

    def complete_until(self) -> float:
        """Return the moment up to which ``units_until`` is final."""
        raise NotImplementedError

    def errors(self) -> list[WorkError]:
        """Return wrong results, and workers that died or hang, so far; times in s from the load start."""
        return []

    def failure(self) -> str:
        """Return why nothing that comes of it can count, as a sentence; empty if all is well."""
        return ""

    def doubt(self) -> str:
        """Return why nothing can be concluded from its end, as a sentence; empty if all is well."""
        return ""

    def done(self) -> bool:
        """Tell whether it has come to an end of its own."""
        return False

    def own_score(self) -> float | None:
        """Return its score, if that is not its units over time."""
        return None

    def figures(self, duration_s: float) -> dict[str, float]:  # noqa: ARG002 - for those that have some
        """Return numbers of this workload alone over the first ``duration_s`` of load."""
        return {}

    def self_test_passed(self) -> int | None:
        """Return, once, on how many processors the checkers caught their planted error (0: a twin's); None before."""
        return None

    def alive(self) -> bool:
        """Tell whether any worker is still at work."""
        return True

    def stop(self) -> None:
        """End the work at once; harmless when called again."""


def choose_cpus(topology: Topology, name: str, threads: int | None, kind: str) -> tuple[int, ...]:
    """Return the logical processors that a workload keeps busy: one thread of each core first, then the second ones.

    Args:
        topology: the machine's.
        name: the workload's.
        threads: how many; None for as many as the workload usually takes.
        kind: of these cores alone; empty for any.

    Raises:
        BadInput: no such kind of core, or more threads than there are.
    """
    cpus = topology.cpus
    if kind:
        kinds = dict(topology.kinds)
        if kind not in kinds:
            there = ", ".join(kinds) if kinds else "this machine has cores of one kind"
            raise BadInput(f"kind: “{kind}” is not a kind of core here: {there}.")
        cpus = kinds[kind]
    usual = workload(name).threads
    wanted = threads if threads is not None else min(usual or len(cpus), len(cpus))
    if not 1 <= wanted <= len(cpus):
        raise BadInput(f"threads: from 1 to {len(cpus)} can be kept busy here; {wanted} is outside that.")
    seen: dict[tuple[int, int], int] = {}
    order: list[tuple[int, int, int]] = []
    for cpu in cpus:
        core = topology.core_of.get(cpu, (0, cpu))
        order.append((seen.get(core, 0), len(order), cpu))
        seen[core] = seen.get(core, 0) + 1
    return tuple(sorted(cpu for _, _, cpu in sorted(order)[:wanted]))


class RestLoad(Load):
    """A workload that does nothing: the machine is left alone, or somebody else works.

    Args:
        now_s: the machine's clock.
    """

    scores = False

    def __init__(self, now_s: Callable[[], float]) -> None:
        self._now_s = now_s

    def start(self) -> float:
        """Return the present moment."""
        return self._now_s()

    def units_until(self, time_s: float) -> float:  # noqa: ARG002 - the port's signature
        """No units are done."""
        return 0.0

    def complete_until(self) -> float:
        """Everything up to now is final."""
        return self._now_s()
