"""Controls on one machine: range, stock value, what is in force, whether it may be set and who forbids it.

What is true of a control everywhere stands in ``model.catalogue``. A value is a number in the quantity's unit, or a
word for switches and choices.
"""

from dataclasses import dataclass
from enum import StrEnum
from itertools import pairwise
from math import isfinite

from upright_bolt.errors import BadInput
from upright_bolt.model import quantity as q
from upright_bolt.model.catalogue import declaration_of, title_of
from upright_bolt.model.declaration import Declaration, Kind
from upright_bolt.model.note import Diagnostic

Value = float | str
"""A control's value: a number in the quantity's own unit, or a word ("on", "powersave")."""


class ControlState(StrEnum):
    """Whether a control can be set."""

    SETTABLE = "settable"
    LOCKED = "locked"
    READ_ONLY = "read-only"
    ASLEEP = "asleep"
    """Its device sleeps: what it holds cannot be read without waking it."""
    ABSENT = "absent"


PREFERENCE_NAMES: dict[str, int] = {
    "performance": 0,
    "balance_performance": 128,
    "balance_power": 192,
    "power": 255,
}
"""The kernel's names for preferences and the numbers its documentation gives them (intel_pstate, HWP)."""


@dataclass(frozen=True, slots=True)
class Control:
    """A control on one machine, as it stands now.

    Attributes:
        name: its full name, with its part if it belongs to one.
        declaration: what is true of it everywhere.
        minimum: lowest allowed value, or None for words.
        maximum: highest allowed value, or None for words.
        step: the steps in which the interface keeps it, or the sensible entry step if coarser.
        choices: allowed words, in the kernel's order.
        stock: its value before this program changed anything in this boot; None if unknown.
        current: its value read back from the machine; None if it cannot be read.
        state: whether it can be set.
        note: for anything but settable: who forbids it; else what is worth knowing, or None.
        steps: the only values that the interface keeps, the lowest first; empty if there are no such.
    """

    name: str
    declaration: Declaration
    minimum: float | None
    maximum: float | None
    step: float
    choices: tuple[str, ...]
    stock: Value | None
    current: Value | None
    state: ControlState
    note: Diagnostic | None = None
    steps: tuple[float, ...] = ()

    @property
    def title(self) -> str:
        """The words a person reads, with its part if it belongs to one."""
        return title_of(self.name)

    @property
    def settable(self) -> bool:
        """Whether it can be set at all."""
        return self.state is ControlState.SETTABLE

    def show(self, value: Value | None) -> str:
        """Return a value of this control as a person reads it."""
        return show_value(self.name, value)

    def parse(self, text: str) -> Value:
        """Return the value a person typed, checked against this machine's range.

        Raises:
            BadInput: not a value of this control, or outside its range; the sentence says what is accepted.
        """
        value = parse_value(self.name, text)
        self.check(value)
        return value

    def check(self, value: Value) -> None:
        """Check a value against this machine's range or choices.

        Raises:
            BadInput: it lies outside; the sentence says what is accepted.
        """
        title = self.title
        if self.declaration.kind in (Kind.LIST, Kind.TABLE):
            self._check_parts(str(value))
            return
        if isinstance(value, str):
            if self.choices and value not in self.choices:
                raise BadInput(f"{title}: “{value}” is not among {', '.join(self.choices)}.")
            return
        if not isfinite(value):
            raise BadInput(f"{title}: {value} is not a number that could be set.")
        if self.minimum is None or self.maximum is None:
            return
        slack = 1e-6 * max(abs(self.minimum), abs(self.maximum), 1.0)
        if not self.minimum - slack <= value <= self.maximum + slack:
            shown = self.show(value)
            if shown in (self.show(self.minimum), self.show(self.maximum)):  # told apart only by more digits
                shown = f"{value:.6g} {self.declaration.quantity.unit}"
            raise BadInput(
                f"{title}: {shown} is outside what this machine allows, "
                f"{self.show(self.minimum)} to {self.show(self.maximum)}."
            )

    def _check_parts(self, value: str) -> None:
        title = self.title
        if self.declaration.kind is Kind.LIST:
            unknown = [word for word in parts_of(value) if word not in self.choices]
            if unknown:
                raise BadInput(f"{title}: {', '.join(unknown)} is not among {', '.join(self.choices)}, or none.")
            return
        rows = [float(part) for part in parts_of(value)]
        known = len(parts_of(str(self.current or "")))
        if known and len(rows) != known:
            raise BadInput(f"{title}: it has {known} clocks here, one core first; {len(rows)} given.")
        if any(later > earlier for earlier, later in pairwise(rows)):
            raise BadInput(f"{title}: more active cores cannot have a higher clock than fewer.")
        low, high = self.minimum, self.maximum
        if low is not None and high is not None and not all(low <= row <= high for row in rows):
            clock = self.declaration.quantity
            raise BadInput(f"{title}: every clock lies from {clock.show(low)} to {clock.show(high)} here.")


NONE = "none"
"""A list without words."""


def parts_of(value: str) -> list[str]:
    """Return the parts of a list or table; of ``none``, no part."""
    return [] if value == NONE else [part.strip() for part in value.split(",") if part.strip()]


def show_value(name: str, value: Value | None) -> str:
    """Return a control's value as a person reads it. Raises NotFound if there is no such control."""
    declared = declaration_of(name)
    if declared.kind is Kind.TABLE and isinstance(value, str):
        return ", ".join(f"{float(part) / 1000:g}" for part in parts_of(value)) + " GHz"
    if isinstance(value, str):
        return value
    return declared.quantity.show(value)


def parse_value(name: str, text: str) -> Value:
    """Return the value typed for control ``name``, in its own unit, not yet checked against a machine.

    Raises:
        NotFound: there is no such control.
        BadInput: the text is not a value of this control.
    """
    declared, title = declaration_of(name), title_of(name)
    text = text.strip()
    if not text:
        raise BadInput(f"{title}: nothing was given.")
    if declared.kind is Kind.SWITCH:
        if text.lower() not in ("on", "off"):
            raise BadInput(f"{title}: “{text}” is neither on nor off.")
        return text.lower()
    if declared.kind is Kind.CHOICE:
        return text
    if declared.kind is Kind.LIST:
        return ",".join(parts_of(text)) or NONE
    if declared.kind is Kind.TABLE:
        return _parse_table(declared.quantity, title, parts_of(text))
    if declared.quantity is q.PREFERENCE:
        return _parse_preference(title, text)
    value = declared.quantity.parse(text, title)
    if declared.quantity is q.OFFSET:
        _ask_back(title, text, value)
    return value


def _parse_table(quantity: q.Quantity, title: str, parts: list[str]) -> str:
    """Return the numbers of a table; a unit behind the last one counts for all that have none."""
    unit = parts[-1].lstrip("0123456789. ") if parts else ""
    whole = [part + unit if part[-1].isdigit() else part for part in parts]
    return ",".join(f"{quantity.parse(part, title):g}" for part in whole)


def _ask_back(title: str, text: str, value: float) -> None:
    """Raise BadInput for an offset that looks like a slip of sign or unit."""
    if value > 0:
        raise BadInput(f"{title}: “{text}” would raise the voltage. Did you mean −{value:g} mV?")
    if -1.0 < value < 0:
        raise BadInput(f"{title}: “{text}” is less than one millivolt. Did you mean {value * 1000:g} mV?")


def _parse_preference(title: str, text: str) -> float:
    if text in PREFERENCE_NAMES:
        return float(PREFERENCE_NAMES[text])
    if text.isascii() and text.isdecimal() and int(text) <= 255:
        return float(int(text))
    names = ", ".join(PREFERENCE_NAMES)
    raise BadInput(f"{title}: “{text}” is neither a whole number from 0 to 255 nor one of {names}.")
