"""Searches for an edge: what was asked, the rungs, how each ended, and what came of it."""

from dataclasses import dataclass, field, replace
from enum import StrEnum

from upright_bolt.model.axis import Axis
from upright_bolt.model.control import Value
from upright_bolt.model.run import NO_PROCESSOR

BASELINE_S = 48.0
"""Length of the rung at stock from which gains are counted: a whole round of its load, with its rest."""
ALONE_S = 20.0
"""Length of the rung that tells whether parts share a rail."""


class Outcome(StrEnum):
    """How a rung ended."""

    PASSED = "passed"
    WRONG = "wrong results"
    DIED = "a worker died"
    RESET = "the driver reset the chip"
    FROZE = "the machine froze"
    HOT = "too hot"
    """The temperature ceiling of the search ended it before its time; what passed until then counts."""
    REFUSED = "refused"
    """The machine did not take the setting: nothing was tested."""
    STOPPED = "stopped"
    """A person, or the end of the program, stopped it; what passed until then counts."""


class Purpose(StrEnum):
    """What a rung is for."""

    WARM_UP = "warm-up"
    BASELINE = "baseline"
    """At stock: gains are counted from it."""
    TEST = "rung"
    BESIDE = "comparison"
    """Right before one alone, which is compared with it."""
    ALONE = "one alone"
    """One control of several at what holds for all: whether it moves anything by itself."""
    SOAK = "soak"
    COOL_SOAK = "soak after cooling down"
    IN_USE = "in use"
    """A person uses the machine at the value, and says how it went."""


SOAKING = (Purpose.SOAK, Purpose.COOL_SOAK, Purpose.IN_USE)
FAILED = (Outcome.WRONG, Outcome.DIED, Outcome.RESET, Outcome.FROZE)
DRIVER_RESET = "driver reset"
"""Block of an error that stands for a graphics chip reset by its driver."""
BY_EYE = "the picture, seen by a person"


class Bold(StrEnum):
    """How much a search dares."""

    CAREFUL = "careful"
    QUICK = "quick"
    THOROUGH = "thorough"


class AfterFreeze(StrEnum):
    """What happens once the machine has frozen and started again."""

    WAIT = "wait"
    GO_ON = "go-on"


@dataclass(frozen=True, slots=True)
class Asked:
    """What a person asked of a search.

    Attributes:
        id: its number in the machine's record.
        controls: the axis: controls that move together.
        began_at: date and time.
        chip: the processor, its stepping and microcode: what was found holds for these.
        bold: how it chooses; ``plain_step`` other than 0 is steps of one size instead, in the axis's unit.
        fails: the share of eight-hour loads that may fail with what is kept.
        soak_s: length of the soak at the end.
        after_freeze: whether it goes on by itself.
        ceiling_c: a rung ends at this temperature; None for the machine's own ceiling.
        reach: furthest beyond the last proven value, in the axis's unit; 0 for what the temperament allows.
        apart: whether controls that turn out to move by themselves are searched one by one from where all hold.
        in_breaks: the soak is made in short parts at the lowest priority, whenever nothing else works.
        least_gain: it ends where going further could not bring this part more score.
        stock: value of the controls from which positions are counted.
        held: other settings that stand in every rung.
        graphics: the graphics chip, as the bus names it; empty for the processor's axes.
        board: stepping, board and firmware; what passed under another firmware is history and proves nothing now.
        machine: the machine as typed; another sample of a simulated model is another machine.
        in_use_s: for so long a person uses the machine at the end, and says how it went; 0 for not at all.
    """

    id: int
    controls: tuple[str, ...]
    began_at: str
    chip: str
    bold: Bold = Bold.CAREFUL
    plain_step: float = 0.0
    fails: float = 0.01
    soak_s: float = 600.0
    after_freeze: AfterFreeze = AfterFreeze.WAIT
    ceiling_c: float | None = None
    reach: float = 0.0
    apart: bool = True
    least_gain: float = 0.0
    in_breaks: bool = False
    stock: float = 0.0
    held: dict[str, Value] = field(default_factory=dict)
    graphics: str = ""
    in_use_s: float = 0.0
    board: str = ""
    machine: str = ""

    @property
    def axis(self) -> Axis:
        """All its controls together."""
        return Axis(self.controls, self.stock, self.held)


@dataclass(frozen=True, slots=True)
class Rung:
    """A setting to be tested.

    Attributes:
        number: counted within its search.
        position: along the axis, towards danger.
        settings: what is tried.
        load_s: seconds of checked load at most.
        stop_errors: it ends at so many wrong results.
        purpose: what it is for.
        controls: what moves, where it is not all that was asked; the others are held.
        boot_id: the boot in which it began.
        fails, freezes: how likely it was thought to err, and to freeze.
        spread, spread_after: uncertainty of the position sought before it, and expected after it, in the axis's unit.
        scene: which scene a graphics chip renders; empty for work of the processors.
    """

    number: int
    position: float
    settings: dict[str, Value]
    load_s: float
    stop_errors: int
    purpose: Purpose = Purpose.TEST
    controls: tuple[str, ...] = ()
    boot_id: str = ""
    fails: float = 0.0
    freezes: float = 0.0
    spread: float = 0.0
    spread_after: float = 0.0
    scene: str = ""

    @property
    def load(self) -> str:
        """What is done in it, as ``workload.plan`` names kinds of load."""
        return "watch" if self.purpose is Purpose.IN_USE else self.scene or "edge"


@dataclass(frozen=True, slots=True)
class RungError:
    """A wrong result or a worker's death: seconds into the load, on which processor, in which block."""

    time_s: float
    cpu: int
    block: str


@dataclass(frozen=True, slots=True)
class RungEnd:
    """How a rung ended, and what was measured meanwhile.

    Attributes:
        number: the rung's.
        outcome: how it ended.
        load_s: seconds of load until then.
        full_load_s: what they are worth in full load.
        took_s: from its first write to its end.
        errors: what went wrong.
        score, clock_mhz, power_w, temp_c: means of its first seconds, at full load; None where not measured.
        idle_w: watts between loads.
        run_id: the run it is kept as; None if there is none.
    """

    number: int
    outcome: Outcome
    load_s: float = 0.0
    full_load_s: float = 0.0
    took_s: float = 0.0
    errors: tuple[RungError, ...] = ()
    score: float | None = None
    clock_mhz: float | None = None
    power_w: float | None = None
    temp_c: float | None = None
    idle_w: float | None = None
    run_id: int | None = None


def told_by_person(end: RungEnd, outcome: Outcome) -> RungEnd:
    """Return the end of a rung with what a person has seen in it: what went wrong counts as one error."""
    block = DRIVER_RESET if outcome is Outcome.RESET else BY_EYE
    errors = (RungError(end.load_s, NO_PROCESSOR, block),) if outcome in FAILED else ()
    return replace(end, outcome=outcome, errors=errors)


class Why(StrEnum):
    """Why a search ended."""

    FOUND = "found"
    STOPPED = "stopped"
    REFUSED = "refused"
    DAMAGED = "its record is damaged"
    NO_EFFECT = "it moves nothing"
    """A control that changes neither score nor watts: what passes there proves nothing."""
    CHIP_CHANGED = "another chip, firmware or microcode"


@dataclass(frozen=True, slots=True)
class SearchEnd:
    """How a search ended: why, and what to keep (nothing: stock)."""

    why: Why
    settings: dict[str, Value] = field(default_factory=dict)
    detail: str = ""


@dataclass(frozen=True, slots=True)
class Search:
    """A search as its record tells it.

    Attributes:
        asked: what was asked.
        rungs: those that began, in their order.
        ends: how rungs ended, by number.
        end: how it ended; None while it goes on.
    """

    asked: Asked
    rungs: tuple[Rung, ...] = ()
    ends: dict[int, RungEnd] = field(default_factory=dict)
    end: SearchEnd | None = None

    @property
    def open_rung(self) -> Rung | None:
        """The rung that began and has not ended; None if there is none."""
        return self.rungs[-1] if self.rungs and self.rungs[-1].number not in self.ends else None

    @property
    def ended(self) -> list[tuple[Rung, RungEnd]]:
        """The rungs that have ended, with how."""
        return [(rung, self.ends[rung.number]) for rung in self.rungs if rung.number in self.ends]

    @property
    def kept_at(self) -> float:
        """Position of the furthest control of what it ended with; 0 for stock."""
        return self.asked.axis.furthest(self.end.settings) if self.end is not None else 0.0

    @property
    def minutes(self) -> float:
        """How long its rungs took."""
        return sum(end.took_s for end in self.ends.values()) / 60.0

    @property
    def freezes(self) -> int:
        """How often the machine froze."""
        return sum(end.outcome is Outcome.FROZE for end in self.ends.values())
