"""Events: what happened to a machine or to its settings at a moment. ``text.events`` makes the sentences.

``time_s`` is on the session's clock; of a kept run, from load start. ``kind`` names the class in files.
"""

from dataclasses import dataclass
from typing import Literal

from upright_bolt.model.control import Value
from upright_bolt.model.hold import LogEntry


@dataclass(frozen=True, slots=True)
class ChargerChanged:
    """The charger was plugged in or out."""

    time_s: float
    plugged: bool
    kind: Literal["charger"] = "charger"


@dataclass(frozen=True, slots=True)
class LimitsReset:
    """A limit was changed by firmware or another program, in the control's unit."""

    time_s: float
    control: str
    before: float
    after: float
    kind: Literal["reset"] = "reset"


@dataclass(frozen=True, slots=True)
class ProcessorsChanged:
    """Logical processors went offline or came back."""

    time_s: float
    gone: tuple[int, ...] = ()
    back: tuple[int, ...] = ()
    kind: Literal["processors"] = "processors"


@dataclass(frozen=True, slots=True)
class ChipsChanged:
    """Graphics chips, by their names as parts, were plugged in or unplugged."""

    time_s: float
    came: tuple[str, ...] = ()
    went: tuple[str, ...] = ()
    kind: Literal["chips"] = "chips"


@dataclass(frozen=True, slots=True)
class Resumed:
    """The machine woke after ``slept_s`` seconds of suspension."""

    time_s: float
    slept_s: float
    kind: Literal["slept"] = "slept"


@dataclass(frozen=True, slots=True)
class ClockSet:
    """The computer's date and time were set by ``by_s`` seconds; below zero: back."""

    time_s: float
    by_s: float
    kind: Literal["clock"] = "clock"


@dataclass(frozen=True, slots=True)
class AccessChanged:
    """The way to the machine failed, for the reason in ``trouble``, or works again (empty)."""

    time_s: float
    trouble: str
    kind: Literal["service"] = "service"


@dataclass(frozen=True, slots=True)
class ChangedByOthers:
    """Another program did something to the machine through the same service: what (tried, kept, put back), and who."""

    time_s: float
    what: str
    who: str
    kind: Literal["others"] = "others"


@dataclass(frozen=True, slots=True)
class ProfileEvent:
    """A profile was put in force, or what no longer held was put back, or left alone; as the hold's log tells."""

    time_s: float
    entry: LogEntry
    kind: Literal["hold"] = "hold"


@dataclass(frozen=True, slots=True)
class Tried:
    """Settings were put in force as a trial, or refused."""

    time_s: float
    settings: dict[str, Value]
    refused: bool = False
    kind: Literal["tried"] = "tried"


@dataclass(frozen=True, slots=True)
class Kept:
    """A trial was kept."""

    time_s: float
    settings: dict[str, Value]
    kind: Literal["kept"] = "kept"


@dataclass(frozen=True, slots=True)
class WasPutBack:
    """A trial was ended; these values are in force again."""

    time_s: float
    settings: dict[str, Value]
    kind: Literal["put back"] = "put back"


@dataclass(frozen=True, slots=True)
class RunStarted:
    """A run began."""

    time_s: float
    run_id: int
    kind: Literal["run-started"] = "run-started"


@dataclass(frozen=True, slots=True)
class RunEnded:
    """A run ended."""

    time_s: float
    run_id: int
    kind: Literal["run-ended"] = "run-ended"


@dataclass(frozen=True, slots=True)
class NotSettled:
    """A run at rest began although the machine had not come to rest after ``waited_s``."""

    time_s: float
    waited_s: float
    kind: Literal["settling"] = "settling"


@dataclass(frozen=True, slots=True)
class SelfTestPassed:
    """The checkers of results caught the wrong bits planted to test them, on so many processors; 0 on a twin."""

    time_s: float
    processors: int
    kind: Literal["check"] = "check"


Event = (
    ChargerChanged
    | LimitsReset
    | ProcessorsChanged
    | ChipsChanged
    | Resumed
    | ClockSet
    | AccessChanged
    | ChangedByOthers
    | ProfileEvent
    | Tried
    | Kept
    | WasPutBack
    | RunStarted
    | RunEnded
    | NotSettled
    | SelfTestPassed
)
OF_THIS_PROGRAM = (Tried, Kept, WasPutBack, RunStarted, RunEnded)
"""Events that this program caused itself: known from a run's own record, so not listed again with it."""
