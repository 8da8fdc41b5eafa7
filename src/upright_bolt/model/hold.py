"""Keeping a profile in force: its state, and the log of what was changed by whom."""

from dataclasses import dataclass, field
from enum import StrEnum

from upright_bolt.model.control import Value
from upright_bolt.model.failure import Failure
from upright_bolt.model.profile import HeldBack, Profile


class Cause(StrEnum):
    """Why something was put in force, or is no longer."""

    BY_HAND = "by hand"
    RULE = "a rule"
    BOOT = "boot"
    WAKE = "wake"
    EDITED = "the profile was edited"
    PROGRAM = "another program"
    FIRMWARE = "the firmware"
    PROCESSORS = "a processor that came back"
    DRIVERS = "a driver that came or went"
    CHIP_AWAKE = "a graphics chip that woke"
    RESUMED = "this program began again"
    DOUBT = "doubt"


class LogKind(StrEnum):
    """What an entry of the log tells."""

    USED = "used"
    """A profile was put in force."""
    NOT_USED = "not used"
    """It could not be; nothing has changed."""
    RESET = "reset"
    """A setting no longer held, and was put back."""
    RESTS = "rests"
    """A setting no longer held, and is left alone."""
    SUSPECT = "suspect"
    """The machine went down uncleanly; nothing risky is put in force."""
    SETTLED = "settled"
    """A profile has been in force for long enough to be trusted."""
    FAILED = "failed"
    """Values failed in a run or took the machine down; no profile applies them any more."""
    CLEARED = "cleared"
    """An administrator has cleared what had failed."""
    DAMAGED = "damaged"
    """A file of the record was damaged; ``control`` names it."""


@dataclass(frozen=True, slots=True)
class LogEntry:
    """One entry.

    Attributes:
        at: date and time, ISO with zone.
        kind: what it tells.
        cause: why it happened.
        profile: the profile concerned.
        control, expected, got: of one setting: what should be in force and what was found.
        who: who did it, in words; empty if that is not known.
        why: a sentence where one is needed.
        settings: what is in force since, or what is under suspicion.
    """

    at: str
    kind: LogKind
    cause: Cause
    profile: str = ""
    control: str = ""
    expected: Value | None = None
    got: Value | None = None
    who: str = ""
    why: str = ""
    settings: dict[str, Value] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Resting:
    """A setting that the hold leaves alone, since something changes it again and again."""

    control: str
    who: str
    since: str


@dataclass(frozen=True, slots=True)
class ProfileView:
    """A profile as it stands on this machine: what would be put in force, and what is held back."""

    profile: Profile
    held_back: tuple[HeldBack, ...] = ()


@dataclass(frozen=True, slots=True)
class RuleView:
    """A rule as its sentence, whether it counts now, and why or why not."""

    sentence: str
    profile: str
    counts: bool
    why: str


@dataclass(frozen=True, slots=True)
class EnforcementStatus:
    """How profiles, rules, hold and boot stand.

    Attributes:
        profiles: every profile that can be used; stock is not among them.
        broken: file name to why it cannot be used.
        rules: every rule.
        rules_text: the text of their file; empty without one.
        rules_broken: why the rules cannot be used; empty if they can.
        active: the profile that is applied in this boot; empty for none.
        applied: its settings that are in force.
        held_back: its settings that are not, and why.
        by_hand: until when it counts, in words, if a person chose it against the rules; else empty.
        hold: whether profiles are kept in force and rules followed.
        boot: whether that begins by itself at the next boot.
        resting: settings that are left alone.
        settling: whether the profile has been in force for less than five minutes.
        suspects: why nothing risky is put in force; empty if nothing is under suspicion.
        off: why nothing at all is done in this boot; empty if it is.
        failures: what has failed on this processor.
        failures_lost: both copies of the record of failures were damaged.
        cleared_at: when failures were last cleared; date and time, empty for never.
        at_boot: what would be put in force at the next boot: name of the profile; empty for nothing.
    """

    profiles: tuple[ProfileView, ...] = ()
    broken: dict[str, str] = field(default_factory=dict)
    rules: tuple[RuleView, ...] = ()
    rules_text: str = ""
    rules_broken: str = ""
    active: str = ""
    applied: dict[str, Value] = field(default_factory=dict)
    held_back: tuple[HeldBack, ...] = ()
    by_hand: str = ""
    hold: bool = False
    boot: bool = False
    resting: tuple[Resting, ...] = ()
    settling: bool = False
    suspects: str = ""
    off: str = ""
    failures: tuple[Failure, ...] = ()
    failures_lost: bool = False
    cleared_at: str = ""
    at_boot: str = ""
