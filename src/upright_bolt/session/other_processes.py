"""What else runs beside a run: counted when the load begins and when it ends."""

import os

from upright_bolt.kernel.changes.processes import ProcessTable, busiest_others, read_processes, wake_ups
from upright_bolt.kernel.ports import KernelFiles
from upright_bolt.model.machine import Topology


class OtherProcesses:
    """Counts processes and interrupts over a run.

    Args:
        files: the machine's.
        topology: the machine's.

    Attributes:
        others: share of one processor in % by program name, once the run has ended.
        wakes: interrupts a second, once the run has ended; None if unknown.
    """

    def __init__(self, files: KernelFiles, topology: Topology) -> None:
        self._files = files
        self._topology = topology
        self._before: ProcessTable | None = None
        self._begun_s = 0.0
        self.others: dict[str, float] = {}
        self.wakes: float | None = None

    def begin(self, now_s: float) -> None:
        """Count at the load start."""
        self._begun_s = now_s
        self._before = read_processes(self._files)

    def end(self, now_s: float) -> None:
        """Count at the end."""
        if self._before is None:
            return
        after, seconds = read_processes(self._files), now_s - self._begun_s
        self.others = busiest_others(self._before, after, seconds, os.getpid())
        self.wakes = wake_ups(self._before, after, seconds)

    def core_of(self, cpu: int) -> int:
        """Return the core of a logical processor."""
        return self._topology.core_of.get(cpu, (0, cpu))[1]
