"""What a search watches: one test while it runs, and what around the machine keeps it from working."""

from collections.abc import Sequence

from upright_bolt.model.run import RunEnd, RunState, WorkError
from upright_bolt.model.sample import Sample, value_of
from upright_bolt.model.search import DRIVER_RESET, Outcome, Rung, RungEnd, RungError
from upright_bolt.model.sensor import LID
from upright_bolt.session.active_run import ActiveRun
from upright_bolt.workload.plan import full_load_s

SCORED_S, SETTLES_S = 20.0, 2.0
"""Score, clock, watts and temperature of a rung are those of its first seconds, all at full load, from equal starts."""
EARLY = ("clock.mean", "power.package", "temperature.package")
OF_CHIP = ("clock", "power", "temperature")
"""The same of a graphics chip, by its part."""
MARGIN_C = 0.5
ON_BATTERY = "the charger is unplugged"
LID_CLOSED = "the lid is closed, so the machine gets hotter than it was"
BUSY_PERCENT, BUSY_SAMPLES = 25.0, 8
"""Processors that are busier than this between two rungs, for so many samples, have somebody else's work to do."""


class RungWatch:
    """Watches one rung.

    Args:
        rung: what is tested.
        index: sensor name to its index in a sample.
        part: the graphics chip that is tested; empty for the processor.
        ceiling_c: the temperature at which it ends; None for none.
        now_s: the present moment on the machine's clock.

    Attributes:
        rung: as given.
    """

    def __init__(self, rung: Rung, index: dict[str, int], part: str, ceiling_c: float | None, now_s: float) -> None:
        self.rung = rung
        self._index = index
        self._names = tuple(f"{part}.{kind}" for kind in OF_CHIP) if part else EARLY
        self._ceiling_c = ceiling_c
        self._began_s = now_s
        self._loaded_s: float | None = None
        self._early: list[list[float | None]] = []
        self._hot = False

    def take(self, sample: Sample, errors: Sequence[WorkError]) -> str:
        """Take a sample of the load; return why enough is seen, empty while it is not."""
        self._loaded_s = sample.time_s if self._loaded_s is None else self._loaded_s
        seen = [value_of(sample, self._index, name) for name in self._names]
        if SETTLES_S <= sample.time_s - self._loaded_s <= SCORED_S:
            self._early.append(seen)
        if len(errors) >= self.rung.stop_errors:
            return "enough wrong results were seen"
        temp_c = seen[-1]
        if self._ceiling_c is not None and temp_c is not None and temp_c > self._ceiling_c - MARGIN_C:
            self._hot = True
            return "the temperature ceiling of the search was reached"
        return ""

    def end_of(self, run: ActiveRun, end: RunEnd, now_s: float) -> RungEnd:
        """Return how it ended, from the run that it was."""
        errors = tuple(RungError(round(e.time_s, 3), e.cpu, e.block) for e in run.errors)
        clock_mhz, power_w, temp_c = self._early_means()
        slices = [part for part in run.progress().slices if part.to_s <= SCORED_S + 1.0]
        lasted = sum(part.to_s - part.from_s for part in slices)
        score = sum(part.score * (part.to_s - part.from_s) for part in slices) / lasted if lasted else None
        return RungEnd(
            self.rung.number,
            self._outcome(errors, end.state),
            round(end.duration_s, 3),
            round(full_load_s(self.rung.load, end.duration_s), 3),
            round(max(0.0, now_s - self._began_s), 3),
            errors,
            None if errors else score,
            clock_mhz,
            power_w,
            temp_c,
            end.numbers.extra.get("between_w"),
            run.id,
        )

    def _early_means(self) -> list[float | None]:
        known = [[value for value in column if value is not None] for column in zip(*self._early, strict=True)]
        return [sum(column) / len(column) if column else None for column in known] or [None] * len(self._names)

    def _outcome(self, errors: Sequence[RungError], state: RunState) -> Outcome:
        if any(error.block == DRIVER_RESET for error in errors):
            return Outcome.RESET
        if errors:
            return Outcome.DIED if all(error.block == "" for error in errors) else Outcome.WRONG
        if self._hot:
            return Outcome.HOT
        return Outcome.PASSED if state is RunState.FINISHED else Outcome.STOPPED


class Surroundings:
    """What around a search keeps it from working: charger, lid, other programs.

    Args:
        index: sensor name to its index in a sample.
    """

    def __init__(self, index: dict[str, int]) -> None:
        self._index = index
        self._busy_for = 0
        self._lid_opened = False

    def forget_load(self) -> None:
        """A rung has ended: the load seen so far was its own."""
        self._busy_for = 0

    def keep_from_beginning(self, sample: Sample) -> str:
        """Return why no rung may begin now; empty if one may."""
        if why := self.keep_from_going_on(sample):
            return why
        busy = value_of(sample, self._index, "busy.mean")
        self._busy_for = self._busy_for + 1 if busy is not None and busy > BUSY_PERCENT else 0
        return f"something else keeps the processors {busy:.0f} % busy" if self._busy_for >= BUSY_SAMPLES else ""

    def keep_from_going_on(self, sample: Sample) -> str:
        """Return what of charger and lid keeps it from working; a lid that has been closed all along does not."""
        if value_of(sample, self._index, "charger") == 0.0:
            return ON_BATTERY
        # A laptop on a stand with an outer screen is used closed; only closing it in the middle changes its cooling.
        closed = value_of(sample, self._index, LID)
        self._lid_opened |= closed == 0.0
        return LID_CLOSED if closed and self._lid_opened else ""
