"""The workloads. Each is one entry; whatever runs, simulates, offers or shows one goes by what its entry says."""

from dataclasses import dataclass
from enum import Enum

from upright_bolt.errors import NotFound
from upright_bolt.model.quantity import FRAME_RATE, FRAMES, SCORE, TASKS, TIME, Quantity
from upright_bolt.model.start import Start

MIXES = ("vector", "integer", "compression", "memory")
"""The instruction mixes, in the order of a round."""
LIGHT = 0.1
"""Busy share of a processor in light stages: enough to wake it, too little to raise its clock."""


class Mode(Enum):
    """How work is done. Each has one way of running on real cores and one on a simulated machine."""

    MIXED = "mixed"  # round after round of all mixes
    STAGES = "stages"  # mix by mix, with light load and none in between
    TASKS = "bursts"  # short tasks after random pauses
    FRAMES = "frames"  # one piece of work at each beat
    GPU = "gpu"  # pictures and computation on a GPU
    GPU_AND_CPU = "gpu and cpu"  # the same, and mixed work on the processor
    HOLD = "hold"  # mixed work while the limits are moved, then rest
    COMMAND = "command"  # a command of the user's own
    REST = "rest"  # none of ours


@dataclass(frozen=True, slots=True)
class Stage:
    """A stretch of work in stages: its mix (empty: nothing at all), and the busy share of each processor."""

    seconds: float
    mix: str
    share: float = 1.0


def _steps(mix: str) -> tuple[Stage, ...]:
    """Return load steps between full and nothing: each is a jump of current that the voltage has to follow."""
    return (Stage(0.6, mix), Stage(0.4, "", 0.0)) * 5


PROOF = (
    *(Stage(5.0, mix) for mix in MIXES),
    *(Stage(2.5, mix, LIGHT) for mix in MIXES),
    Stage(4.0, "", 0.0),
    *_steps("vector"),
    *_steps("memory"),
    Stage(3.0, "integer", LIGHT),
    Stage(3.0, "", 0.0),
)
"""One round of ``proof``; it is repeated to the run's end."""
EDGE = (
    *(Stage(6.0, mix) for mix in MIXES),
    *_steps("vector"),
    *_steps("memory"),
    Stage(2.0, "integer", LIGHT),
    Stage(2.0, "", 0.0),
)
"""One round of ``edge``: mostly full load, where errors show soonest, but steps, light load and none as well."""


@dataclass(frozen=True, slots=True)
class Workload:
    """One workload.

    Attributes:
        purpose: a few words, a colon, and what it is for.
        mode: how its work is done.
        stages: of one round, for work in stages.
        takes: names of the ``Options`` that it takes.
        score: the quantity of its score; None if it has none of its own.
        per_s: a score counts units in so many seconds.
        threads: how many processors it keeps busy unless asked otherwise; None for all.
        usual: length that is offered first, as a person types it.
        even: whether it asks for the same all the time, so that what changes is the machine's doing.
        start: the state in which it begins unless asked otherwise.
        full_part: part of it that is full load of all processors, every result checked; 0 if it shows no stability.
        on_battery: it runs on battery alone.
        rests_mostly: its energy is told above that of the machine at rest.
    """

    name: str
    purpose: str
    mode: Mode = Mode.MIXED
    stages: tuple[Stage, ...] = ()
    takes: tuple[str, ...] = ()
    score: Quantity | None = SCORE
    per_s: float = 60.0
    threads: int | None = None
    usual: str = "10 min"
    even: bool = True
    start: Start = Start.RESTED
    full_part: float = 0.0
    on_battery: bool = False
    rests_mostly: bool = False

    @property
    def rests(self) -> bool:
        """Whether it has no work of ours."""
        return self.mode is Mode.REST

    @property
    def on_gpu(self) -> bool:
        """Whether a GPU has a part in it."""
        return self.mode in (Mode.GPU, Mode.GPU_AND_CPU)

    @property
    def in_stages(self) -> bool:
        """Whether its load changes by design, so that no part of it is its settled one."""
        return self.mode in (Mode.STAGES, Mode.HOLD)

    @property
    def counts(self) -> bool:
        """Whether it counts units of work while it goes on."""
        return self.mode not in (Mode.REST, Mode.HOLD) and not self.on_battery


_OF_GPU = ("chip", "weight", "pace_fps")
WORKLOADS = {
    made.name: made
    for made in (
        Workload("steady", "All cores, mixed work: vectors, integers and hashing, compression, memory.", full_part=1.0),
        Workload("single", "One core alone, the same work: how far turbo goes when nothing else needs watts.",
                 threads=1, usual="3 min"),
        Workload("proof", "Proof of stability: each mix by itself, full, light and idle in turn, every result checked "
                 "to the bit.", Mode.STAGES, PROOF, even=False, full_part=0.53),
        Workload("edge", "Checked load of a search for the edge: mostly full load, with steps, light load and none.",
                 Mode.STAGES, EDGE, ("polite",), usual="1 min", even=False, full_part=0.8),
        Workload("bursts", "Light use: short tasks after pauses of random length. Shows the lag one feels, and what a "
                 "task costs.", Mode.TASKS, score=TASKS, threads=1, usual="3 min", even=False, rests_mostly=True),
        Workload("frames", "Paced frames: the same work so many times a second. Shows stutter that an average hides.",
                 Mode.FRAMES, takes=("rate_fps",), score=FRAME_RATE, per_s=1.0, threads=2, usual="3 min", even=False),
        Workload("graphics", "A graphics chip: pictures and computation, every frame checked to the bit. Light, heavy, "
                 "or steps between.", Mode.GPU, takes=_OF_GPU, score=FRAMES, threads=1),
        Workload("both", "Processor and graphics chip at once, each with its score: who gets the heat.",
                 Mode.GPU_AND_CPU, takes=_OF_GPU, score=FRAMES),
        Workload("battery", "Light use on battery: drain in watts, and hours to empty from full.", Mode.TASKS,
                 score=None, threads=1, even=False, on_battery=True),
        Workload("idle", "No work: what the machine draws and how warm it is when left alone.", Mode.REST, score=None,
                 usual="3 min"),
        Workload("cooling", "What this cooling carries: holds the machine near a temperature by its limits, then lets "
                 "it rest.", Mode.HOLD, takes=("below_c", "sure"), score=None, usual="5 min", even=False),
        Workload("command", "Your own command: its wall time, or a number from its output.", Mode.COMMAND,
                 takes=("command", "pattern", "unit", "times"), score=TIME, even=False),
        Workload("watch", "No work of ours: records while you do something else, whose results you enter afterwards.",
                 Mode.REST, score=None, even=False, start=Start.AT_ONCE),
    )
}  # fmt: skip
"""Workloads by name, in the order in which people meet them."""


def workload(name: str) -> Workload:
    """Return the workload called ``name``. Raises NotFound if there is none."""
    found = WORKLOADS.get(name)
    if found is None:
        raise NotFound(f"There is no workload “{name}”. Workloads: {', '.join(WORKLOADS)}.")
    return found


def that_take(option: str) -> tuple[str, ...]:
    """Return the names of the workloads that take an option."""
    return tuple(name for name, known in WORKLOADS.items() if option in known.takes)
