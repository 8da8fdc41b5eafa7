"""What a person asks of a search, as it is typed: on the command line and in the window alike."""

from dataclasses import dataclass
from enum import StrEnum
from typing import TypeVar

from upright_bolt.errors import BadInput
from upright_bolt.model.axis import Axis
from upright_bolt.model.catalogue import TOGETHER, beside, part_of, unsafe_direction_of
from upright_bolt.model.control import Control, Value
from upright_bolt.model.quantity import CLOCK, OFFSET, TEMPERATURE, TIME, Quantity
from upright_bolt.model.search import AfterFreeze, Asked, Bold, Outcome
from upright_bolt.settings.timestamp import now_stamp

AXES = {
    "core,cache": TOGETHER,
    "core": ("core-offset",),
    "cache": ("cache-offset",),
}
LEAST_FAILS, MOST_FAILS = 0.0001, 0.2
MOST_GAIN = 0.2
LONGEST_SOAK_S = 24 * 3600.0
SEARCHED = ("voltage-offset", "clock-offset", "memory-clock", "memory-offset")
"""Controls of a graphics chip that can be searched."""
SHORTEST_USE_S = 60.0
IN_BREAKS, IN_BREAKS_S = "while-i-work", 3600.0
ANSWERS = {
    "fine": Outcome.PASSED,
    "picture-errors": Outcome.WRONG,
    "reset": Outcome.RESET,
    "cut-short": Outcome.STOPPED,
}
"""How it may have gone while a person used the machine; what was cut short shows nothing."""
W = TypeVar("W", bound=StrEnum)


@dataclass(frozen=True, slots=True)
class RawArguments:
    """What was typed; empty where nothing was."""

    axis: str = "core,cache"
    plain: str = ""
    bold: str = Bold.CAREFUL.value
    fails: str = "1%"
    soak: str = ""
    after_freeze: str = AfterFreeze.WAIT.value
    below: str = ""
    reach: str = ""
    least_gain: str = ""
    together: bool = False
    at: str = ""
    in_use: str = ""


def axes_of(controls: dict[str, Control]) -> dict[str, tuple[str, ...]]:
    """Return the axes that a machine could be searched on, by the word that names them."""
    parts = {
        name: (name,) for name in controls if part_of(name) and unsafe_direction_of(name) and name.endswith(SEARCHED)
    }
    return AXES | parts


def asked_from(typed: RawArguments) -> Asked:
    """Return what was asked, without a number and a chip yet. Raises BadInput."""
    controls = _controls(typed.axis.replace(" ", ""))
    unit = Axis(controls).quantity
    step = _distance(unit, typed.plain, "plain", 50.0) if typed.plain else 0.0
    furthest = _distance(unit, typed.reach, "reach", 100.0) if typed.reach else 0.0
    in_use_s = TIME.parse(typed.in_use, "in-use") if typed.in_use else 0.0
    if typed.in_use and not SHORTEST_USE_S <= in_use_s <= LONGEST_SOAK_S:
        raise BadInput("in-use: from 1min to 24h, e.g. 30min.")
    soak = typed.soak or usual_soak(controls)
    # A soak in breaks goes on whenever nobody uses the machine, an hour of it all together.
    in_breaks = soak == IN_BREAKS
    soak_s = IN_BREAKS_S if in_breaks else 0.0
    if not in_breaks and soak not in ("0", "none"):
        soak_s = TIME.parse(soak, "soak")
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
        held=_held(typed.at, controls),
        in_use_s=in_use_s,
    )


def answer_from(word: str) -> Outcome:
    """Return how it went while a person used the machine. Raises BadInput."""
    if word not in ANSWERS:
        raise BadInput(f"“{word[:40]}” is no answer; say one of {', '.join(ANSWERS)}.")
    return ANSWERS[word]


def usual_soak(controls: tuple[str, ...]) -> str:
    """Return how long a soak usually lasts: a graphics chip's has three scenes."""
    return "20min" if part_of(controls[0]) else "10min"


def _controls(word: str) -> tuple[str, ...]:
    """Return the controls that an axis' word names. Raises BadInput."""
    if word in AXES:
        return AXES[word]
    if part_of(word) and unsafe_direction_of(word) and word.endswith(SEARCHED):
        return (word,)
    of_chips = ", ".join(f"CHIP.{own}" for own in SEARCHED)
    raise BadInput(f"axis: “{word[:60]}” is none; write {', '.join(AXES)}, or of a graphics chip {of_chips}.")


def _distance(unit: Quantity, text: str, what: str, most: float) -> float:
    """Return a distance along an axis. Raises BadInput."""
    found = abs(unit.parse(text, what))
    if not 1.0 <= found <= most:
        sign = "-" if unit is OFFSET else ""
        raise BadInput(f"{what}: from 1 {unit.unit} to {most:g} {unit.unit}, e.g. {sign}10{unit.unit}.")
    return found


def _held(at: str, controls: tuple[str, ...]) -> dict[str, Value]:
    """Return what stands in every rung: the highest clock of the chip, where one is named. Raises BadInput."""
    if not at:
        # An offset moves every point of the curve: without a highest clock, heat would choose which point is tested.
        if controls[0].endswith("clock-offset"):
            raise BadInput("at: name the highest clock at which the offset is searched, e.g. --at 1900MHz.")
        return {}
    if not part_of(controls[0]):
        raise BadInput("at: a clock is held for a graphics chip's axis alone.")
    return {beside(controls[0], "highest-clock"): CLOCK.parse(at, "at")}


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
