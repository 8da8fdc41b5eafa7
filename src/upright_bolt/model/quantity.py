"""Quantities: the unit a number is kept in, how people may type it, and how it is shown.

Numbers are always kept in the quantity's own unit (``Quantity.unit``); other units exist only at the edge, where
a person types or reads. A number that was not measured is ``None`` and is shown as "not measured", never as 0.
"""

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import ClassVar

from upright_bolt.errors import BadInput

NOT_MEASURED = "not measured"
_NUMBER = re.compile(r"([+\-−]?\d+(?:\.\d+)?|[+\-−]?\.\d+)\s*([A-Za-zµ°%]*)")


class ClockUnit(StrEnum):
    """In what clocks are shown; JSON and tables keep MHz."""

    FITTING = "fitting"
    MHZ = "MHz"


class Shown:
    """How this process shows numbers; a person's choice, made as the window opens.

    Attributes:
        clocks: the unit of clocks.
    """

    clocks: ClassVar[ClockUnit] = ClockUnit.FITTING


@dataclass(frozen=True, slots=True)
class Quantity:
    """One physical (or counted) quantity.

    Attributes:
        name: the word used in JSON and in colour tables.
        unit: the unit numbers are kept in; empty for a pure number.
        decimals: digits behind the point when shown.
        trims: whether zeros at the end are left out when shown ("25 W"); off for numbers read in columns.
        inputs: accepted units and their factor to ``unit``; empty if a bare number is meant.
        adds_up: whether several numbers with their units may stand one after another: ``10min30s``.
    """

    name: str
    unit: str
    decimals: int = 0
    inputs: Mapping[str, float] = field(default_factory=dict)
    trims: bool = True
    adds_up: bool = False

    def show(self, value: float | None) -> str:
        """Return ``value`` with its unit as a person reads it, e.g. ``"25 W"`` or ``"3.20 GHz"``."""
        if value is None:
            return NOT_MEASURED
        if self is SWITCH:
            return "yes" if value else "no"
        if self.unit == "MHz":
            in_ghz = Shown.clocks is ClockUnit.FITTING and round(abs(value)) >= 1000
            return (f"{value / 1000:.2f} GHz" if in_ghz else f"{value:.0f} MHz").replace("-", "−")
        rounded = round(value, self.decimals) + 0.0  # a zero below zero is a zero
        text = f"{rounded:,.{self.decimals}f}".replace("-", "−")
        if self.trims and "." in text:
            text = text.rstrip("0").rstrip(".")
        return f"{text} {self.unit}".rstrip()

    @property
    def on_axes(self) -> tuple[str, float]:
        """The unit that an axis is labelled with, and the factor from ``unit`` to it."""
        return ("GHz", 0.001) if self.unit == "MHz" and Shown.clocks is ClockUnit.FITTING else (self.unit, 1.0)

    def parse(self, text: str, what: str) -> float:
        """Return the number a person typed, in this quantity's unit.

        Args:
            text: what was typed, e.g. ``"25W"`` or ``"3.2 GHz"``.
            what: the name of the thing it is for; it begins the sentence of an error.

        Raises:
            BadInput: the text is not a number, or its unit is missing or belongs to another quantity.
        """
        parts = list(_NUMBER.finditer(text.strip())) if self.adds_up else []
        if len(parts) > 1 and "".join("".join(part[0] for part in parts).split()) == "".join(text.split()):
            return sum(self.parse(part[0], what) for part in parts)
        match = _NUMBER.fullmatch(text.strip())
        if match is None:
            comma = " Write the decimal sign as a point." if re.search(r"\d,\d", text) else ""
            raise BadInput(f"{what}: “{text}” is not a number{self._accepted()}.{comma}")
        number = float(match[1].replace("−", "-"))
        unit = match[2]
        if not self.inputs:
            if unit and unit != self.unit:
                raise BadInput(f"{what}: “{text}” has the unit {unit}, but a plain number is meant.")
            return number
        if not unit:
            raise BadInput(f"{what}: “{text}” has no unit{self._accepted()}.")
        factor = self.inputs.get(unit)
        if factor is None:
            near = next((u for u in self.inputs if u.lower() == unit.lower()), None)
            hint = f" Did you mean {near}?" if near else ""
            raise BadInput(f"{what}: “{text}” has the unit {unit}, which does not fit{self._accepted()}.{hint}")
        return number * factor

    def _accepted(self) -> str:
        if not self.inputs:
            return ""
        units = list(self.inputs)
        names = units[0] if len(units) == 1 else ", ".join(units[:-1]) + " or " + units[-1]
        return f"; write it with {names}"


POWER = Quantity("power", "W", 2, {"W": 1.0, "mW": 0.001})
CLOCK = Quantity("clock", "MHz", 0, {"GHz": 1000.0, "MHz": 1.0})
TEMPERATURE = Quantity("temperature", "°C", 1, {"C": 1.0, "°C": 1.0}, trims=False)
TIME = Quantity("time", "s", 2, {"s": 1.0, "ms": 0.001, "min": 60.0, "m": 60.0, "h": 3600.0}, adds_up=True)
VOLTAGE = Quantity("voltage", "V", 3, {"V": 1.0, "mV": 0.001})
CURRENT = Quantity("current", "A", 2, {"A": 1.0, "mA": 0.001})
OFFSET = Quantity("voltage", "mV", 1, {"mV": 1.0})
PREFERENCE = Quantity("preference", "")
SWITCH = Quantity("switch", "")
CHOICE = Quantity("choice", "")
SPEED = Quantity("fan speed", "rpm")
SHARE = Quantity("share", "%", 1)
HOURS = Quantity("hours left", "h", 1)
COUNT = Quantity("count", "")
SCORE = Quantity("score", "units/min", 1, trims=False)
EFFICIENCY = Quantity("efficiency", "units/min/W", 2, trims=False)
ENERGY = Quantity("energy", "J", 2, trims=False)
LATENCY = Quantity("latency", "ms", 1, {"ms": 1.0, "s": 1000.0}, trims=False)
FRAME_RATE = Quantity("frame rate", "frames/s", 1, {"fps": 1.0, "/s": 1.0}, trims=False)
FRAMES = Quantity("score", "frames/min", 1, trims=False)
TASKS = Quantity("score", "tasks/min", 1, trims=False)
WAKE_UPS = Quantity("wake-ups", "/s")

_ALL = (POWER, CLOCK, TEMPERATURE, TIME, VOLTAGE, CURRENT, OFFSET, PREFERENCE, SWITCH, CHOICE, SPEED, SHARE, HOURS,
        COUNT, SCORE, EFFICIENCY, ENERGY, LATENCY, FRAME_RATE, FRAMES, TASKS, WAKE_UPS)  # fmt: skip


def with_unit(text: str, shown: str) -> str:
    """Return what was typed, with the unit of what the field shows if it is a number without one."""
    match = _NUMBER.fullmatch(text.strip())
    unit = shown.rsplit(" ", maxsplit=1)[-1]
    bare = match is not None and not match[2]
    return f"{text.strip()} {unit}" if bare and (unit[:1].isalpha() or unit[:1] in ("°", "%")) else text


def find(name: str, unit: str) -> Quantity:
    """Return the quantity of that name and unit; one without decimals if this program does not know it."""
    return next((q for q in _ALL if (q.name, q.unit) == (name, unit)), Quantity(name, unit))


def clock_text(seconds: float) -> str:
    """Return seconds as minutes and seconds: ``-2:05``; with hours from one hour on."""
    sign = "−" if seconds < -0.5 else ""
    total = round(abs(seconds))
    if total >= 3600:
        return f"{sign}{total // 3600}:{total % 3600 // 60:02d}:{total % 60:02d}"
    return f"{sign}{total // 60}:{total % 60:02d}"
