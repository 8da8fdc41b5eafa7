"""Profiles: named settings, and what speaks for each of them."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from upright_bolt.errors import BadInput
from upright_bolt.model.catalogue import declaration_of, part_of, unsafe_direction_of
from upright_bolt.model.control import Value
from upright_bolt.model.quantity import OFFSET

STOCK = "stock"
"""The name of the machine's own values: always there, and not to be edited."""
LONGEST_NAME = 40
LONGEST_NOTE = 1000
MOST_BYTES = 12 << 10
"""Of a profile's file: it has to fit a call on the bus."""
BETWEEN = " -_+.()"
"""What may stand in a name between letters and digits."""


def is_voltage(name: str) -> bool:
    """Tell whether a control sets a voltage, so that a wrong value can freeze the machine unseen."""
    return declaration_of(name).quantity is OFFSET


def needs_proof(name: str, value: Value) -> bool:
    """Tell whether a value lies where the machine can fail, so that runs have to speak for it.

    Offsets do on their dangerous side of 0. What has no 0 to count from always does: a memory clock, a highest voltage.
    """
    unsafe_direction = unsafe_direction_of(name)
    if not unsafe_direction or isinstance(value, str):
        return False
    return unsafe_direction * value > 0.0 if counts_from_0(name) else True


def counts_from_0(name: str) -> bool:
    """Tell whether a control is an offset, so that 0 is the machine's own."""
    return name.endswith("-offset")


@dataclass(frozen=True, slots=True)
class Proof:
    """What speaks for one setting.

    Attributes:
        value: the value that was proven; of a voltage offset, the deepest one.
        chip: the chip on which it was (``analysis.chip``), with the board.
        load_s: seconds of checked load that passed there.
        all_loads_s: how much of that had every kind of load: full, steps, light and none.
        runs: the runs, by number in the run list of whoever made them.
        on: the date of the latest of them.
    """

    value: float
    chip: str
    load_s: float
    all_loads_s: float
    runs: tuple[int, ...] = ()
    on: str = ""


@dataclass(frozen=True, slots=True)
class Profile:
    """A named set of settings.

    Attributes:
        name: as people call it; also the name of its file.
        settings: control to value.
        proofs: what speaks for settings, by control; a control without one is not proven.
        note: a person's words.
    """

    name: str
    settings: Mapping[str, Value]
    proofs: Mapping[str, Proof] = field(default_factory=dict)
    note: str = ""

    @property
    def offsets(self) -> dict[str, float]:
        """Its voltage offsets other than 0, in mV."""
        return {n: v for n, v in self.settings.items() if isinstance(v, float) and v and is_voltage(n)}

    @property
    def of_graphics(self) -> dict[str, Value]:
        """Its settings of graphics chips."""
        return {name: value for name, value in self.settings.items() if part_of(name)}

    def changed(self, settings: Mapping[str, Value], proofs: Mapping[str, Proof] | None = None) -> "Profile":
        """Return it with some settings set anew; what spoke for their earlier values no longer counts."""
        kept = {n: p for n, p in self.proofs.items() if n not in settings or self.settings.get(n) == settings[n]}
        return replace(self, settings={**self.settings, **settings}, proofs={**kept, **(proofs or {})})


def check_name(name: str) -> str:
    """Return a profile's name without spaces around it.

    Raises:
        BadInput: it cannot be one; the sentence says what can.
    """
    name = name.strip()
    if name.casefold() == STOCK:
        raise BadInput("“stock” is the machine's own values, and cannot be changed; choose another name.")
    if not name or len(name) > LONGEST_NAME or not name[0].isalnum() or not all(
        letter.isalnum() or letter in BETWEEN for letter in name
    ):  # fmt: skip
        raise BadInput(
            f"“{name[:LONGEST_NAME]}” cannot be the name of a profile: it has 1 to {LONGEST_NAME} letters, digits, "
            f"spaces and {' '.join(BETWEEN.strip())}, and begins with a letter or digit."
        )
    return name


@dataclass(frozen=True, slots=True)
class HeldBack:
    """A setting of a profile that is not put in force by itself.

    Attributes:
        name: the control.
        value: what the profile asks for.
        why: a sentence.
    """

    name: str
    value: Value
    why: str
