"""What runs execute: the workloads by name, and what a person can ask of one."""

import shlex
from collections.abc import Sequence
from dataclasses import dataclass, field
from math import isfinite
from typing import Any

from upright_bolt.errors import BadInput, NotHere
from upright_bolt.model.graphics import GraphicsChip
from upright_bolt.model.quantity import FRAME_RATE, FRAMES, SCORE, TASKS, TIME, Quantity
from upright_bolt.model.start import Start


@dataclass(frozen=True, slots=True)
class Workload:
    """One workload.

    Attributes:
        purpose: a few words, a colon, and what it is for.
        score: the quantity of its score; None if it has none of its own.
        per_s: a score counts units in so many seconds.
        threads: how many processors it keeps busy unless asked otherwise; None for all.
        usual: length that is offered first, as a person types it.
        even: whether it asks for the same all the time, so that what changes is the machine's doing.
        in_stages: whether its load changes by design, so that no part of it is its settled one.
        start: the state in which it begins unless asked otherwise.
    """

    name: str
    purpose: str
    score: Quantity | None = SCORE
    per_s: float = 60.0
    threads: int | None = None
    usual: str = "10 min"
    even: bool = True
    in_stages: bool = False
    start: Start = Start.RESTED


WORKLOADS = {
    made.name: made
    for made in (
        Workload("steady", "All cores, mixed work: vectors, integers and hashing, compression, memory."),
        Workload("single", "One core alone, the same work: how far turbo goes when nothing else needs watts.",
                 threads=1, usual="3 min"),
        Workload("proof", "Proof of stability: each mix by itself, full, light and idle in turn, every result checked "
                 "to the bit.", even=False, in_stages=True),
        Workload("edge", "Checked load of a search for the edge: mostly full load, with steps, light load and none.",
                 usual="1 min", even=False, in_stages=True),
        Workload("bursts", "Light use: short tasks after pauses of random length. Shows the lag one feels, and what a "
                 "task costs.", TASKS, threads=1, usual="3 min", even=False),
        Workload("frames", "Paced frames: the same work so many times a second. Shows stutter that an average hides.",
                 FRAME_RATE, per_s=1.0, threads=2, usual="3 min", even=False),
        Workload("graphics", "A graphics chip: pictures and computation, every frame checked to the bit. Light, heavy, "
                 "or steps between.", FRAMES, threads=1),
        Workload("both", "Processor and graphics chip at once, each with its score: who gets the heat.", FRAMES),
        Workload("battery", "Light use on battery: drain in watts, and hours to empty from full.", None, threads=1,
                 even=False),
        Workload("idle", "No work: what the machine draws and how warm it is when left alone.", None, usual="3 min"),
        Workload("cooling", "What this cooling carries: holds the machine near a temperature by its limits, then lets "
                 "it rest.", None, usual="5 min", even=False, in_stages=True),
        Workload("command", "Your own command: its wall time, or a number from its output.", TIME, even=False),
        Workload("watch", "No work of ours: records while you do something else, whose results you enter afterwards.",
                 None, even=False, start=Start.AT_ONCE),
    )
}  # fmt: skip
"""Workloads by name, in the order in which people meet them."""
OF_GRAPHICS = ("graphics", "both")
"""Workloads of a graphics chip."""
WEIGHTS = ("light", "heavy", "steps")
"""Scenes of a graphics load: passing the light one means little."""
FULL_WORTH = {"heavy": 1.0, "steps": 0.6, "light": 0.2, "watch": 0.2}
"""What a second of a scene, or of a person's own use of the machine, is worth in full load."""
NO_CHIP = "software"
"""Stands for a chip where the processor renders by itself."""
RESTING = ("idle", "watch")
"""Workloads without work of ours."""
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
        """The state in which it begins: as asked, else what is usual for its workload. Raises NotHere."""
        return workload(self.workload).start if self.start is None else self.start


def workload(name: str) -> Workload:
    """Return the workload called ``name``. Raises NotHere if there is none."""
    found = WORKLOADS.get(name)
    if found is None:
        raise NotHere(f"There is no workload “{name}”. Workloads: {', '.join(WORKLOADS)}.")
    return found


def check_options(name: str, options: Options) -> None:
    """Raise BadInput unless ``options`` fit the workload called ``name``."""
    plain = Options()
    for given, of, what in (
        (options.command != plain.command, "command", "command"),
        (options.pattern != plain.pattern, "command", "pattern for the score"),
        (options.times != plain.times, "command", "number of times"),
        (options.rate_fps != plain.rate_fps, "frames", "frame rate"),
        (options.below_c != plain.below_c, "cooling", "temperature to be held"),
        (options.sure, "cooling", "longer hold"),
        (options.polite, "edge", "lowest priority"),
    ):
        if given and name != of:
            raise BadInput(f"The workload {name} takes no {what}; “{of}” does.")
    _check_graphics(name, options)
    if name == "command":
        _check_command(options)
    if name == "cooling" and not COOLEST_C <= options.below_c <= HOTTEST_C:
        raise BadInput(
            f"below: name the temperature to stay below, from {COOLEST_C:.0f} to {HOTTEST_C:.0f} °C: "
            "run cooling --below 85C."
        )
    if not SLOWEST_FPS <= options.rate_fps <= FASTEST_FPS:
        raise BadInput(
            f"rate: from {SLOWEST_FPS:.0f} to {FASTEST_FPS:.0f} frames a second; {options.rate_fps:g} is outside that."
        )


def _check_graphics(name: str, options: Options) -> None:
    plain = Options()
    given = {"graphics chip": options.chip != plain.chip, "weight of a scene": options.weight != plain.weight,
             "pace of frames": options.pace_fps != plain.pace_fps}  # fmt: skip
    what = next((words for words, is_given in given.items() if is_given), "")
    if what and name not in OF_GRAPHICS:
        raise BadInput(f"The workload {name} takes no {what}; {' and '.join(f'“{w}”' for w in OF_GRAPHICS)} do.")
    if options.weight not in WEIGHTS:
        raise BadInput(f"weight: “{options.weight[:40]}” is none of {', '.join(WEIGHTS)}.")
    if options.pace_fps and not SLOWEST_FPS <= options.pace_fps <= FASTEST_FPS:
        raise BadInput(
            f"rate: from {SLOWEST_FPS:.0f} to {FASTEST_FPS:.0f} frames a second; {options.pace_fps:g} is outside that."
        )


def choose_chip(chips: tuple[GraphicsChip, ...], asked: str) -> GraphicsChip | None:
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
    return hold_s(options) + HOLD_REST_S if name == "cooling" else asked_s


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
    if name == "command" and options.pattern:
        return Quantity("score", options.unit, 2)
    known = WORKLOADS.get(name)
    return known.score if known is not None and known.score is not None else Quantity("score", "", 2)
