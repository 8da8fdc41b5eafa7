"""How far a session reaches into its machine: directly through the kernel's ports, or through the root service."""

from collections.abc import Callable
from typing import Protocol

from upright_bolt.model.control import Control, Value
from upright_bolt.model.machine import About
from upright_bolt.model.settings import Settings
from upright_bolt.model.trial import ApplyReport, Status, Trial
from upright_bolt.session.sampler import Sample


class Reach(Protocol):
    """Reading and setting one machine; the same face in this process and through the service.

    Attributes:
        recovered: a sentence on what was done about a trial that an earlier process left; empty if none.
        fastest_s: the shortest time between two samples that tell anything new.
        trouble: what is wrong with the way to the machine at the moment, as a sentence; empty if nothing.
        while_waiting: called now and then while an answer is out.
    """

    recovered: str
    fastest_s: float
    trouble: str
    while_waiting: Callable[[], None]

    @property
    def about(self) -> About:
        """What does not change about the machine."""
        ...

    @property
    def closed(self) -> str:
        """Why nothing can be changed through it, as a sentence; empty if it can."""
        ...

    def controls(self) -> dict[str, Control]:
        """Return every control of the catalogue as it stands."""
        ...

    def in_force(self) -> dict[str, Value]:
        """Return every control that can be read, with its value."""
        ...

    def sample(self) -> Sample:
        """Read every sensor once."""
        ...

    def status(self) -> Status:
        """Return the trial, what was kept, and what no longer holds."""
        ...

    def try_settings(self, settings: Settings, *, standing: bool) -> ApplyReport:
        """Put settings in force as a trial. Raises BadInput, InUse or Refused; a machine's no is in the report."""
        ...

    def keep(self) -> Trial:
        """End the trial; its settings stay until a restart. Raises BadInput, InUse or Refused."""
        ...

    def put_back(self, why: str) -> Trial:
        """End the trial and put back what was before it. Raises BadInput, InUse or Refused."""
        ...

    def close(self) -> str:
        """Put back a trial that does not outlive this process, and let the machine go; return what went wrong."""
        ...


def nothing() -> None:
    """Do nothing while waiting."""
