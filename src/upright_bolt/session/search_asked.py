"""What a person asks of a search, as it is typed: on the command line and in the window alike."""

from dataclasses import dataclass
from enum import StrEnum
from typing import TypeVar

from upright_bolt.errors import BadInput
from upright_bolt.model.catalogue import TOGETHER
from upright_bolt.model.quantity import OFFSET, TEMPERATURE, TIME
from upright_bolt.model.search import AfterFreeze, Asked, Bold
from upright_bolt.settings.engine import now_stamp

AXES = {
    "core,cache": TOGETHER,
    "core": ("core-offset",),
    "cache": ("cache-offset",),
}
LEAST_FAILS, MOST_FAILS = 0.0001, 0.2
MOST_GAIN = 0.2
LONGEST_SOAK_S = 24 * 3600.0
IN_BREAKS, IN_BREAKS_S = "while-i-work", 3600.0
W = TypeVar("W", bound=StrEnum)


@dataclass(frozen=True, slots=True)
class Typed:
    """What was typed; empty where nothing was."""

    axis: str = "core,cache"
    plain: str = ""
    bold: str = Bold.CAREFUL.value
    fails: str = "1%"
    soak: str = "10min"
    after_freeze: str = AfterFreeze.WAIT.value
    below: str = ""
    reach: str = ""
    least_gain: str = ""
    together: bool = False


def asked_from(typed: Typed) -> Asked:
    """Return what was asked, without a number and a chip yet. Raises BadInput."""
    controls = AXES.get(typed.axis.replace(" ", ""))
    if controls is None:
        raise BadInput(f"axis: “{typed.axis}” is none; write {', '.join(AXES)}.")
    step = abs(OFFSET.parse(typed.plain, "plain")) if typed.plain else 0.0
    if typed.plain and not 1.0 <= step <= 50.0:
        raise BadInput("plain: steps of 1 mV to 50 mV, e.g. -10mV.")
    furthest = abs(OFFSET.parse(typed.reach, "reach")) if typed.reach else 0.0
    if typed.reach and not 1.0 <= furthest <= 100.0:
        raise BadInput("reach: from 1 mV to 100 mV, e.g. -20mV.")
    in_breaks = typed.soak == IN_BREAKS
    soak_s = IN_BREAKS_S if in_breaks else 0.0
    if not in_breaks and typed.soak not in ("0", "none"):
        soak_s = TIME.parse(typed.soak, "soak")
    if not 0.0 <= soak_s <= LONGEST_SOAK_S:
        raise BadInput(f"soak: up to 24h; 0 for none; {IN_BREAKS} for an hour in your breaks.")
    return Asked(
        0,
        controls,
        now_stamp(),
        "",
        _word(Bold, typed.bold, "bold"),
        step,
        _share(typed.fails, "fails", LEAST_FAILS, MOST_FAILS),
        soak_s,
        _word(AfterFreeze, typed.after_freeze, "after-freeze"),
        TEMPERATURE.parse(typed.below, "below") if typed.below else None,
        furthest,
        not typed.together,
        _share(typed.least_gain, "least-gain", 0.0, MOST_GAIN) if typed.least_gain else 0.0,
        in_breaks,
    )


def _word(words: type[W], text: str, what: str) -> W:
    try:
        return words(text)
    except ValueError:
        raise BadInput(f"{what}: “{text}” is none; write {', '.join(word.value for word in words)}.") from None


def _share(text: str, what: str, least: float, most: float) -> float:
    digits = text.strip().removesuffix("%").strip()
    try:
        share = float(digits) / 100.0
    except ValueError:
        share = -1.0
    if not least <= share <= most:
        raise BadInput(f"{what}: “{text}”; write a share from {100 * least:g}% to {100 * most:g}%, e.g. 1%.")
    return share
