"""The face that a workload in execution shows to a run, wherever it executes."""

from typing import Protocol

from upright_bolt.errors import NotHere
from upright_bolt.model.run import WorkError

WORKLOADS = {"steady": "All cores, mixed work: vectors, integers and hashing, compression, memory."}
"""Workloads by name, with a sentence on what each is for."""


class Load(Protocol):
    """A workload in execution. All times are on the machine's clock."""

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
