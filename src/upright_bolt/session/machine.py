"""A machine as a session gets it: its ports, its clock and what can work on it."""

from collections.abc import Callable
from dataclasses import dataclass

from upright_bolt.errors import BadInput
from upright_bolt.kernel.ports import KernelFiles, Registers
from upright_bolt.model.work import RESTING
from upright_bolt.session.clock import Clock
from upright_bolt.workload.load import Load, RestLoad, Task

MakeLoad = Callable[[Task], Load]


def _nothing() -> None:
    return


@dataclass(slots=True)
class Machine:
    """Ports and clock of one machine.

    Attributes:
        word: as typed: ``host``, ``twin:tern``, ``tree:DIR``.
        described: a few words for the strip at the top.
        make_load: builds a workload; None if nothing can run there (then ``no_load`` says why).
        plug: plugs the charger in (True) or out, on machines where a program can do so.
        save: makes what has happened last, where the machine is not real.
        keep_up: lets a simulated machine's time pass as real time has; does nothing on a real one.
        set_pace: makes the machine's time run at a multiple of real time; None for as fast as it goes.
    """

    word: str
    described: str
    files: KernelFiles
    registers: Registers
    clock: Clock
    make_load: MakeLoad | None = None
    no_load: str = ""
    plug: Callable[[bool], None] | None = None
    save: Callable[[], None] = _nothing
    keep_up: Callable[[], None] = _nothing
    set_pace: Callable[[float | None], None] | None = None

    def load(self, task: Task) -> Load:
        """Return a workload ready to be prepared.

        Raises:
            BadInput: nothing can run on this machine, or not this.
        """
        if self.make_load is None:
            raise BadInput(self.no_load)
        if task.workload in RESTING:
            return RestLoad(self.clock.now_s)
        return self.make_load(task)
