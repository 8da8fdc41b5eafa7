"""What is declared of a control, whatever machine it is on: its form, its place in the window, its risk."""

from dataclasses import dataclass
from enum import StrEnum

from upright_bolt.model import quantity as q
from upright_bolt.model.note import DiagnosticCode, Subject


class Kind(StrEnum):
    """The form of a control's value."""

    SCALE = "scale"
    SWITCH = "switch"
    CHOICE = "choice"
    LIST = "list"
    TABLE = "table"


class PanelGroup(StrEnum):
    """Where a control stands on the Workbench."""

    DAILY = "daily"
    """A row where the machine has it, and named as missing where not."""
    RARE = "rare"
    """A row where the machine has it, and not a word where not."""
    DELIBERATE = "deliberate"
    """No row: it takes a protection away, so it is set by itself in the Machine view, after a question."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Declaration:
    """What is true of a control on every machine.

    Attributes:
        name: the word used on the command line, in files and in JSON.
        title: the words a person reads.
        hint: one sentence on what it does.
        quantity: what it measures, and so its unit.
        kind: a scale, a switch, a choice of words, a list of words, or a table of numbers.
        step: a sensible step of the number entry, in the quantity's unit; 0 for words.
        panel: where it stands on the Workbench.
        panel_order: its position there; lower is higher up.
        write_order: its position when several are written; lower is earlier.
        interface: the interface whose absence explains its own.
        absent: why it is absent although the interface is there.
        risky: whether a wrong value can crash the machine or take a protection away.
        danger: on which side of stock a number fails in the end: −1 below, 1 above; 0 where it has no such side.
        of_part: whether it belongs to a part of which a machine may have several, so that it is named ``PART.name``.
        changes: controls that the machine may change along with it; a trial puts them back, too.
        checked_with: controls whose values decide whether a value of this one makes sense.
        companion: the control that people move together with it in a sweep; empty for none.
    """

    name: str
    title: str
    hint: str
    quantity: q.Quantity
    kind: Kind = Kind.SCALE
    step: float = 0.0
    panel: PanelGroup
    panel_order: int
    write_order: int
    interface: Subject
    absent: DiagnosticCode = DiagnosticCode.NOT_OFFERED
    risky: bool = False
    unsafe_direction: float = 0.0
    of_part: bool = False
    changes: tuple[str, ...] = ()
    checked_with: tuple[str, ...] = ()
    companion: str = ""

    @property
    def guarded(self) -> bool:
        """Whether it is set only by itself and after a question, and belongs in no draft and no profile."""
        return self.panel is PanelGroup.DELIBERATE
