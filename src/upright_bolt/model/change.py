"""What happens to a machine from outside, as whoever keeps its settings in force hears of it."""

from dataclasses import dataclass
from enum import StrEnum


class ChangeKind(StrEnum):
    """What has happened."""

    WRITTEN = "written"
    """A kernel file was written, by this program or another one."""
    SUPPLY = "supply"
    """A charger, dock or battery has changed."""
    MODE = "mode"
    """The platform mode has changed."""
    PROCESSORS = "processors"
    """A processor has gone offline or come back."""
    DRIVERS = "drivers"
    """A driver has come or gone: the files of controls may have vanished, or be others than before."""
    SLEEP = "sleep"
    """The machine is about to sleep."""
    WAKE = "wake"
    """It has woken."""
    PROGRAM = "program"
    """A program that was asked for has begun or ended."""


ENDED = ", which has ended"
"""The end of the words for a writer that had ended before its name could be read."""


@dataclass(frozen=True, slots=True)
class MachineChange:
    """One happening.

    Attributes:
        kind: what.
        path: the file, for ``WRITTEN``.
        who: who did it, in words: "energy-tool (process 4711)"; empty if that is not known.
    """

    kind: ChangeKind
    path: str = ""
    who: str = ""


def better_named(later: str, earlier: str) -> str:
    """Return which of two writers to name: the later one, unless only the earlier one's name is known."""
    return earlier if earlier and (not later or later.endswith(ENDED)) else later
