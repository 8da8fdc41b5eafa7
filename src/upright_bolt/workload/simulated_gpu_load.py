"""The workload ``graphics`` on a twin: work for its simulated chip, and the frames that its physics counts."""

from bisect import bisect_right
from itertools import pairwise
from random import Random

from upright_bolt.errors import BadInput
from upright_bolt.model.run import NO_PROCESSOR, WorkError
from upright_bolt.model.search import DRIVER_RESET
from upright_bolt.simulator.graphics import Gpu
from upright_bolt.simulator.graphics_state import GraphicsDemand
from upright_bolt.simulator.machine import SimulatedMachine
from upright_bolt.simulator.physics import Physics
from upright_bolt.workload.graphics_load import NOT_CHECKED, RESET, RESET_WORDS
from upright_bolt.workload.load import Load, Task
from upright_bolt.workload.plan import graphics_stage_at

SCENES = {"light": GraphicsDemand(weight=0.3, activity=0.62), "heavy": GraphicsDemand()}
"""What a scene asks of a chip: its part of a heavy frame's work, and of its watts."""
TILES = 64
SPREAD = 0.06
"""How unlike one frame is to the next in time."""
HICCUP_PART, HICCUP_TIMES = 0.006, 2.4
"""Part of the frames that something else on the desktop delays, and how many times as long they take."""
MOST_GAPS = 200_000


class GraphicsDemandSource:
    """Asks a twin's chip for frames as long as the work goes on, and keeps when they were done.

    Args:
        chip: that works.
        task: what is asked.
        start_s: when it began, on the twin's clock.
        seed: makes frames unlike each other.

    Attributes:
        ends: when each frame was done.
        over: whether the driver has reset the chip, and
        over_s: when that was seen, on the twin's clock.
    """

    def __init__(self, chip: Gpu, task: Task, start_s: float, seed: int) -> None:
        self._chip = chip
        self._task = task
        self._start_s = start_s
        self._resets = chip.state.resets
        self._part = 0.0
        self._seed = seed
        self.ends: list[float] = []
        self.over = False
        self.over_s = 0.0

    def before(self, physics: Physics) -> float:
        """Ask for what the scene of the moment asks for, and return for how long it stands."""
        now_s = physics.state.time_s
        if self._chip.state.resets > self._resets:
            self.over_s = self.over_s if self.over else now_s
            self.over = True
        weight, left_s = self._task.options.weight, 1.0
        if weight == "steps":
            weight, left_s = graphics_stage_at(now_s - self._start_s)
        demand = None if self.over or not weight else self._demand(SCENES[weight])
        self._chip.work(demand, now_s)
        return max(1e-3, left_s)

    def _demand(self, scene: GraphicsDemand) -> GraphicsDemand:
        """Return a scene as often as is asked for: paced frames leave the chip idle between them."""
        pace = self._task.options.pace_fps
        if not pace:
            return scene
        self._chip.demand = scene
        most = self._chip.frames_a_minute() / 60.0
        return GraphicsDemand(scene.weight, scene.activity, min(1.0, pace / most) if most > 0 else 1.0)

    def after(self, physics: Physics, dt: float) -> None:
        """Count the frames of a step, each with its time."""
        rate = self._chip.frames_a_minute() / 60.0
        if self._chip.state.resets > self._resets or rate <= 0.0:
            return
        begun = physics.state.time_s - dt
        done = self._part + rate * dt
        for number in range(int(done)):
            self.ends.append(begun + dt * (number + 1 - self._part) / (rate * dt))
        self._part = done - int(done)

    def gaps(self, until_s: float) -> list[float]:
        """Return the times from one frame to the next up to a moment: unlike each other, with a hiccup now and then."""
        ends = self.ends[: bisect_right(self.ends, until_s)][-MOST_GAPS:]
        dice = Random(self._seed)  # noqa: S311 - frames unlike each other, not secrets
        found = []
        for before, after in pairwise(ends):
            times = HICCUP_TIMES if dice.random() < HICCUP_PART else 1.0
            found.append((after - before) * times * max(0.3, dice.gauss(1.0, SPREAD)))
        return found


class SimulatedGpuLoad(Load):
    """``Load`` on a twin's graphics chip.

    Args:
        twin: the twin.
        task: what it is made for.

    Raises:
        BadInput: no chip was chosen.
    """

    def __init__(self, twin: SimulatedMachine, task: Task) -> None:
        self._twin = twin
        self._task = task
        if task.chip is None:
            raise BadInput("on: a twin has no software renderer; name one of its graphics chips.")
        self._place = task.chip.place
        self._source: GraphicsDemandSource | None = None
        self._start_s = self._start_frames = 0.0
        self._marks: list[tuple[float, float]] = []
        self._working = self._told = self._caught = False

    def _chip(self) -> Gpu:
        return next(chip for chip in self._twin.physics.graphics.chips if chip.spec.place == self._place)

    def start(self) -> float:
        """Put the simulated chip to work."""
        state, chip = self._twin.state, self._chip()
        self._start_s = state.time_s
        chip.state.wrong[:] = [state.time_s]  # planted: a wrong frame that the checker has to find
        self._source = GraphicsDemandSource(chip, self._task, state.time_s, self._twin.spec.seed)
        self._twin.physics.beside.append(self._source)
        self._working = True
        return state.time_s

    def units_until(self, time_s: float) -> float:
        """Return the frames done from the load start to a moment."""
        return float(bisect_right(self._ends(), time_s))

    def _ends(self) -> list[float]:
        return self._source.ends if self._source is not None else []

    def complete_until(self) -> float:
        """Everything the twin has done is final."""
        return self._twin.state.time_s

    def errors(self) -> list[WorkError]:
        """Return the wrong frames so far."""
        found = []
        for time_s in self._chip().state.wrong:
            if time_s <= self._start_s:
                self._caught = True
                continue
            tile = int(time_s * 1e3) % TILES + 1
            block = f"{self._task.options.weight} scene"
            found.append(WorkError(time_s - self._start_s, NO_PROCESSOR, block, f"wrong frame (picture {tile})"))
        if self._source is not None and self._source.over:
            found.append(WorkError(self._source.over_s - self._start_s, NO_PROCESSOR, DRIVER_RESET, RESET_WORDS))
        return found

    def failure(self) -> str:
        """Return a sentence if the driver has reset the chip."""
        return RESET if self._source is not None and self._source.over else ""

    def figures(self, duration_s: float) -> dict[str, float]:
        """Return frame numbers, and what was checked."""
        from upright_bolt.analysis.responsiveness import frame_numbers  # noqa: PLC0415 - needs numbers that light commands do not load

        if self._source is None:
            return {}
        gaps = self._source.gaps(self._start_s + duration_s)
        found = frame_numbers(gaps, self._task.options.pace_fps or None)
        checked = self.units_until(self._start_s + duration_s)
        return found | {"frames_checked": checked, "planted_caught": float(self._caught)}

    def self_test_passed(self) -> int | None:
        """Tell once that the checker has caught its planted error, with the first frame."""
        self.errors()
        if self._told or not self._caught or not self._ends():
            return None
        self._told = True
        return 0

    def doubt(self) -> str:
        """Return a sentence if the checker was never tested."""
        return "" if self._caught else NOT_CHECKED

    def alive(self) -> bool:
        """A simulated worker does not die."""
        return self._working

    def stop(self) -> None:
        """Let the chip rest."""
        if self._working and self._source is not None:
            self._working = False
            physics = self._twin.physics
            physics.beside = [source for source in physics.beside if source is not self._source]
            self._chip().work(None, self._twin.state.time_s)
