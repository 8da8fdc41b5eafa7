"""Controls: what can be set on a machine, declared once as data.

Number entries, validation, the command line, strips and the documentation all read ``CATALOGUE``. What a
particular machine makes of a control (range, stock value, whether it may be set and who forbids it) is a
``Control``; its value is a number in the quantity's unit, or a word for switches and choices.
"""

from dataclasses import dataclass
from difflib import get_close_matches
from enum import StrEnum
from itertools import pairwise
from math import isfinite

from upright_bolt.errors import BadInput, NotHere
from upright_bolt.model import quantity as q

Value = float | str
"""A control's value: a number in the quantity's own unit, or a word ("on", "powersave")."""


class ControlState(StrEnum):
    """Whether a control can be set."""

    SETTABLE = "settable"
    LOCKED = "locked"
    READ_ONLY = "read-only"
    ABSENT = "absent"


class Kind(StrEnum):
    """The form of a control's value."""

    SCALE = "scale"
    SWITCH = "switch"
    CHOICE = "choice"
    LIST = "list"
    TABLE = "table"


@dataclass(frozen=True, slots=True)
class Declaration:
    """What is true of a control on every machine.

    Attributes:
        name: the word used on the command line, in files and in JSON.
        title: the words a person reads.
        quantity: what it measures, and so its unit.
        kind: a scale, a switch, a choice of words, a list of words, or a table of numbers.
        step: a sensible step of the number entry, in the quantity's unit; 0 for words.
        hint: one sentence on what it does.
        risky: whether a wrong value can crash the machine or take a protection away.
        deliberate: it is set only by itself and after a question, and belongs in no draft and no profile.
    """

    name: str
    title: str
    quantity: q.Quantity
    kind: Kind
    step: float
    hint: str
    risky: bool = False
    deliberate: bool = False


_DECLARED = (
    Declaration("sustained", "Sustained limit (PL1)", q.POWER, Kind.SCALE, 1.0,
                "Watts the processor may draw on average over the burst window."),
    Declaration("burst", "Burst limit (PL2)", q.POWER, Kind.SCALE, 1.0,
                "Watts it may draw at once, until the average reaches the sustained limit."),
    Declaration("window", "Burst window", q.TIME, Kind.SCALE, 1.0,
                "Time over which the sustained limit is averaged: how long a burst can last."),
    Declaration("peak", "Peak limit (PL4)", q.POWER, Kind.SCALE, 1.0,
                "Watts that are never exceeded, not even for a moment: it spares a weak battery or charger."),
    Declaration("board", "Board limit (psys)", q.POWER, Kind.SCALE, 1.0,
                "Watts of the whole board on average, screen and disks included, where the board counts them."),
    Declaration("current", "Current limit (IccMax)", q.CURRENT, Kind.SCALE, 1.0,
                "Amperes that the cores may draw at once.", risky=True),
    Declaration("clamp", "Clamping", q.SWITCH, Kind.SWITCH, 0.0,
                "Whether the clock may fall below the base clock to hold the sustained limit."),
    Declaration("limiter", "Limits enforced", q.SWITCH, Kind.SWITCH, 0.0,
                "Whether the power limits hold at all. Off, only heat and the board hold the processor back.",
                risky=True),
    Declaration("turbo", "Turbo", q.SWITCH, Kind.SWITCH, 0.0,
                "Clocks above the base clock. Off costs speed and saves much heat."),
    Declaration("epp", "Energy preference (EPP)", q.PREFERENCE, Kind.SCALE, 16.0,
                "0 is eager, 255 is thrifty: how readily the clock rises with the work."),
    Declaration("governor", "Governor", q.CHOICE, Kind.CHOICE, 0.0,
                "The kernel's rule for choosing clocks."),
    Declaration("clock-min", "Lowest clock", q.CLOCK, Kind.SCALE, 100.0,
                "The clock never falls below this while the processor is awake."),
    Declaration("clock-max", "Highest clock", q.CLOCK, Kind.SCALE, 100.0,
                "The clock never rises above this."),
    Declaration("turbo-table", "Turbo table", q.CLOCK, Kind.TABLE, 100.0,
                "The highest clock by number of active cores, one core first."),
    Declaration("idle-off", "Idle states switched off", q.CHOICE, Kind.LIST, 0.0,
                "Resting states that the processor may not use: quicker to wake, and more watts at rest."),
    Declaration("platform-mode", "Platform mode", q.CHOICE, Kind.CHOICE, 0.0,
                "The vendor's own mode: it moves fans, and may rewrite the power limits within a second."),
    Declaration("heat-ceiling", "Heat ceiling", q.TEMPERATURE, Kind.SCALE, 1.0,
                "The temperature at which the processor slows down. It can be lowered, never lifted."),
    Declaration("core-offset", "Core voltage offset", q.OFFSET, Kind.SCALE, 5.0,
                "Less voltage for the cores at every clock: fewer watts, or more clock for the same watts.",
                risky=True),
    Declaration("cache-offset", "Cache voltage offset", q.OFFSET, Kind.SCALE, 5.0,
                "Less voltage for the cache; where it shares a rail with the cores, the weaker offset counts.",
                risky=True),
    Declaration("gpu-offset", "Graphics voltage offset", q.OFFSET, Kind.SCALE, 5.0,
                "Less voltage for the processor's own graphics.",
                risky=True),
    Declaration("agent-offset", "System agent voltage offset", q.OFFSET, Kind.SCALE, 5.0,
                "Less voltage for memory controller and links.",
                risky=True),
    Declaration("hot-signal", "External hot signal obeyed", q.SWITCH, Kind.SWITCH, 0.0,
                "Whether the processor slows down when another part of the board is hot. Off, that part may burn.",
                risky=True, deliberate=True),
)  # fmt: skip
CATALOGUE: dict[str, Declaration] = {d.name: d for d in _DECLARED}

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
        declaration: what is true of it everywhere.
        minimum: lowest allowed value, or None for words.
        maximum: highest allowed value, or None for words.
        step: the steps in which the surface keeps it, or the sensible entry step if coarser.
        choices: allowed words, in the kernel's order.
        stock: its value before this program changed anything in this boot; None if unknown.
        in_force: its value read back from the machine; None if it cannot be read.
        state: whether it can be set.
        reason: for anything but settable: who forbids it and what to do; else a note, or empty.
    """

    declaration: Declaration
    minimum: float | None
    maximum: float | None
    step: float
    choices: tuple[str, ...]
    stock: Value | None
    in_force: Value | None
    state: ControlState
    reason: str

    @property
    def name(self) -> str:
        """The control's word."""
        return self.declaration.name

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
        """Raise ``BadInput`` unless ``value`` lies within this machine's range or choices."""
        title = self.declaration.title
        if self.declaration.kind in (Kind.LIST, Kind.TABLE):
            self._check_parts(str(value))
            return
        if isinstance(value, str):
            if self.choices and value not in self.choices:
                raise BadInput(f"{title}: “{value}” is not among {', '.join(self.choices)}.")
            return
        if not isfinite(value):
            raise BadInput(f"{title}: {value} is no number that could be set.")
        if self.minimum is None or self.maximum is None:
            return
        slack = 1e-6 * max(abs(self.minimum), abs(self.maximum), 1.0)
        if not self.minimum - slack <= value <= self.maximum + slack:
            raise BadInput(
                f"{title}: {self.show(value)} is outside what this machine allows, "
                f"{self.show(self.minimum)} to {self.show(self.maximum)}."
            )

    def _check_parts(self, value: str) -> None:
        title = self.declaration.title
        if self.declaration.kind is Kind.LIST:
            unknown = [word for word in parts_of(value) if word not in self.choices]
            if unknown:
                raise BadInput(f"{title}: {', '.join(unknown)} is not among {', '.join(self.choices)}, or none.")
            return
        rows = [float(part) for part in parts_of(value)]
        known = len(parts_of(str(self.in_force or "")))
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


def declaration_of(name: str) -> Declaration:
    """Return the declaration called ``name``.

    Raises:
        NotHere: no such control; the nearest name is suggested.
    """
    found = CATALOGUE.get(name)
    if found is None:
        near = get_close_matches(name, CATALOGUE, n=1)
        hint = f" Did you mean {near[0]}?" if near else ""
        raise NotHere(f"There is no control “{name}”.{hint} Controls: {', '.join(CATALOGUE)}.")
    return found


def show_value(name: str, value: Value | None) -> str:
    """Return a control's value as a person reads it."""
    declared = declaration_of(name)
    if declared.kind is Kind.TABLE and isinstance(value, str):
        return ", ".join(f"{float(part) / 1000:g}" for part in parts_of(value)) + " GHz"
    if isinstance(value, str):
        return value
    return declared.quantity.show(value)


def parse_value(name: str, text: str) -> Value:
    """Return the value typed for control ``name``, in its own unit, not yet checked against a machine.

    Raises:
        BadInput: the text is no value of this control.
    """
    declared = declaration_of(name)
    text = text.strip()
    if not text:
        raise BadInput(f"{declared.title}: nothing was given.")
    if declared.kind is Kind.SWITCH:
        if text.lower() not in ("on", "off"):
            raise BadInput(f"{declared.title}: “{text}” is neither on nor off.")
        return text.lower()
    if declared.kind is Kind.CHOICE:
        return text
    if declared.kind is Kind.LIST:
        return ",".join(parts_of(text)) or NONE
    if declared.kind is Kind.TABLE:
        return _parse_table(declared, parts_of(text))
    if declared.quantity is q.PREFERENCE:
        return _parse_preference(declared, text)
    value = declared.quantity.parse(text, declared.title)
    if declared.quantity is q.OFFSET:
        _ask_back(declared, text, value)
    return value


def _parse_table(declared: Declaration, parts: list[str]) -> str:
    """Return the numbers of a table; a unit behind the last one counts for all that have none."""
    unit = parts[-1].lstrip("0123456789. ") if parts else ""
    whole = [part + unit if part[-1].isdigit() else part for part in parts]
    return ",".join(f"{declared.quantity.parse(part, declared.title):g}" for part in whole)


def _ask_back(declared: Declaration, text: str, value: float) -> None:
    """Raise BadInput for an offset that looks like a slip of sign or unit."""
    if value > 0:
        raise BadInput(f"{declared.title}: “{text}” would raise the voltage. Did you mean −{value:g} mV?")
    if -1.0 < value < 0:
        raise BadInput(f"{declared.title}: “{text}” is less than one millivolt. Did you mean {value * 1000:g} mV?")


def _parse_preference(declared: Declaration, text: str) -> float:
    if text in PREFERENCE_NAMES:
        return float(PREFERENCE_NAMES[text])
    if text.isascii() and text.isdecimal() and int(text) <= 255:
        return float(int(text))
    names = ", ".join(PREFERENCE_NAMES)
    raise BadInput(f"{declared.title}: “{text}” is neither a whole number from 0 to 255 nor one of {names}.")
