"""What makes runs unlike each other: conditions with their thresholds, and work that was not the same."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from upright_bolt.model.run import RunRecord, RunState
from upright_bolt.model.start import Start
from upright_bolt.model.workloads import Mode, workload

START_TEMP_C = 4.0
"""A start this much warmer moves the first minutes' temperatures by about as much as one step of a limit."""
RESTED_TEMP_C = 9.0
"""Two machines at rest under other settings (a preference, idle states) may rest so many degrees apart."""
BUDGET_PART = 0.08
"""Of the sustained limit. An average so much higher at the start shortens the burst by about a tenth."""
BUDGET_LEAST_W = 1.5
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
    BUDGET = "budget"
    POWER_SOURCE = "power-source"
    PLATFORM_MODE = "platform-mode"
    LID = "lid"
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
"""A temperature in °C, watts (budget), a share (background), a charge in %, a word; None or empty if unknown."""


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
    if not lasts_alike and workload(run.head.workload).mode is not Mode.COMMAND:
        found.append(Unlike(UnlikeKind.LENGTH, run.end.duration_s, baseline.end.duration_s))
    if run.end.state not in (RunState.FINISHED, RunState.RUNNING):
        found.append(Unlike(UnlikeKind.END, run.end.state.value))
    return found


def conditions(run: RunRecord, baseline: RunRecord) -> tuple[Condition, ...]:
    """Return the surroundings of two runs side by side; what was not measured in both is left out."""
    a, b = run.head.conditions, baseline.head.conditions
    found = []
    if a.temp_start_c is not None and b.temp_start_c is not None:
        alike = abs(a.temp_start_c - b.temp_start_c) <= _most_apart_c(run, baseline)
        found.append(Condition(ConditionKind.START, b.temp_start_c, a.temp_start_c, alike))
    elif a.start and b.start:
        found.append(Condition(ConditionKind.START, b.start, a.start, a.start == b.start))
    found += _budget(run, baseline)
    if a.power_source or b.power_source:
        alike = a.power_source == b.power_source
        found.append(Condition(ConditionKind.POWER_SOURCE, b.power_source, a.power_source, alike))
    if a.platform_mode or b.platform_mode:
        # a mode that was tried is what is compared, not what disturbs the comparison
        tried = any("platform-mode" in record.head.tried for record in (run, baseline))
        alike = tried or a.platform_mode == b.platform_mode
        found.append(Condition(ConditionKind.PLATFORM_MODE, b.platform_mode, a.platform_mode, alike))
    if a.lid and b.lid and "closed" in (a.lid, b.lid):
        found.append(Condition(ConditionKind.LID, b.lid, a.lid, a.lid == b.lid))
    if a.background_load is not None and b.background_load is not None:
        alike = abs(a.background_load - b.background_load) <= BACKGROUND_SHARE
        found.append(Condition(ConditionKind.BACKGROUND, b.background_load, a.background_load, alike))
    charges = (b.battery_charge, a.battery_charge)
    if "battery" in (a.power_source, b.power_source) and None not in charges:
        found.append(Condition(ConditionKind.CHARGE, *charges, _charges_alike(charges[1] or 0.0, charges[0] or 0.0)))
    if a.kernel and b.kernel and a.kernel != b.kernel:
        found.append(Condition(ConditionKind.KERNEL, b.kernel, a.kernel, alike=False))
    return tuple(found)


def _most_apart_c(run: RunRecord, baseline: RunRecord) -> float:
    """Return how far apart start temperatures may lie: settings move the temperature at which a machine rests."""
    rested = run.head.conditions.start == baseline.head.conditions.start == Start.RESTED
    return RESTED_TEMP_C if rested and run.head.settings != baseline.head.settings else START_TEMP_C


def _budget(run: RunRecord, baseline: RunRecord) -> list[Condition]:
    """Return the state of the power budget side by side; unlike, too, where it is not known well enough."""
    a, b = run.head.conditions, baseline.head.conditions
    bounds = (a.budget_low_w, a.budget_high_w, b.budget_low_w, b.budget_high_w)
    low, high, base_low, base_high = (0.0 if bound is None else bound for bound in bounds)
    if None in bounds:
        return []
    limits = [w for record in (run, baseline) if isinstance(w := record.head.settings.get("sustained"), float)]
    most = max(BUDGET_LEAST_W, BUDGET_PART * max(limits, default=0.0))
    alike = max(high - base_low, base_high - low) <= most
    return [Condition(ConditionKind.BUDGET, base_high, high, alike)]


def typical(group: Sequence[RunRecord], run: RunRecord) -> RunRecord:
    """Return ``run`` under the mean conditions of the repeats it stands for."""
    if len(group) < 2:
        return run
    each = [other.head.conditions for other in group]
    conditions = replace(
        run.head.conditions,
        temp_start_c=_mean(found.temp_start_c for found in each),
        budget_low_w=_mean(found.budget_low_w for found in each),
        budget_high_w=_mean(found.budget_high_w for found in each),
        background_load=_mean(found.background_load for found in each),
        battery_charge=_mean(found.battery_charge for found in each),
    )
    return replace(run, head=replace(run.head, conditions=conditions))


def _mean(found: Iterable[float | None]) -> float | None:
    values = list(found)
    known = [value for value in values if value is not None]
    return sum(known) / len(known) if len(known) == len(values) else None


def _charges_alike(mine: float, its: float) -> bool:
    return abs(mine - its) <= CHARGE_PERCENT and (mine < LOW_CHARGE_PERCENT) == (its < LOW_CHARGE_PERCENT)
