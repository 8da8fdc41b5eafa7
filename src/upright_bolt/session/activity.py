"""What goes on in a session over many samples: a run, a series of runs, a search, a cooling run."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from upright_bolt.errors import BoltError
from upright_bolt.model.event import Event
from upright_bolt.model.sample import Sample

if TYPE_CHECKING:
    from upright_bolt.session.active_run import ActiveRun

BY_USER = "stopped by the user"


class Activity:
    """One of them. A session holds them on a stack: the run in progress on top of the series or search that makes it.

    Attributes:
        ended: whether it is over.
        fault: why it ended before its time; None if it did not.
    """

    ended = False
    fault: BoltError | None = None

    @property
    def needs(self) -> str:
        """Why the machine must not fall asleep meanwhile; empty if it may."""
        return ""

    def on_sample(self, sample: Sample, events: Sequence[Event]) -> None:
        """Take a sample with the events since the last one, and go on; what lies below on the stack comes first."""

    def on_run_end(self, run: "ActiveRun") -> None:
        """Take up a run that has ended on top of it."""

    def stop(self, why: str = BY_USER) -> None:
        """Begin nothing more. What lies above on the stack is stopped after it."""

    def skip_waiting(self) -> None:
        """Go on now, whatever it waits for."""

    def close(self) -> None:
        """The program ends: let go of what is not the machine's."""
