"""The workloads ``graphics`` and ``both`` on this computer: a process of its own renders and checks frames."""

from bisect import bisect_right
from collections.abc import Iterator
from itertools import pairwise

from upright_bolt.model.run import NO_PROCESSOR, WorkError
from upright_bolt.model.search import DRIVER_RESET
from upright_bolt.workload.load import Load, Task
from upright_bolt.workload.pool import ENVIRONMENT, HostLoad, Worker
from upright_bolt.workload.subprocess_start import python_module

RESET = "The driver reset the graphics chip, so nothing that was under way on it counts."
RESET_WORDS = "the driver reset the chip"
NOT_CHECKED = "The checker of frames did not come to its test: this run proves nothing."
PLANTED_MISSED = "The checker of frames missed a wrong bit that was planted to test it: this run proves nothing."


class GraphicsLoad(HostLoad):
    """``Load`` on a graphics chip of this computer, or on the software renderer; a unit is a frame.

    Args:
        task: what it is made for.
        inject_fault_at: number of the frame that is drawn wrong; None for none.
        checked: whether frames are checked; only a measurement of what that costs leaves it out.
    """

    def __init__(self, task: Task, inject_fault_at: int | None = None, *, checked: bool = True) -> None:
        super().__init__(task, inject_fault_at)
        self._checked = checked
        self._lost = False
        self.renderer = ""
        """What the renderer calls itself; empty until it has said so."""

    def _commands(self) -> Iterator[tuple[int, list[str], dict[str, str]]]:
        """Yield the one command of the process that renders."""
        options, chip = self._task.options, self._task.chip
        place = chip.place if chip is not None else ""
        inject_fault_at = self._inject_fault_at if self._inject_fault_at is not None else -1
        words = (place, options.weight, options.pace_fps, inject_fault_at, int(self._checked))
        # Mesa's own choice of a GPU; “!” forbids every other.
        chosen = (
            {"DRI_PRIME": f"pci-{place.replace(':', '_').replace('.', '_')}!"}
            if place
            else {"LIBGL_ALWAYS_SOFTWARE": "1"}
        )
        yield NO_PROCESSOR, python_module("upright_bolt.workload.graphics_worker", *words), ENVIRONMENT | chosen

    def _died(self, worker: Worker, last: str) -> str:  # noqa: ARG002 - there is one worker
        """Return that the renderer could not begin, as a sentence."""
        return last or "The process that renders ended before the work began."

    def _take_line(self, worker: Worker, words: list[str]) -> None:
        """Take up one line of the process that renders."""
        if words[:1] == ["renderer"] and len(words) == 2:
            self.renderer = words[1].replace("_", " ")
        elif words == ["lost"]:
            self._lost = True
        else:
            super()._take_line(worker, words)

    def _wrong(self, worker: Worker, time_s: float, block: str, places: list[str]) -> WorkError:
        """Return what was wrong with a frame, and where."""
        where = ", ".join(place.replace("_", " ") for place in places)
        return WorkError(time_s, worker.cpu, f"{block} scene", f"wrong frame ({where})" if where else "wrong frame")

    def figures(self, duration_s: float) -> dict[str, float]:
        """Return frame numbers, and what was checked."""
        from upright_bolt.analysis.responsiveness import frame_numbers  # noqa: PLC0415 - needs numbers that light commands do not load

        self._read()
        worker = self._workers[0]
        ends = worker.ended[: bisect_right(worker.ended, self._start_s + duration_s)]
        found = frame_numbers([b - a for a, b in pairwise(ends)], self._task.options.pace_fps or None)
        return found | {"frames_checked": float(len(ends)), "planted_caught": float(sum(self._proved))}

    def errors(self) -> list[WorkError]:
        """Return the wrong frames so far, and that the chip was reset."""
        found = super().errors()
        if self._is_lost():
            ended = self._workers[0].ended
            found.append(
                WorkError(
                    max(0.0, ended[-1] - self._start_s) if ended else 0.0, NO_PROCESSOR, DRIVER_RESET, RESET_WORDS
                )
            )
        return found

    def _is_lost(self) -> bool:
        self._lost = self._lost or "context" in self._last_words()
        return self._lost

    def failure(self) -> str:
        """Return a sentence if the chip was reset, or the checker missed its planted error."""
        self._read()
        if self._is_lost():
            return RESET
        return "" if all(self._proved) else PLANTED_MISSED

    def _last_words(self) -> str:
        """Return what a process that has died complained about: a driver ends those whose chip it has reset."""
        # Some drivers end the process whose GPU they have reset, before it can say so itself.
        for worker in self._workers:
            if worker.dead and not worker.complaints.closed:
                worker.complaints.seek(0)
                return worker.complaints.read().decode(errors="replace").lower()
        return ""

    def self_test_passed(self) -> int | None:
        """Tell once that the checker has caught its planted error: 0, since it belongs to no processor."""
        return None if super().self_test_passed() is None else 0

    def doubt(self) -> str:
        """Return a sentence if the checker was never tested."""
        return "" if self._proved else NOT_CHECKED


class BothLoad(Load):
    """Processor and graphics chip at once, each with its own score; the graphics chip's frames are the units.

    Args:
        graphics: works on the chip.
        processor: works on the processors.
        per_s: a processor's score counts units in so many seconds.
    """

    def __init__(self, graphics: Load, processor: Load, per_s: float) -> None:
        self._graphics = graphics
        self._processor = processor
        self._per_s = per_s
        self._start_s = 0.0

    def prepare(self) -> None:
        """Get both ready. Raises BoltError."""
        self._graphics.prepare()
        self._processor.prepare()

    def ready(self) -> bool:
        """Tell whether both are ready. Raises BoltError if one never will be."""
        first, second = self._graphics.ready(), self._processor.ready()
        return first and second

    def start(self) -> float:
        """Start both and return the moment of the load start in s."""
        self._processor.start()
        self._start_s = self._graphics.start()
        return self._start_s

    def units_until(self, time_s: float) -> float:
        """Return the frames that are done."""
        return self._graphics.units_until(time_s)

    def complete_until(self) -> float:
        """Return the moment up to which both are final."""
        return min(self._graphics.complete_until(), self._processor.complete_until())

    def errors(self) -> list[WorkError]:
        """Return what went wrong with either, in the order of time."""
        return sorted((*self._graphics.errors(), *self._processor.errors()), key=lambda error: error.time_s)

    def failure(self) -> str:
        """Return why nothing of it can count."""
        return self._graphics.failure() or self._processor.failure()

    def doubt(self) -> str:
        """Return why nothing can be concluded from its end."""
        return self._graphics.doubt() or self._processor.doubt()

    def figures(self, duration_s: float) -> dict[str, float]:
        """Return the chip's numbers, and the processor's score."""
        units = self._processor.units_until(self._start_s + duration_s)
        score = units * self._per_s / duration_s if duration_s > 0 else 0.0
        return self._graphics.figures(duration_s) | {"processor_score": score}

    def self_test_passed(self) -> int | None:
        """Tell once that the checkers have caught their planted errors."""
        return self._graphics.self_test_passed()

    def alive(self) -> bool:
        """Tell whether both are still at work."""
        return self._graphics.alive() and self._processor.alive()

    def stop(self) -> None:
        """End both at once."""
        self._graphics.stop()
        self._processor.stop()
