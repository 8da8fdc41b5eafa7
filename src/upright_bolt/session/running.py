"""One run in progress: lead-in, preparation, work, end; telemetry kept as it comes, so that a crash loses little."""

from dataclasses import dataclass, replace
from enum import StrEnum
from math import isnan
from typing import Protocol

from upright_bolt.errors import BoltError
from upright_bolt.model.run import (
    Conditions,
    RunEnd,
    RunEvent,
    RunHead,
    RunNumbers,
    RunState,
    Slice,
    WorkError,
)
from upright_bolt.session.numbers import number_rows, run_numbers
from upright_bolt.session.sampler import Sample
from upright_bolt.workload.load import Load

LEAD_S = 3.0
"""Time watched before the load: start temperature, and what others take of the processor."""
SLICE_S = 10.0
FLUSH_S = 10.0
LAST_BLOCKS_S = 2.0
"""How long the end of a run waits for blocks under way, so that they count in proportion."""
NUMBERS_EVERY = 4


class Phase(StrEnum):
    """Where a run stands."""

    LEAD = "watching before the load"
    PREPARING = "warming up the workers"
    WORKING = "working"
    ENDED = "ended"


class RunSink(Protocol):
    """Where runs are kept. Every call lasts at once."""

    def begin(self, head: RunHead) -> int:
        """Keep a new run and return its id."""
        ...

    def append(self, run_id: int, rows: list[list[float]]) -> None:
        """Keep telemetry rows: time from load start in s, then a number per column, NaN where not measured."""
        ...

    def add_slices(self, run_id: int, slices: list[Slice]) -> None:
        """Keep slices."""
        ...

    def add_events(self, run_id: int, events: list[RunEvent]) -> None:
        """Keep events, their times from load start."""
        ...

    def add_errors(self, run_id: int, errors: list[WorkError]) -> None:
        """Keep wrong results and deaths."""
        ...

    def update_conditions(self, run_id: int, conditions: Conditions) -> None:
        """Keep the conditions measured before the load began."""
        ...

    def finish(self, run_id: int, end: RunEnd) -> None:
        """Keep how it ended."""
        ...


@dataclass(frozen=True, slots=True)
class RunProgress:
    """What a run in progress shows. ``elapsed_s`` is time under load; ``numbers`` are those so far."""

    run_id: int
    phase: Phase
    elapsed_s: float
    asked_s: float
    score: float | None
    slices: tuple[Slice, ...]
    errors: int
    numbers: RunNumbers


class ActiveRun:
    """Runs a load for a time. Give every sample to ``tick`` until ``phase`` is ``ENDED``.

    Args:
        head: what is known now; its conditions are completed at load start.
        load: the workload.
        sink: where it is kept.
        place: sensor name to its place in a sample.
        now_s: the present moment on the machine's clock.

    Attributes:
        end: how it ended; None while it goes on.
        unsaved: why its end could not be kept; empty if all is well.
    """

    def __init__(self, head: RunHead, load: Load, sink: RunSink, place: dict[str, int], now_s: float) -> None:
        self.head = head
        self.phase = Phase.LEAD
        self.end: RunEnd | None = None
        self.unsaved = ""
        self._load = load
        self._sink = sink
        self._place = place
        self._lead_from_s = now_s
        self._start_s: float | None = None
        self._rows: list[list[float]] = []
        self._kept_rows = 0
        self._slices: list[Slice] = []
        self._errors: list[WorkError] = []
        self._events: list[RunEvent] = []
        self._numbers = RunNumbers()
        self._ticks = 0
        self.id = sink.begin(head)

    def tick(self, sample: Sample, events: list[RunEvent]) -> None:
        """Take a sample and the events since the last one, and go on."""
        if self.phase is Phase.ENDED:
            return
        self._rows.append([sample.time_s, *number_rows(sample)])
        self._events += events
        try:
            if self.phase is Phase.LEAD and sample.time_s - self._lead_from_s >= LEAD_S - 1e-6:
                self._load.prepare()
                self.phase = Phase.PREPARING
            if self.phase is Phase.PREPARING and self._load.ready():
                self._begin_work()
            elif self.phase is Phase.WORKING:
                self._work(sample.time_s)
        except BoltError as fault:
            self._conclude(RunState.FAILED, str(fault))

    def _begin_work(self) -> None:
        self._start_s = self._load.start()
        self.phase = Phase.WORKING
        lead = [row for row in self._rows if row[0] <= self._lead_from_s + LEAD_S + 1e-6]
        busy = [row[1 + self._place["busy.mean"]] for row in lead if row[1 + self._place["busy.mean"]] >= 0]
        warm = self._place.get("temperature.package")
        last_temp = self._rows[-1][1 + warm] if warm is not None else None
        conditions = replace(
            self.head.conditions,
            background_load=sum(busy) / len(busy) / 100.0 if busy else None,
            temp_start_c=last_temp if last_temp is not None and not isnan(last_temp) else None,
        )
        self.head = replace(self.head, conditions=conditions)
        self._sink.update_conditions(self.id, conditions)

    def _work(self, now_s: float) -> None:
        elapsed = self._elapsed(now_s)
        self._take_errors()
        self._take_slices(elapsed, final=False)
        if elapsed >= self.head.asked_s - 1e-6:
            done_s = (self._start_s or 0.0) + self.head.asked_s
            if self._load.complete_until() >= done_s or elapsed > self.head.asked_s + LAST_BLOCKS_S:
                self._conclude(RunState.FINISHED, "")
                return
        elif not self._load.alive():
            self._conclude(RunState.FAILED, "All workers ended before their time.")
            return
        self._ticks += 1
        if self._ticks % NUMBERS_EVERY == 0:
            self._numbers = self._summary(min(elapsed, self.head.asked_s))
        if self._rows[-1][0] - self._rows[self._kept_rows][0] >= FLUSH_S:
            self._flush()

    def _elapsed(self, now_s: float) -> float:
        return 0.0 if self._start_s is None else now_s - self._start_s

    def _take_errors(self) -> None:
        errors = self._load.errors()
        self._sink.add_errors(self.id, errors[len(self._errors) :])
        self._errors = errors

    def _take_slices(self, elapsed: float, *, final: bool) -> None:
        if self._start_s is None or not self._load.scores:
            return
        elapsed = min(elapsed, self.head.asked_s)
        complete = elapsed if final else min(elapsed, self._load.complete_until() - self._start_s)
        fresh: list[Slice] = []
        while True:
            begin = (len(self._slices) + len(fresh)) * SLICE_S
            end = min(begin + SLICE_S, elapsed) if final else begin + SLICE_S
            if end > complete + 1e-6 or end - begin < 1.0:
                break
            units = self._load.units_until(self._start_s + end) - self._load.units_until(self._start_s + begin)
            fresh.append(Slice(begin, end, units, units * 60.0 / (end - begin)))
        if fresh:
            self._sink.add_slices(self.id, fresh)
            self._slices += fresh

    def _summary(self, duration_s: float) -> RunNumbers:
        start = self._start_s or 0.0
        columns = self.head.columns
        return run_numbers(self._rows, columns, start, duration_s, self._score(duration_s))

    def _score(self, duration_s: float) -> float | None:
        if self._start_s is None or duration_s <= 0 or not self._load.scores:
            return None
        return self._load.units_until(self._start_s + duration_s) * 60.0 / duration_s

    def _flush(self) -> None:
        start = self._start_s if self._start_s is not None else self._lead_from_s
        self._sink.append(self.id, [[row[0] - start, *row[1:]] for row in self._rows[self._kept_rows :]])
        self._kept_rows = len(self._rows)
        self._sink.add_events(self.id, [replace(event, time_s=event.time_s - start) for event in self._events])
        self._events = []

    def stop(self, why: str = "stopped by the user") -> None:
        """End it now and keep what is there."""
        if self.phase is not Phase.ENDED:
            self._conclude(RunState.STOPPED, why)

    def fail(self, why: str) -> None:
        """End it now, since the machine cannot go on, and keep what is there."""
        if self.phase is not Phase.ENDED:
            self._conclude(RunState.FAILED, why)

    def _conclude(self, state: RunState, why: str) -> None:
        now = self._rows[-1][0] if self._rows else self._lead_from_s
        duration = min(self._elapsed(now), self.head.asked_s)
        score = self._score(duration)
        self._numbers = self._summary(duration) if duration > 0 else RunNumbers()
        self.phase = Phase.ENDED
        self.end = RunEnd(state, why, duration, score, self._numbers)
        try:
            if self._start_s is not None:
                self._take_slices(duration, final=True)
                self._take_errors()
            self._flush()
            self._sink.finish(self.id, self.end)
        except BoltError as fault:
            self.unsaved = str(fault)
        finally:
            self._load.stop()

    def progress(self) -> RunProgress:
        """Return where it stands."""
        now = self._rows[-1][0] if self._rows else self._lead_from_s
        elapsed = min(self._elapsed(now), self.head.asked_s)
        score = self.end.score if self.end else (self._score(elapsed) if elapsed >= 1.0 else None)
        return RunProgress(
            self.id,
            self.phase,
            elapsed,
            self.head.asked_s,
            score,
            tuple(self._slices),
            len(self._errors),
            self._numbers,
        )
