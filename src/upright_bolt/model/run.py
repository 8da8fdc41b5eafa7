"""Runs: one measured piece of work, with its settings, conditions, telemetry and result."""

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from upright_bolt.errors import BadInput
from upright_bolt.model.control import Value
from upright_bolt.model.work import Options

BURST_S = 20.0
"""Length of a run's beginning that is looked at by itself when runs are compared, whatever its phases."""
SLICE_S = 10.0
WHOLE_SLICE_S = 9.0
"""A slice of at least this length counts as a whole one."""


SETTLED_PART = 0.25
SETTLED_LEAST_S = 10.0


def settled_from_s(duration_s: float) -> float | None:
    """Return when the settled part of a run begins, in s from load start; None if the run is too short."""
    start = min(duration_s * (1.0 - SETTLED_PART), duration_s - SETTLED_LEAST_S)
    return start if start >= BURST_S else None


LETTERS = "ABCDEF"
"""Each run of a comparison has a letter; so many fit into one picture."""


class RunState(StrEnum):
    """How a run stands, or how it ended."""

    RUNNING = "running"
    FINISHED = "finished"
    STOPPED = "stopped"
    FAILED = "failed"
    UNFINISHED = "unfinished"
    """Its program ended, and the machine went on."""
    RESTARTED = "restarted"
    """The machine itself went down with it: it froze, or was restarted."""


class RunRole(StrEnum):
    """What a run is for in its series."""

    COUNTED = ""
    WARM_UP = "warm-up"
    """It brings the machine into the state in which the others begin, and counts for nothing itself."""
    LOOKED_AT = "looked-at"
    """One of a series that went on until its difference was decided, so that it was looked at several times."""
    RUNG = "rung"
    """A test of a search for an edge, which its search knows of as well."""


@dataclass(frozen=True, slots=True)
class Slice:
    """Work done in one stretch of a run: seconds from load start, work units, units per minute."""

    from_s: float
    to_s: float
    units: float
    score: float


GRAPHICS = "graphics"
"""Key of a run's identity: the graphics chip that worked, as the bus names it, since another one may take its place."""
NO_PROCESSOR = -1
"""Stands for the processor of an error that is none's in particular."""


@dataclass(frozen=True, slots=True)
class WorkError:
    """A wrong result, or a worker that died or hung: when, where and what.

    Attributes:
        time_s: from load start.
        cpu: the logical processor, or ``NO_PROCESSOR``.
        block: the instruction mix, or empty.
        what: in words.
        temp_c, clock_mhz, voltage_v: of its core at that moment; None where not measured.
    """

    time_s: float
    cpu: int
    block: str
    what: str
    temp_c: float | None = None
    clock_mhz: float | None = None
    voltage_v: float | None = None


@dataclass(frozen=True, slots=True)
class Conditions:
    """What makes runs alike or unlike; None where not measured.

    Attributes:
        temp_start_c: package temperature at load start.
        power_source: "charger", "battery" or empty.
        platform_mode: the vendor's mode, or empty.
        background_load: share of processor time used by others before the load began, 0 to 1.
        kernel: the kernel's version.
        threads: processors that the workload kept busy; None for one without work.
        core_kind: the kind of cores that it ran on, if it was one alone.
        battery_charge: charge in % at load start.
        start: the start asked for, see ``model.start``; empty for a run older than that.
        lid: "open" or "closed"; empty without one, or in a run older than that.
        budget_low_w, budget_high_w: between what the limiter's average lay at load start.
    """

    temp_start_c: float | None = None
    power_source: str = ""
    platform_mode: str = ""
    background_load: float | None = None
    kernel: str = ""
    threads: int | None = None
    core_kind: str = ""
    battery_charge: float | None = None
    start: str = ""
    budget_low_w: float | None = None
    budget_high_w: float | None = None
    lid: str = ""


@dataclass(frozen=True, slots=True)
class RunNumbers:
    """The numbers of a run; None where not measured. Clocks are means over the busy processors.

    ``burst`` is the first 20 s under load, ``sustained`` the settled part at its end (see
    ``analysis.summary``). ``constraint_share`` gives each constraint's share of the time under load, 0 to 1.
    ``spread`` holds, by number, the values of its slices of ten seconds after the burst, in their order.

    Attributes:
        energy_per_unit_j: energy for one unit of work (a unit, a task, a frame).
        power_mean_w: mean over the whole time under load.
        score_settled, settled_per_watt: score of the settled part alone, and per watt of that part.
        pace_spread: standard deviation of its slices' scores after the burst, in % of their mean.
        first_held_s, first_held_by: when a limit, heat or a signal first held the clock back, and which.
        extra: numbers of its workload alone, by the keys of ``analysis.comparison.compare.NUMBERS``.
        others: what else was running: share of one processor in %, by the program's name.
    """

    clock_burst_mhz: float | None = None
    clock_sustained_mhz: float | None = None
    power_burst_w: float | None = None
    power_sustained_w: float | None = None
    temp_max_c: float | None = None
    temp_sustained_c: float | None = None
    fan_sustained_rpm: float | None = None
    energy_j: float | None = None
    score_per_watt: float | None = None
    constraint_share: dict[str, float] = field(default_factory=dict)
    spread: dict[str, list[float]] = field(default_factory=dict)
    energy_per_unit_j: float | None = None
    pace_spread: float | None = None
    first_held_s: float | None = None
    first_held_by: str = ""
    extra: dict[str, float] = field(default_factory=dict)
    others: dict[str, float] = field(default_factory=dict)
    power_mean_w: float | None = None
    score_settled: float | None = None
    settled_per_watt: float | None = None


@dataclass(frozen=True, slots=True)
class RunHead:
    """What is known of a run when it starts.

    Attributes:
        machine: the machine's spec (``twin:tern``).
        identity: who the machine was, as plain data.
        settings: every control that could be read, in force at load start.
        tried: the settings tried for this run or trial, if any.
        started_at: ISO time with zone.
        series: shared by runs that were made as repeats of each other; empty for a run by itself.
        options: what else was asked of the workload.
        boot_id: the boot it ran in; empty for one older than that.
        key: the same wherever the run is copied to; empty for one older than keys.
        role: what it is for in its series.
    """

    machine: str
    identity: dict[str, Any]
    workload: str
    label: str
    asked_s: float
    settings: dict[str, Value]
    tried: dict[str, Value]
    conditions: Conditions
    started_at: str
    columns: tuple[str, ...]
    series: str = ""
    options: Options = field(default_factory=Options)
    key: str = ""
    boot_id: str = ""
    role: RunRole = RunRole.COUNTED


@dataclass(frozen=True, slots=True)
class RunEnd:
    """How a run ended and what it brought."""

    state: RunState
    why: str
    duration_s: float
    score: float | None
    numbers: RunNumbers

    @property
    def how(self) -> str:
        """How it ended and why, to go on in a sentence: "failed: the disk is full"."""
        return f"{self.state.value}: {self.why.rstrip('.')}"


@dataclass(frozen=True, slots=True)
class Measure:
    """A number that a person measured by hand: noise, surface temperature, frame rate."""

    value: float
    unit: str

    def show(self) -> str:
        """Return it as a person reads it."""
        return f"{self.value:g} {self.unit}".rstrip()


def parse_measures(words: Iterable[str]) -> dict[str, Measure]:
    """Return the measures typed as ``NAME=NUMBER UNIT``, e.g. ``noise=38.5dB``.

    Raises:
        BadInput: a word is not of that form, or a name is given twice.
    """
    found: dict[str, Measure] = {}
    for word in words:
        match = _MEASURE.fullmatch(word.strip())
        if match is None:
            raise BadInput(f"measure: “{word}” is not of the form NAME=NUMBER UNIT, e.g. noise=38.5dB.")
        name = match[1].strip()
        if name in found:
            raise BadInput(f"measure: {name} is given twice.")
        found[name] = Measure(float(match[2].replace("−", "-")), match[3].strip())
    return found


_MEASURE = re.compile(r"([^=]{1,40})=\s*([+\-−]?\d+(?:\.\d+)?)\s*([^\d\s=][^=]{0,20})?")


@dataclass(frozen=True, slots=True)
class RunRecord:
    """A run as the store keeps it; ``note`` and ``measures`` are what a person added to it."""

    id: int
    head: RunHead
    end: RunEnd
    slices: tuple[Slice, ...] = ()
    errors: tuple[WorkError, ...] = ()
    note: str = ""
    measures: dict[str, Measure] = field(default_factory=dict)

    @property
    def broke(self) -> bool:
        """Whether results were wrong, workers died, or the machine went down with it."""
        return bool(self.errors) or self.end.state is RunState.RESTARTED

    @property
    def usable(self) -> bool:
        """Whether its numbers may stand for its settings: it ended well, without errors, and was no warm-up."""
        return self.end.state is RunState.FINISHED and not self.broke and self.head.role is not RunRole.WARM_UP

    @property
    def name(self) -> str:
        """What it is called on screens and in reports."""
        return self.head.label or f"Run {self.id}, {self.head.workload}"
