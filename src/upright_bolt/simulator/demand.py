"""What asks for a twin's processor."""

from dataclasses import dataclass


@dataclass(slots=True)
class Demand:
    """What asks for the processor.

    Attributes:
        threads: logical processors kept busy. Background work (a desktop doing nothing much) comes on top.
        activity: of that work; 1 is usual.
        share: how busy it keeps them, 0 to 1.
        mix: its instruction mix, which a wrong result is ascribed to; empty for any.
    """

    threads: frozenset[int] = frozenset()
    activity: float = 1.0
    share: float = 1.0
    mix: str = ""
