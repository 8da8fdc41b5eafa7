"""The way from a session to its machine: the settings engine in this process, or the root service over the bus."""

from collections.abc import Callable, Collection
from dataclasses import dataclass
from typing import Protocol

from upright_bolt.model.control import Control, Value
from upright_bolt.model.hold import EnforcementStatus, LogEntry
from upright_bolt.model.machine import About
from upright_bolt.model.sample import Sample
from upright_bolt.model.settings import Settings
from upright_bolt.model.trial import ApplyReport, Recovery, Status, Trial


@dataclass(frozen=True, slots=True)
class Change:
    """Something that another program did to the machine: what (tried, kept, put back), and who."""

    what: str
    who: str


PROFILES = "profiles"
"""``Change.what`` of a change of profiles, rules or hold."""


class ProfileAccess(Protocol):
    """Profiles, rules and hold of one machine.

    Attributes:
        near: they are in this process, so that asking whether something is due costs nothing.
    """

    near: bool

    def status(self) -> EnforcementStatus:
        """Return how everything stands."""
        ...

    def log(self, most: int = ...) -> tuple[LogEntry, ...]:
        """Return the latest entries of the hold's log, oldest first."""
        ...

    def text(self, name: str) -> str:
        """Return the text of a profile's file. Raises NotFound or BadInput."""
        ...

    def save(self, name: str, text: str) -> None:
        """Make a text the profile of that name. Raises BadInput, Denied or BoltError."""
        ...

    def delete(self, name: str) -> None:
        """Delete a profile. Raises NotFound, BadInput, Denied or BoltError."""
        ...

    def save_rules(self, text: str) -> None:
        """Make a text the rules. Raises BadInput, Denied or BoltError."""
        ...

    def use(self, name: str) -> None:
        """Put a profile in force and hold it. Raises BadInput, Denied, InUse or Refused."""
        ...

    def set_hold(self, *, on: bool) -> None:
        """Keep profiles in force and follow rules, or not. Raises BadInput, Denied or BoltError."""
        ...

    def set_boot(self, *, on: bool) -> None:
        """Begin by itself at the next boot, or not. Raises Denied or BoltError."""
        ...

    def report_failure(self) -> None:
        """Report that what is applied now has failed in a run. Raises BadInput, Denied, InUse or BoltError."""
        ...

    def clear_failures(self) -> None:
        """Forget what has failed on this processor. Raises Denied, InUse or BoltError."""
        ...

    def reconcile(self) -> float:
        """Take up what has happened and do what is due; return in how many seconds to call again at the latest."""
        ...

    def close(self) -> None:
        """Let go."""
        ...


class MachineAccess(Protocol):
    """Reading and setting one machine; the same for a program with rights of its own and for one that asks the service.

    Attributes:
        recovered: what was done about a trial that an earlier process left; None if nothing.
        fastest_s: the shortest time between two samples that tell anything new.
        trouble: what is wrong with the way to the machine at the moment, as a sentence; empty if nothing.
        while_waiting: called now and then while an answer is out.
        profiles: its profiles, rules and hold; None where there are none.
    """

    profiles: ProfileAccess | None

    recovered: Recovery | None
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
        """Return every control as it stands."""
        ...

    def current_values(self) -> dict[str, Value]:
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

    def revert(self, why: str) -> Trial:
        """End the trial and put back what was before it. Raises BadInput, InUse or Refused."""
        ...

    def reset_to_stock(self, names: Collection[str] = ()) -> Trial:
        """Put the machine's own values in force: of the named controls, or of all that were changed in this boot.

        Raises BadInput, NotFound, InUse or Refused.
        """
        ...

    def changes_by_others(self) -> tuple[Change, ...]:
        """Return what others have done to the machine through the same service since the last call."""
        ...

    def begin_series(self, names: Collection[str]) -> None:
        """Announce several trials of the named controls: a question about rights is asked once, now. Raises Denied."""
        ...

    def end_series(self) -> None:
        """The announced trials are over."""
        ...

    def begin_run(self, what: str) -> None:
        """Announce a run, so that no other begins on this machine meanwhile. Raises InUse."""
        ...

    def end_run(self) -> None:
        """The announced run is over."""
        ...

    def close(self) -> str:
        """Put back a trial that does not outlive this process, and let the machine go; return what went wrong."""
        ...


def nothing() -> None:
    """Do nothing while waiting."""
