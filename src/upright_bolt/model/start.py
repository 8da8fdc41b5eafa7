"""The state in which a run begins, and what it waits for before it does."""

from dataclasses import dataclass
from enum import StrEnum

from upright_bolt.errors import BadInput


class Start(StrEnum):
    """The state in which a run begins."""

    RESTED = "rested"
    """The temperature has come to rest and the power budget of the burst is whole."""
    WARM = "warm"
    """A fixed load comes first, so that the budget is spent and the machine is warm."""
    AT_ONCE = "at-once"
    """As the machine is."""


STARTS = {
    Start.RESTED: "rested: once temperature and power budget have settled",
    Start.WARM: "warm: after a fixed load",
    Start.AT_ONCE: "at once: as the machine is",
}
"""Starts, each with what it means in a few words."""


def parse_start(text: str) -> Start:
    """Return the start called ``text``. Raises BadInput."""
    word = text.strip().lower().replace(" ", "-")
    if word not in tuple(Start):
        raise BadInput(f"start: “{text}” is none; use one of {', '.join(Start)}.")
    return Start(word)


@dataclass(frozen=True, slots=True)
class Budget:
    """Between which watts the limiter's moving average lies.

    Where the machine has been watched for a few windows both are the same; right after a program's start the watts
    before it are unknown.
    """

    low_w: float
    high_w: float


@dataclass(frozen=True, slots=True)
class Waiting:
    """What a run waits for before it begins; None for what it does not wait for.

    Attributes:
        temp_c: the temperature now.
        change_c: by how much its mean over the last minute differs from the minute before; NaN if not known yet.
        below_c: it has to fall to this.
        average_w, goal_w: what the limiter's average may be at most now, and where it has to fall to.
        pause_s: seconds that are left of a pause of fixed length.
        busy_percent: how busy others keep the processors.
        left_s: seconds after which it begins in any case.
    """

    left_s: float
    temp_c: float | None = None
    change_c: float | None = None
    below_c: float | None = None
    average_w: float | None = None
    goal_w: float | None = None
    pause_s: float | None = None
    busy_percent: float | None = None
