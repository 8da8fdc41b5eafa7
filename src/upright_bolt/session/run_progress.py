"""Where a run stands, and where what it brings is kept."""

from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol

from upright_bolt.model.event import Event
from upright_bolt.model.run import Conditions, RunEnd, RunHead, RunNumbers, Slice, WorkError
from upright_bolt.model.start import Waiting


class RunStage(StrEnum):
    """Where a run stands."""

    LEAD = "watching before the load"
    RESTING = "letting the machine rest"
    PREPARING = "preparing the work"
    WARMING = "warming the machine up"
    WORKING = "working"
    ENDED = "ended"


LOADED = (RunStage.WARMING, RunStage.WORKING)
"""Stages in which the machine is at work for a run."""


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

    def add_events(self, run_id: int, events: list[Event]) -> None:
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
    """What a run in progress shows.

    ``elapsed_s`` is time under load; ``numbers`` are those so far; ``waiting`` is what keeps it from its load.
    """

    run_id: int
    head: RunHead
    stage: RunStage
    elapsed_s: float
    asked_s: float
    score: float | None
    slices: tuple[Slice, ...]
    errors: int
    numbers: RunNumbers
    waiting: Waiting | None = None
