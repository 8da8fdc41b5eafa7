"""What makes runs unlike each other: conditions with their thresholds, and work that was not the same."""

from dataclasses import dataclass
from enum import StrEnum

from upright_bolt.model.run import RunRecord, RunState

START_TEMP_C = 4.0
"""A start this much warmer moves the first minutes' temperatures by about as much as one step of a limit."""
BACKGROUND_SHARE = 0.03
"""Others' work of this share costs a score about as much: more than a well-kept run's spread."""
CHARGE_PERCENT = 40.0
"""A battery's voltage falls over so much of its charge by a few percent, and the watts it can give at once with it."""
LOW_CHARGE_PERCENT = 20.0
"""Below about a fifth, firmware lowers its limits on battery."""
SHORT_PART = 0.1


class ConditionKind(StrEnum):
    """A condition of two runs."""

    START = "start"
    POWER_SOURCE = "power-source"
    PLATFORM_MODE = "platform-mode"
    BACKGROUND = "background"
    CHARGE = "charge"
    KERNEL = "kernel"


class UnlikeKind(StrEnum):
    """What was not the same about the work of two runs."""

    MACHINE = "machine"
    WORKLOAD = "workload"
    THREADS = "threads"
    CORES = "cores"
    OPTIONS = "options"
    LENGTH = "length"
    END = "end"


Value = float | str | None
"""A temperature in °C, a share from 0 to 1 (background), a charge in %, a word; None or empty if unknown."""


@dataclass(frozen=True, slots=True)
class Condition:
    """One condition of two runs side by side: the baseline's, the other's, and whether they are alike."""

    kind: ConditionKind
    base: Value
    other: Value
    alike: bool


@dataclass(frozen=True, slots=True)
class Unlike:
    """Something in which a run differs from the baseline by more than its threshold."""

    what: ConditionKind | UnlikeKind
    mine: Value = None
    base: Value = None


def unlike(run: RunRecord, baseline: RunRecord) -> tuple[Unlike, ...]:
    """Return in what the runs differ by more than their thresholds."""
    surroundings = [Unlike(c.kind, c.other, c.base) for c in conditions(run, baseline) if not c.alike]
    return tuple(_unlike_work(run, baseline) + surroundings)


def _unlike_work(run: RunRecord, baseline: RunRecord) -> list[Unlike]:
    found = []
    if run.head.machine != baseline.head.machine:
        found.append(Unlike(UnlikeKind.MACHINE, run.head.machine, baseline.head.machine))
    if run.head.workload != baseline.head.workload:
        found.append(Unlike(UnlikeKind.WORKLOAD, run.head.workload, baseline.head.workload))
    mine, its = run.head.conditions, baseline.head.conditions
    if mine.threads and its.threads and mine.threads != its.threads:
        found.append(Unlike(UnlikeKind.THREADS, float(mine.threads), float(its.threads)))
    if mine.core_kind != its.core_kind:
        found.append(Unlike(UnlikeKind.CORES, mine.core_kind, its.core_kind))
    if run.head.options != baseline.head.options:
        found.append(Unlike(UnlikeKind.OPTIONS))
    lasts_alike = abs(run.end.duration_s - baseline.end.duration_s) <= SHORT_PART * baseline.end.duration_s
    if not lasts_alike and run.head.workload != "command":
        found.append(Unlike(UnlikeKind.LENGTH, run.end.duration_s, baseline.end.duration_s))
    if run.end.state not in (RunState.FINISHED, RunState.RUNNING):
        found.append(Unlike(UnlikeKind.END, run.end.state.value))
    return found


def conditions(run: RunRecord, baseline: RunRecord) -> tuple[Condition, ...]:
    """Return the surroundings of two runs side by side; what was not measured in both is left out."""
    a, b = run.head.conditions, baseline.head.conditions
    found = []
    if a.temp_start_c is not None and b.temp_start_c is not None:
        alike = abs(a.temp_start_c - b.temp_start_c) <= START_TEMP_C
        found.append(Condition(ConditionKind.START, b.temp_start_c, a.temp_start_c, alike))
    for kind, base, other in (
        (ConditionKind.POWER_SOURCE, b.power_source, a.power_source),
        (ConditionKind.PLATFORM_MODE, b.platform_mode, a.platform_mode),
    ):
        if base or other:
            found.append(Condition(kind, base, other, base == other))
    if a.background_load is not None and b.background_load is not None:
        alike = abs(a.background_load - b.background_load) <= BACKGROUND_SHARE
        found.append(Condition(ConditionKind.BACKGROUND, b.background_load, a.background_load, alike))
    charges = (b.battery_charge, a.battery_charge)
    if "battery" in (a.power_source, b.power_source) and None not in charges:
        found.append(Condition(ConditionKind.CHARGE, *charges, _charges_alike(charges[1] or 0.0, charges[0] or 0.0)))
    if a.kernel and b.kernel and a.kernel != b.kernel:
        found.append(Condition(ConditionKind.KERNEL, b.kernel, a.kernel, alike=False))
    return tuple(found)


def _charges_alike(mine: float, its: float) -> bool:
    return abs(mine - its) <= CHARGE_PERCENT and (mine < LOW_CHARGE_PERCENT) == (its < LOW_CHARGE_PERCENT)
