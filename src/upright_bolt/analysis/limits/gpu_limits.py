"""What holds a graphics chip's clock back, told from its readings alone."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TypeVar

from upright_bolt.analysis.limits.constraints import NEAR_CLOCK_MHZ
from upright_bolt.model.catalogue import PART_MARK
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.control import Control

C = TypeVar("C")
Reading = Callable[[str], float | None]
"""Returns what a sensor shows; None where it is absent or was not measured."""
HIGHEST_CLOCK, LEVEL = "highest-clock", "level"
HOLDING_LEVELS = ("low", "profile_standard", "profile_min_sclk")
"""Levels of amdgpu that hold the clock below the highest."""
BUSY_PERCENT = 50.0
NEAR_LIMIT = 0.97
NEAR_CEILING_C = 2.0
OF_POWER = ("pl1", "pl2", "pl4", "vr-tdc")
OF_HEAT = ("thermal", "prochot", "ratl", "vr-thermalert")
"""Reasons that Intel's driver names, by what they are."""
IDLE_BIT, POWER_BITS, HEAT_BITS = 0x1, 0x4 | 0x80, 0x8 | 0x20 | 0x40
"""Reasons of NVIDIA's library (nvmlClocksThrottleReasons): idle; power caps; slowdowns for heat."""
OF_PROCESSOR = ("power.package", "limit.sustained")
"""A chip within the processor has no limit of its own: it lives on the processor's."""


@dataclass(frozen=True, slots=True)
class ClockCap:
    """What settings keep a chip's clock at.

    Attributes:
        mhz: the highest clock it was given; None where that is its own, or not known.
        by_level: its level holds the clock below the highest, at one that the driver chooses.
    """

    mhz: float | None = None
    by_level: bool = False


NO_CAP = ClockCap()


def held_by(reading: Reading, part: str, cap: ClockCap = NO_CAP) -> Constraint | None:
    """Return what holds a chip's clock back; None while it sleeps, or is not read.

    Where it works and nothing else holds it, it stands at the top of its curve.

    Args:
        reading: tells what sensors show.
        part: the chip.
        cap: what settings keep its clock at.
    """

    def own(name: str) -> float | None:
        return reading(f"{part}.{name}")

    clock, busy, reasons = own("clock"), own("busy"), own("reasons")
    if clock is None and busy is None:
        return None
    if (busy is not None and busy < BUSY_PERCENT) or (busy is None and not clock) or _has(reasons, IDLE_BIT):
        return Constraint.NO_WORK
    if _has(reasons, HEAT_BITS) or any(own(name) for name in OF_HEAT) or _hot(own("temperature"), own("ceiling")):
        return Constraint.HEAT
    watts, limit = own("power"), own("limit")
    if limit is None:
        watts, limit = (reading(name) for name in OF_PROCESSOR)
    if _has(reasons, POWER_BITS) or any(own(name) for name in OF_POWER) or _at(watts, limit):
        return Constraint.POWER
    if cap.by_level or (clock is not None and cap.mhz is not None and abs(clock - cap.mhz) <= NEAR_CLOCK_MHZ):
        return Constraint.CLOCK_CAP
    explained = limit is not None and watts is not None
    return Constraint.VOLTAGE if explained or reasons is not None else Constraint.UNKNOWN


def cap_of(controls: Mapping[str, Control], part: str) -> ClockCap:
    """Return what settings keep a chip's clock at."""
    level, highest = (controls.get(f"{part}{PART_MARK}{own}") for own in (LEVEL, HIGHEST_CLOCK))
    by_level = level is not None and level.current in HOLDING_LEVELS
    if highest is None or not isinstance(highest.current, float) or not isinstance(highest.stock, float):
        return ClockCap(None, by_level)
    return ClockCap(highest.current if highest.current < highest.stock else None, by_level)


def _has(reasons: float | None, bits: int) -> bool:
    return reasons is not None and bool(int(reasons) & bits)


def _hot(temp_c: float | None, ceiling_c: float | None) -> bool:
    return temp_c is not None and ceiling_c is not None and temp_c >= ceiling_c - NEAR_CEILING_C


def _at(watts: float | None, limit: float | None) -> bool:
    return watts is not None and limit is not None and limit > 0.0 and watts >= NEAR_LIMIT * limit


def seen_as_a_processor(columns: Mapping[str, C], part: str) -> dict[str, C]:
    """Return telemetry with a chip's own readings in place of the processor's, for what reads a run's phases.

    Args:
        columns: by sensor.
        part: the chip.
    """
    own = {
        name: columns[f"{part}.{kind}"]
        for name, kind in (("clock.mean", "clock"), ("power.package", "power"), ("temperature.package", "temperature"),
                           ("limit.sustained", "limit"), ("busy.mean", "busy"))
        if f"{part}.{kind}" in columns
    }  # fmt: skip
    left_out = ("limit.burst", "limit.peak")
    return {name: column for name, column in columns.items() if name not in left_out} | own
