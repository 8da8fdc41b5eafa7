"""A machine as a session gets it: its ports, and what can work on it."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from upright_bolt.errors import BadInput
from upright_bolt.kernel.clock import Clock
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.ports import KernelFiles, Registers
from upright_bolt.model.workloads import workload
from upright_bolt.session.autostart import Autostart
from upright_bolt.workload.load import Load, RestLoad, Task

MakeLoad = Callable[[Task], Load]


@dataclass(slots=True)
class Machine:
    """One machine and its workloads.

    Attributes:
        ports: its files, registers and clock.
        described: a few words for the strip at the top.
        make_load: builds a workload; None if nothing can run there (then ``no_load`` says why).
        plug: plugs the charger in (True) or out, on machines where a program can do so.
        record: the folder in which a person's records of it lie; None if it has none.
        stay_awake: keeps the machine from falling asleep, for a reason given, until what it returns is called; None
            where nothing sleeps.
        autostart: lets this program begin again after a restart; None where nothing restarts.
        at_login: lets it begin in the panel at login; None where nobody logs in.
        set_pace: makes the machine's time run at a multiple of real time; None for as fast as it goes.
    """

    ports: MachinePorts
    described: str
    make_load: MakeLoad | None = None
    no_load: str = ""
    plug: Callable[[bool], None] | None = None
    set_pace: Callable[[float | None], None] | None = None
    record: Path | None = None
    stay_awake: Callable[[str], Callable[[], None]] | None = None
    autostart: Autostart | None = None
    at_login: Autostart | None = None

    @property
    def spec(self) -> str:
        """The machine as typed."""
        return self.ports.spec

    @property
    def files(self) -> KernelFiles:
        """Its kernel files."""
        return self.ports.files

    @property
    def registers(self) -> Registers:
        """Its registers."""
        return self.ports.registers

    @property
    def clock(self) -> Clock:
        """Its own time."""
        return self.ports.clock

    def save(self) -> None:
        """Make what has happened last, where the machine is not real."""
        self.ports.save()

    def load(self, task: Task) -> Load:
        """Return a workload ready to be prepared.

        Raises:
            BadInput: nothing can run on this machine, or not this.
        """
        if self.make_load is None:
            raise BadInput(self.no_load)
        if workload(task.workload).rests:
            return RestLoad(self.clock.now_s)
        return self.make_load(task)
