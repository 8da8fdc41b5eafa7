"""A twin put together: physics, files, registers, clock, and its state on disk."""

import threading
import time
from pathlib import Path

from upright_bolt.errors import MachineFroze
from upright_bolt.kernel.clock import LEAST_SLEEP_S, ClockJump, sleep_real
from upright_bolt.simulator.chip import MachineSpec
from upright_bolt.simulator.demand import Demand
from upright_bolt.simulator.files import SimulatedFiles
from upright_bolt.simulator.physics import DemandSource, Physics
from upright_bolt.simulator.registers import SimulatedRegisters
from upright_bolt.simulator.samples import spec_named
from upright_bolt.simulator.state import SimulatedState, document, fresh_state, load_state


class SimulatedMachine:
    """A simulated machine.

    Args:
        spec: what it is made of.
        state: where it stands; a fresh one if None.
        path: file in which its state lasts; None keeps it in memory.

    Attributes:
        pace: twin seconds per real second; None is as fast as it goes.
    """

    def __init__(self, spec: MachineSpec, state: SimulatedState | None = None, path: Path | None = None) -> None:
        self.spec = spec
        self._path = path
        self.physics = Physics(spec, state or fresh_state(spec))
        self.files = SimulatedFiles(self.physics, self.save)
        self.registers = SimulatedRegisters(self.physics, self.save)
        self.pace: float | None = None

    @property
    def state(self) -> SimulatedState:
        """Where it stands."""
        return self.physics.state

    def save(self) -> None:
        """Write the state to its file, if it has one."""
        if self._path is not None:
            document(self._path).save(self.state)

    def advance(self, seconds: float) -> None:
        """Let time pass. Raises MachineFroze; the restart has happened then, whatever becomes of this process."""
        try:
            self.physics.advance(seconds)
        except MachineFroze:
            self.save()
            raise

    def keep_in_memory(self) -> None:
        """Do not write the state any more: another process has the twin."""
        self._path = None

    def demand(self, threads: frozenset[int], activity: float = 1.0) -> None:
        """Ask for work on the given logical processors from now on; none at all if empty."""
        self.physics.demand = Demand(threads, activity)

    def follow(self, source: DemandSource | None) -> None:
        """Let work by turns ask for the processor from now on; None for nothing at all."""
        self.physics.source = source
        self.physics.demand = Demand()

    def set_pace(self, pace: float | None) -> None:
        """Let its time run ``pace`` times as fast as real time; None for as fast as it goes."""
        self.pace = pace

    def plug(self, *, charger: bool) -> None:
        """Plug the charger in or out."""
        self.physics.plug(charger=charger)
        self.save()


class SimulatedClock:
    """The twin's own time. Waiting advances the physics; with a pace of the twin it also takes real time."""

    def __init__(self, twin: SimulatedMachine) -> None:
        self._twin = twin
        self._due: float | None = None
        self._kept_s: float | None = None
        self._slept_s = twin.state.slept_s

    def now_s(self) -> float:
        """Return the twin's time in s."""
        return self._twin.state.time_s

    def wait_until(self, time_s: float, woken: threading.Event | None = None) -> None:
        """Advance to ``time_s``; with a pace, only as far as real time has gone when ``woken`` is set."""
        ahead = time_s - self.now_s()
        if ahead <= 0:
            return
        if self._twin.pace:
            now = time.monotonic()
            start = self._due if self._due is not None and now - self._due < 0.5 else now
            self._due = start + ahead / self._twin.pace
            sleep_real(self._due - now, woken)
            if woken is not None and woken.is_set():
                ahead = min(ahead, max(0.0, time.monotonic() - start) * self._twin.pace)
                self._due = None
        self._twin.advance(ahead)

    def asleep_s(self) -> float:
        """Return for how long the twin has slept."""
        return self._twin.state.slept_s

    def jumps(self) -> tuple[ClockJump, ...]:
        """Return how long it has slept since the last call; its clock is never set."""
        slept_s, self._slept_s = self.asleep_s() - self._slept_s, self.asleep_s()
        return (ClockJump(slept=True, seconds=slept_s),) if slept_s > LEAST_SLEEP_S else ()

    def keep_up(self) -> None:
        """Let as much time pass as has passed outside since the last call."""
        now = time.monotonic()
        if self._kept_s is not None:
            self._twin.advance(now - self._kept_s)
        self._kept_s = now


def open_simulated(name: str, path: Path | None) -> SimulatedMachine:
    """Return the twin called ``name`` (``tern``, ``tern#1234``), with the state saved at ``path``.

    Raises:
        NotFound: no such twin.
    """
    spec = spec_named(name)
    return SimulatedMachine(spec, load_state(path, spec) if path else None, path)
