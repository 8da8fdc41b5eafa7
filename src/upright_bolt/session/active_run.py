"""One run in progress: lead-in, preparation, work, end; telemetry kept as it comes, so that a crash loses little."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from math import isnan

from upright_bolt.analysis.limits.gpu_limits import NO_CAP, ClockCap, held_by
from upright_bolt.errors import BoltError
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.event import Event, NotSettled, SelfTestPassed
from upright_bolt.model.run import RunEnd, RunHead, RunNumbers, RunState, WorkError
from upright_bolt.model.sample import Sample, value_of
from upright_bolt.model.sensor import LID, LID_WORDS
from upright_bolt.model.start import Start
from upright_bolt.model.workloads import Mode, workload
from upright_bolt.session.activity import BY_USER, Activity
from upright_bolt.session.numbers import (
    Rows,
    graphics_numbers,
    number_rows,
    run_numbers,
    with_work,
    without_the_processor_s,
)
from upright_bolt.session.other_processes import OtherProcesses
from upright_bolt.session.run_progress import RunProgress, RunSink, RunStage
from upright_bolt.session.start import IdleDetector, StartCondition
from upright_bolt.session.work_done import WorkDone
from upright_bolt.workload.load import Load

LEAD_S = 3.0
"""Time watched before the load: start temperature, and what others take of the processor."""
BACKGROUND_S = 20.0
"""Of the time before the load, so much at its end tells what others take."""
FLUSH_S = 10.0
SAMPLE_SPAN_S = 0.5
LAST_BLOCKS_S = 2.0
"""How long the end of a run waits for blocks under way, so that they count in proportion."""
NUMBERS_EVERY = 4
"""Samples after which the numbers shown of a run in progress are worked out again, if somebody looks."""
WARM_S = 90.0
"""Length of the fixed load before a warm start: the burst is spent, die and sink are near where they settle."""
LEAD_KEPT_S = 30.0
"""Of the time before the load so much is kept; a machine may rest for minutes."""


@dataclass(frozen=True, slots=True)
class Beginning:
    """How a run begins: what it waits for, the load that warms the machine up (None: none), and what sees it rest."""

    gate: StartCondition
    warm: Load | None
    watch: IdleDetector


class ActiveRun(Activity):
    """Runs a load for a time.

    Args:
        head: what is known now; its conditions are completed at load start.
        load: the workload.
        sink: where it is kept.
        index: sensor name to its index in a sample.
        now_s: the present moment on the machine's clock.
        beginning: how it begins.
        others: counts what else is running.
        hindered: tells why it cannot go on after a sample, as a sentence; empty if it can.
        chip_cap: what settings keep the clock of its graphics chip at.

    Attributes:
        end: how it ended; None while it goes on.
        unsaved: why its end could not be kept; empty if all is well.
    """

    def __init__(
        self,
        head: RunHead,
        load: Load,
        sink: RunSink,
        index: dict[str, int],
        now_s: float,
        beginning: Beginning,
        others: OtherProcesses,
        hindered: Callable[[Sample], str],
        chip_cap: ClockCap = NO_CAP,
    ) -> None:
        self.head = head
        self._work_of = workload(head.workload)
        self._beginning = beginning
        self._lead_to_s = self._warm_from_s = now_s
        self._others = others
        self._hindered = hindered
        self._chip_cap = chip_cap
        self.stage = RunStage.LEAD
        self.end: RunEnd | None = None
        self.unsaved = ""
        self._load = load
        self._done = WorkDone(load, self._work_of, head.asked_s)
        self._sink = sink
        self._index = index
        self._lead_from_s = now_s
        self._rows = Rows(1 + len(head.columns))
        self._kept_rows = 0
        self._errors: list[WorkError] = []
        self._events: list[Event] = []
        self._resting_w: float | None = None
        self._numbers = RunNumbers()
        self._numbers_rows = 0
        self.id = sink.begin(head)

    @property
    def needs(self) -> str:
        """See ``Activity``."""
        return "A run is in progress"

    def on_sample(self, sample: Sample, events: Sequence[Event]) -> None:
        """Keep a sample and the events since the last one, and go on."""
        if self.ended:
            return
        self._rows.append((sample.time_s, *number_rows(sample, len(self._index), self._held_chip(sample))))
        self._last_sample = sample
        self._events += events
        try:
            if self.stage is RunStage.WORKING:
                self._work(sample.time_s)
            else:
                self._begin(sample.time_s)
        except BoltError as fault:
            self._conclude(RunState.FAILED, str(fault))

    def _held_chip(self, sample: Sample) -> Constraint | None:
        """Return what holds the graphics chip, where nothing but that works; None for other work."""
        chip = self.head.options.chip
        if self._work_of.mode is not Mode.GPU or not chip:
            return None
        return held_by(lambda name: value_of(sample, self._index, name), chip, self._chip_cap)

    def _begin(self, now_s: float) -> None:
        """Go on towards the load: rest, get the work ready, warm the machine up, start. Raises BoltError."""
        warm = self._beginning.warm
        if self.stage in (RunStage.LEAD, RunStage.RESTING):
            # Workers start only once the machine rests: starting them is work, too.
            if not self._may_begin(now_s):
                return
            self._lead_to_s = now_s
            self._load.prepare()
            if warm is not None:
                warm.prepare()
            self.stage = RunStage.PREPARING
        if self.stage is RunStage.PREPARING and self._load.ready() and (warm is None or warm.ready()):
            if warm is None:
                self._begin_work()
                return
            self._warm_from_s = warm.start()
            self.stage = RunStage.WARMING
        if self.stage is RunStage.WARMING and warm is not None and now_s - self._warm_from_s >= WARM_S:
            warm.stop()
            self._begin_work()

    def _may_begin(self, now_s: float) -> bool:
        """Tell whether enough was watched before the load, and what it waits for has come."""
        gate = self._beginning.gate
        open_now = gate.look(now_s)
        if now_s - self._lead_from_s < LEAD_S - 1e-6:
            return False
        if gate.gave_up and self.stage is RunStage.RESTING:
            self._events.append(NotSettled(now_s, now_s - self._lead_from_s))
        self.stage = self.stage if open_now else RunStage.RESTING
        return open_now

    def _begin_work(self) -> None:
        self._done.start_s = start_s = self._load.start()
        self._others.begin(start_s)
        self.stage = RunStage.WORKING
        self._keep_conditions()
        # A wait for rest can take an hour, of which only the last part tells where the run began.
        kept_from = start_s - LEAD_KEPT_S
        self._rows.forget_before(kept_from)

    def _keep_conditions(self) -> None:
        """Keep what was measured before the load."""
        gate = self._beginning.gate
        lead = [row for row in self._rows if self._lead_to_s - BACKGROUND_S < row[0] <= self._lead_to_s + 1e-6]
        busy = [row[1 + self._index["busy.mean"]] for row in lead if row[1 + self._index["busy.mean"]] >= 0]
        budget = self._beginning.watch.budget
        if self.head.conditions.start == Start.RESTED and not (gate.skipped or gate.gave_up):
            self._resting_w = self._beginning.watch.resting_w() or None
        conditions = replace(
            self.head.conditions,
            background_load=sum(busy) / len(busy) / 100.0 if busy else None,
            temp_start_c=self._last("temperature.package"),
            battery_charge=self._last("battery.charge"),
            lid=LID_WORDS.get(self._last(LID), ""),
            start=Start.AT_ONCE.value if gate.skipped or gate.gave_up else self.head.conditions.start,
            budget_low_w=None if budget is None else round(budget.low_w, 3),
            budget_high_w=None if budget is None else round(budget.high_w, 3),
        )
        self.head = replace(self.head, conditions=conditions)
        self._sink.update_conditions(self.id, conditions)

    def _last(self, name: str) -> float | None:
        """Return what a sensor showed last."""
        i = self._index.get(name)
        return None if i is None else _known(self._rows[-1][1 + i])

    @property
    def started_s(self) -> float | None:
        """The moment of the load start on the machine's clock; None before it."""
        return self._done.start_s

    @property
    def errors(self) -> tuple[WorkError, ...]:
        """What went wrong so far."""
        return tuple(self._errors)

    def skip_waiting(self) -> None:
        """Begin now, whatever it waits for."""
        self._beginning.gate.skip()

    def _work(self, now_s: float) -> None:
        elapsed = self._done.elapsed(now_s)
        self._take_errors()
        self._take_slices(elapsed)
        if self._is_over(elapsed):
            return
        if self._rows[-1][0] - self._rows[self._kept_rows][0] >= FLUSH_S:
            self._flush()

    def _is_over(self, elapsed: float) -> bool:
        """End the run if it is at its end, or cannot go on; tell whether it was ended."""
        load, asked_s = self._load, self.head.asked_s
        # In this order: why it cannot go on explains best, and having ended early counts only if nothing else does.
        if why := load.failure() or self._hindered(self._last_sample):
            self._conclude(RunState.FAILED, why)
        elif load.done():
            self._finish()
        elif elapsed >= asked_s - 1e-6:
            if self._work_of.mode is Mode.COMMAND:
                self._conclude(RunState.FAILED, f"The command was not done within {asked_s:.0f} s; give it more time.")
            # A last block that straddles the end is waited for: without it, part of the work would not count.
            elif self._done.complete_until() >= asked_s or elapsed > asked_s + LAST_BLOCKS_S:
                self._finish()
        elif not load.alive():
            self._conclude(RunState.FAILED, "All workers ended before their time.")
        return self.ended

    def _finish(self) -> None:
        doubt = self._done.doubt()
        self._conclude(RunState.FAILED if doubt else RunState.FINISHED, doubt)

    def _take_slices(self, elapsed: float, *, final: bool = False) -> None:
        if fresh := self._done.take_slices(elapsed, final=final):
            self._sink.add_slices(self.id, fresh)

    def _take_errors(self) -> None:
        now = self._rows[-1][0]
        if (proved := self._load.self_test_passed()) is not None:
            self._events.append(SelfTestPassed(now, proved))
        fresh = [self._with_readings(error) for error in self._load.errors()[len(self._errors) :]]
        self._sink.add_errors(self.id, fresh)
        self._errors += fresh

    def _with_readings(self, error: WorkError) -> WorkError:
        """Add what its core was at: the sample at or after the moment of the error, half a second off at most."""
        at = (self._done.start_s or 0.0) + error.time_s
        # Errors are found in the last seconds, so from the newest backwards.
        row = next((row for row in reversed(self._rows) if row[0] <= at + SAMPLE_SPAN_S), self._rows[-1])

        def reading(*names: str) -> float | None:
            indices = [self._index[name] for name in names if name in self._index]
            return _known(row[1 + indices[0]]) if indices else None

        chip = self.head.options.chip
        if chip and error.cpu < 0:
            kinds = ("temperature", "clock", "voltage")
            temp_c, clock_mhz, volts = (reading(f"{chip}.{kind}") for kind in kinds)
            return replace(error, temp_c=temp_c, clock_mhz=clock_mhz, voltage_v=volts)
        return replace(
            error,
            temp_c=reading(f"temperature.core{self._others.core_of(error.cpu)}", "temperature.package"),
            clock_mhz=reading(f"clock.cpu{error.cpu}"),
            voltage_v=reading("voltage.core"),
        )

    def _summary(self, duration_s: float) -> RunNumbers:
        start, load, done = self._done.start_s or 0.0, self._load, self._done
        score = done.score(duration_s) if load.own_score() is None else None
        settled = done.settled_score(duration_s) if score is not None else None
        work = self.head.workload, self.head.options
        numbers = run_numbers(self._rows.table(), self.head.columns, start, duration_s, score, settled, work)
        units = done.units(duration_s)
        extra = load.figures(duration_s)
        extra |= graphics_numbers(self._rows.table(), self.head, start, duration_s, score)
        if self._work_of.rests and self._work_of.even and (wakes := self._others.wakes) is not None:
            extra["wakeups_per_s"] = wakes
        resting_j: float | None = 0.0
        if self._work_of.rests_mostly:
            resting_j = None if self._resting_w is None else self._resting_w * duration_s
        paced = done.slices if done.paced else ()
        found = with_work(numbers, units, paced, extra, self._others.others, resting_j)
        return without_the_processor_s(found) if "graphics_w" in extra else found

    def _flush(self) -> None:
        # Kept relative to the load's start: the machine's clock means nothing after a restart.
        start = self._done.start_s if self._done.start_s is not None else self._lead_from_s
        fresh = (self._rows[i] for i in range(self._kept_rows, len(self._rows)))
        self._sink.append(self.id, [[row[0] - start, *row[1:]] for row in fresh])
        self._kept_rows = len(self._rows)
        self._sink.add_events(self.id, [replace(event, time_s=event.time_s - start) for event in self._events])
        self._events = []

    def stop(self, why: str = BY_USER) -> None:
        """End it now and keep what is there."""
        self._conclude(RunState.STOPPED, why)

    def fail(self, why: str) -> None:
        """End it now, since it cannot go on, and keep what is there."""
        self._conclude(RunState.FAILED, why)

    def end_with_machine(self, why: str) -> None:
        """End it since the machine froze or restarted: what was in force did not hold."""
        self._conclude(RunState.RESTARTED, why)

    def _conclude(self, state: RunState, why: str) -> None:
        """End it, unless it has ended already."""
        if self.ended:
            return
        now = self._rows[-1][0] if self._rows else self._lead_from_s
        duration = min(self._done.elapsed(now), self.head.asked_s)
        if self._load.done():
            duration = min(duration, self._done.complete_until())
        # First, as what follows can fail and lead here again.
        self.stage, self.ended = RunStage.ENDED, True
        if self._done.start_s is not None:
            self._others.end(now)
            self._keep(lambda: self._take_slices(duration, final=True))
            self._keep(self._take_errors)
        self._numbers = self._summary(duration) if duration > 0 else RunNumbers()
        self.end = end = RunEnd(state, why, duration, self._done.score(duration), self._numbers)
        self._keep(self._flush)
        if not self._keep(lambda: self._sink.finish(self.id, end)):
            # A full disk may still have room for the few bytes that tell how it ended
            self._keep(lambda: self._sink.finish(self.id, replace(end, numbers=RunNumbers())))
        # Last: workers are still asked for their final counts above.
        self._load.stop()
        if self._beginning.warm is not None:
            self._beginning.warm.stop()

    def _keep(self, write: Callable[[], None]) -> bool:
        """Write to the store; what goes wrong is kept in ``unsaved``. Return whether it went well."""
        try:
            write()
        except BoltError as fault:
            self.unsaved = str(fault)
            return False
        return True

    def progress(self) -> RunProgress:
        """Return where it stands."""
        now = self._rows[-1][0] if self._rows else self._lead_from_s
        elapsed = min(self._done.elapsed(now), self.head.asked_s)
        begun = elapsed >= 1.0
        score = self.end.score if self.end else (self._done.score(elapsed) if begun else None)
        if self.end is None and begun and len(self._rows) - self._numbers_rows >= NUMBERS_EVERY:
            self._numbers_rows = len(self._rows)
            self._numbers = self._summary(elapsed)
        return RunProgress(
            self.id,
            self.head,
            self.stage,
            elapsed,
            self.head.asked_s,
            score,
            tuple(self._done.slices),
            len(self._errors),
            self._numbers,
            self._beginning.gate.waiting if self.stage is RunStage.RESTING else None,
        )


def _known(value: float | None) -> float | None:
    return None if value is None or isnan(value) else value
