"""Trials: a draft put in force provisionally, and the report of putting settings in force."""

from dataclasses import dataclass, field
from enum import StrEnum

from upright_bolt.model.control import Value
from upright_bolt.model.note import Diagnostic


@dataclass(frozen=True, slots=True)
class ApplyRow:
    """What became of one control: asked, got, and why if they differ."""

    name: str
    asked: Value
    got: Value | None
    ok: bool
    why: Diagnostic | None = None


@dataclass(frozen=True, slots=True)
class ApplyReport:
    """What became of settings that were put in force.

    ``left_changed`` names files that could not be put back after a failure: empty means the machine is either
    as asked or exactly as before. ``bad_input`` tells that what was asked can never be (out of range, or
    contradicting itself), rather than that the machine refused it.
    """

    rows: tuple[ApplyRow, ...]
    left_changed: tuple[str, ...] = ()
    bad_input: bool = False

    @property
    def ok(self) -> bool:
        """Whether every control is as asked."""
        return all(row.ok for row in self.rows)


@dataclass(frozen=True, slots=True)
class Trial:
    """A draft in force provisionally.

    Attributes:
        id: unique within its journal.
        settings: what is being tried.
        before: kernel file to its text before the trial.
        before_values: control to its value before the trial.
        since: ISO time with zone.
        by: who began it, for a person.
        standing: True if it outlives the program that began it (a command's ``set``).
        boot_id: the boot it belongs to.
        owner: who may keep it, where several share the process that holds the machine; empty if nobody else could.
        unrecorded: why its end could not be written down, for one that has ended; empty if it was.
        power_source: "charger" or "battery" when it began; empty if the machine does not say.
        asleep_s: for how long the machine had slept in this boot when it began, all together.
        left_to_firmware: limits that the firmware has set anew for another power source since it began, with what it
            has set: putting back leaves them.
    """

    id: str
    settings: dict[str, Value]
    before: dict[str, str]
    before_values: dict[str, Value]
    since: str
    by: str
    standing: bool
    boot_id: str
    owner: str = ""
    unrecorded: str = ""
    power_source: str = ""
    asleep_s: float = 0.0
    left_to_firmware: dict[str, Value] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Drift:
    """A control that no longer holds what was put in force.

    ``why`` is given where processors differ, so that some hold it and some do not, and where it cannot be read.
    """

    name: str
    expected: Value
    got: Value | None
    why: Diagnostic | None = None


class RecoveryOutcome(StrEnum):
    """What was done about a trial that an earlier process left."""

    RESTARTED = "restarted"
    PUT_BACK = "put-back"
    NOT_PUT_BACK = "not-put-back"
    ENDED = "ended"
    """Nothing of it was in force: it had been put back when that could not be written down."""
    STOCK = "stock"
    """The record was damaged: whatever had been changed in this boot went back to its stock value."""
    RENEWED = "renewed"
    """The second copy of the stock values was damaged, and written anew from the record."""


@dataclass(frozen=True, slots=True)
class Recovery:
    """What an earlier process left, and what was done about it.

    Attributes:
        trial: the trial, without the file texts that only putting back needs; None if there was none.
        outcome: what was done.
        left: files that did not take their earlier texts.
        damaged: names of damaged records.
        aside: where they are kept now; empty if there was no room for a copy.
        why: why files were left, as far as that is known.
        older: records were not damaged, but of an earlier version of this program, in a form that is not read any more.
    """

    trial: Trial | None
    outcome: RecoveryOutcome
    left: tuple[str, ...] = ()
    damaged: tuple[str, ...] = ()
    aside: tuple[str, ...] = ()
    why: Diagnostic | None = None
    older: bool = False


@dataclass(frozen=True, slots=True)
class Status:
    """What is in force, whether it still is what was put there, and from where the machine draws its power.

    Attributes:
        capped: what holds a control down that was set, by its name: what was set counts again once that lets go.
        slept: the machine has slept since: registers, and limits as well, are the firmware's after waking.
        stock_unknown: an earlier record of this boot could not be read, so not all stock values are known.
        unseen: why it cannot be told whether somebody with more rights has a trial running; None if it can.
    """

    trial: Trial | None
    drift: tuple[Drift, ...] = ()
    kept: dict[str, Value] = field(default_factory=dict)
    power_source: str = ""
    capped: dict[str, Diagnostic] = field(default_factory=dict)
    unseen: Diagnostic | None = None
    slept: bool = False
    stock_unknown: bool = False

    @property
    def tried(self) -> dict[str, Value]:
        """What the trial has set; nothing without one."""
        return dict(self.trial.settings) if self.trial is not None else {}

    @property
    def expected(self) -> dict[str, Value]:
        """What should be in force: what was kept, and over it the trial."""
        return {**self.kept, **self.tried}
