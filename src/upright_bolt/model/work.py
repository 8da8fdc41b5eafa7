"""What a run executes, and what a person can ask of it."""

import shlex
from collections.abc import Sequence
from dataclasses import dataclass, field, fields
from math import isfinite
from typing import Any

from upright_bolt.errors import BadInput
from upright_bolt.model.graphics import Gpu
from upright_bolt.model.quantity import Quantity
from upright_bolt.model.start import Start
from upright_bolt.model.workloads import WORKLOADS, Mode, that_take, workload

WEIGHTS = ("light", "heavy", "steps")
"""Scenes of a graphics load: passing the light one means little."""
FULL_WORTH = {"heavy": 1.0, "steps": 0.6, "light": 0.2, "watch": 0.2}
"""What a second of a scene, or of a person's own use of the machine, is worth in full load."""
NO_CHIP = "software"
"""Stands for a chip where the processor renders by itself."""
HOLD_S, SURE_HOLD_S, HOLD_REST_S = 180.0, 360.0, 120.0
COOLEST_C, HOTTEST_C = 40.0, 110.0
MOST_TIMES = 1000
LONGEST_PATTERN = 500
SLOWEST_FPS, FASTEST_FPS = 10.0, 240.0


@dataclass(frozen=True, slots=True)
class Options:
    """What else is asked of a workload; what another workload does not know is left at its default.

    Attributes:
        command: the words of the command to run.
        pattern: a regular expression (RE2) whose group (or whole) is the score in the command's output; empty for wall
            time.
        unit: of that score.
        times: how often the command is run.
        rate_fps: frames a second.
        below_c: the temperature near which the cooling is held; 0 for other workloads.
        sure: whether it is held for longer.
        chip: the graphics chip that works, by its part; ``software`` for none; empty until that is chosen.
        weight: of a graphics load's scene.
        pace_fps: frames a second of a graphics load; 0 for as fast as it goes.
        polite: whether it leaves the processors to anything else that wants them (lowest priority).
    """

    command: tuple[str, ...] = ()
    pattern: str = ""
    unit: str = ""
    times: int = 1
    rate_fps: float = 60.0
    below_c: float = 0.0
    sure: bool = False
    polite: bool = False
    chip: str = ""
    weight: str = "heavy"
    pace_fps: float = 0.0


NO_OPTIONS = Options()


@dataclass(frozen=True, slots=True)
class Work:
    """What a run executes, for how long, and in which state it begins (None: as is usual for its workload)."""

    workload: str
    duration_s: float
    threads: int | None = None
    kind: str = ""
    options: Options = field(default_factory=Options)
    start: Start | None = None

    @property
    def begins(self) -> Start:
        """The state in which it begins: as asked, else what is usual for its workload. Raises NotFound."""
        return workload(self.workload).start if self.start is None else self.start


OPTION_WORDS = {
    "command": "command", "pattern": "pattern for the score", "unit": "unit of a score", "times": "number of times",
    "rate_fps": "frame rate", "below_c": "temperature to be held", "sure": "longer hold", "polite": "lowest priority",
    "chip": "graphics chip", "weight": "weight of a scene", "pace_fps": "pace of frames",
}  # fmt: skip


def check_options(name: str, options: Options) -> None:
    """Raise BadInput unless ``options`` fit the workload called ``name``."""
    known = workload(name)
    for option in fields(Options):
        if getattr(options, option.name) != getattr(NO_OPTIONS, option.name) and option.name not in known.takes:
            others = that_take(option.name)
            words = " and ".join(f"“{other}”" for other in others)
            raise BadInput(
                f"The workload {name} takes no {OPTION_WORDS[option.name]}; {words} {'do' if others[1:] else 'does'}."
            )
    if options.weight not in WEIGHTS:
        raise BadInput(f"weight: “{options.weight[:40]}” is none of {', '.join(WEIGHTS)}.")
    if known.mode is Mode.COMMAND:
        _check_command(options)
    if known.mode is Mode.HOLD and not COOLEST_C <= options.below_c <= HOTTEST_C:
        raise BadInput(
            f"below: name the temperature to stay below, from {COOLEST_C:.0f} to {HOTTEST_C:.0f} °C: "
            "run cooling --below 85C."
        )
    for rate_fps in (options.rate_fps, options.pace_fps or options.rate_fps):
        if not SLOWEST_FPS <= rate_fps <= FASTEST_FPS:
            raise BadInput(
                f"rate: from {SLOWEST_FPS:.0f} to {FASTEST_FPS:.0f} frames a second; {rate_fps:g} is outside that."
            )


def choose_chip(chips: tuple[Gpu, ...], asked: str) -> Gpu | None:
    """Return the graphics chip that a workload works on; None for the software renderer.

    Args:
        chips: the machine's.
        asked: a chip's part, ``software``, or empty for the only one.

    Raises:
        BadInput: there are several and none was named, or there is none of that name.
    """
    names = [chip.part for chip in chips]
    if asked == NO_CHIP or (not asked and not chips):
        return None
    if not asked and len(chips) > 1:
        raise BadInput(
            f"on: this machine has {len(chips)} graphics chips; name the one that works: {', '.join(names)}."
        )
    for chip in chips:
        if asked in ("", chip.part):
            return chip
    raise BadInput(f"on: there is{no_such_chip(names, asked)} “{NO_CHIP}” renders without one.")


def no_such_chip(names: Sequence[str], asked: str) -> str:
    """Return behind “there is” that there is no graphics chip of a name, and which there are."""
    there = f"there {'is' if len(names) == 1 else 'are'} {', '.join(names)}" if names else "there is none"
    return f" no graphics chip “{asked[:40]}” here; {there}."


def hold_s(options: Options) -> float:
    """Return for how long ``cooling`` holds the machine near its temperature, in s; ``HOLD_REST_S`` of rest follow."""
    return SURE_HOLD_S if options.sure else HOLD_S


def length_of(name: str, options: Options, asked_s: float) -> float:
    """Return how long a run of the workload called ``name`` lasts, in s: as asked, but for one of fixed length."""
    return hold_s(options) + HOLD_REST_S if workload(name).mode is Mode.HOLD else asked_s


def _check_command(options: Options) -> None:
    if not options.command:
        raise BadInput("Name the command to run: run command --exec “make render”.")
    if not 1 <= options.times <= MOST_TIMES:
        raise BadInput(f"times: from 1 to {MOST_TIMES}; {options.times} is outside that.")
    if options.pattern:
        if len(options.pattern) > LONGEST_PATTERN:
            raise BadInput(f"pattern: {len(options.pattern)} characters; {LONGEST_PATTERN} are the most.")
        groups = _compiled(options.pattern).groups
        if groups > 1:
            raise BadInput(f"pattern: “{options.pattern}” has {groups} groups; mark the number with one.")


def split_command(text: str) -> tuple[str, ...]:
    """Return the words of a command as a shell would split them; no shell runs it. Raises BadInput."""
    try:
        return tuple(shlex.split(text))
    except ValueError as fault:
        raise BadInput(f"command: “{text}” cannot be split into words: {fault}.") from fault


def _compiled(pattern: str) -> Any:  # noqa: ANN401 - re2 has no types
    import re2  # noqa: PLC0415 - only a command with a pattern needs it

    options = re2.Options()
    options.log_errors = False
    try:
        return re2.compile(pattern, options)
    except re2.error as fault:
        why = fault.args[0].decode(errors="replace") if fault.args and isinstance(fault.args[0], bytes) else str(fault)
        raise BadInput(
            f"pattern: “{pattern}” is not a regular expression that can be used here ({why}); "
            "looking ahead or behind and back references are left out, so that none takes for ever."
        ) from fault


def number_in(text: str, pattern: str) -> float | None:
    """Return the last number that ``pattern`` finds in ``text``; None if it finds none.

    Its time grows with the length of the text alone, whatever the pattern (RE2, which never goes back).

    Raises:
        BadInput: the pattern is no such expression.
    """
    found = None
    compiled = _compiled(pattern)
    for match in compiled.finditer(text):
        words = match[1] if compiled.groups else match[0]
        try:
            number = float((words or "").replace("−", "-"))
        except ValueError:
            continue
        found = number if isfinite(number) else found
    return found


def score_quantity(name: str, options: Options) -> Quantity:
    """Return the quantity of a run's score; results entered by hand are plain numbers."""
    known = WORKLOADS.get(name)
    if known is not None and known.mode is Mode.COMMAND and options.pattern:
        return Quantity("score", options.unit, 2)
    return known.score if known is not None and known.score is not None else Quantity("score", "", 2)
