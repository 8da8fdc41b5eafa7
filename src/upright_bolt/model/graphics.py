"""Graphics chips of a machine: each is a part of its own, named by its place on the bus."""

from dataclasses import dataclass
from enum import StrEnum


class ChipKind(StrEnum):
    """How a graphics chip belongs to its machine."""

    BUILT_IN = "built-in"
    """Part of the processor, and so of its power limit."""
    SEPARATE = "separate"
    EXTERNAL = "external"
    """It can be unplugged: in a dock or a box of its own."""
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Gpu:
    """One graphics chip.

    Attributes:
        part: its short name, the same after every start: ``gpu03`` for the one at ``0000:03:00.0``.
        place: its address on the bus; empty if the kernel does not say.
        ids: vendor and device number as the bus tells them, ``1af4:1050``; empty if unknown.
        driver: the kernel driver that has it; empty if none.
        kind: how it belongs to the machine.
        drives_screen: whether a screen hangs on it.
        slept: whether it slept when the machine was looked at.
    """

    part: str
    place: str
    ids: str
    driver: str
    kind: ChipKind
    drives_screen: bool
    slept: bool = False
