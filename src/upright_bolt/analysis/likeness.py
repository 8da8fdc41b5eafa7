"""What makes runs unlike each other: conditions with their thresholds, and work that was not the same."""

from dataclasses import dataclass

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


@dataclass(frozen=True, slots=True)
class Condition:
    """One condition of two runs side by side: what, the baseline's, the other's, and whether they are alike."""

    what: str
    base: str
    other: str
    alike: bool


def unlike(run: RunRecord, baseline: RunRecord) -> tuple[str, ...]:
    """Return sentences on conditions in which the runs differ by more than their thresholds."""
    return tuple(_unlike_work(run, baseline) + _unlike_surroundings(run, baseline))


def _unlike_work(run: RunRecord, baseline: RunRecord) -> list[str]:
    said = []
    if run.head.machine != baseline.head.machine:
        said.append(f"It ran on {run.head.machine}, the baseline on {baseline.head.machine}.")
    if run.head.workload != baseline.head.workload:
        said.append(f"It is another workload: {run.head.workload}, not {baseline.head.workload}.")
    mine, its = run.head.conditions, baseline.head.conditions
    if mine.threads and its.threads and mine.threads != its.threads:
        said.append(f"It kept {mine.threads} threads busy, the baseline {its.threads}.")
    if mine.core_kind != its.core_kind:
        said.append(f"It ran on {mine.core_kind or 'any cores'}, the baseline on {its.core_kind or 'any cores'}.")
    if run.head.options != baseline.head.options:
        said.append("Something else was asked of the workload: another command, pattern or rate.")
    lasts_alike = abs(run.end.duration_s - baseline.end.duration_s) <= SHORT_PART * baseline.end.duration_s
    if not lasts_alike and run.head.workload != "command":
        said.append(f"It lasted {run.end.duration_s:.0f} s, the baseline {baseline.end.duration_s:.0f} s.")
    if run.end.state not in (RunState.FINISHED, RunState.RUNNING):
        said.append(f"It did not run to its end ({run.end.state.value}).")
    return said


def conditions(run: RunRecord, baseline: RunRecord) -> tuple[Condition, ...]:
    """Return the surroundings of two runs side by side; what was not measured in both is left out."""
    a, b = run.head.conditions, baseline.head.conditions
    found = []
    if a.temp_start_c is not None and b.temp_start_c is not None:
        alike = abs(a.temp_start_c - b.temp_start_c) <= START_TEMP_C
        found.append(Condition("Start", _degrees(b.temp_start_c), _degrees(a.temp_start_c), alike))
    if a.power_source or b.power_source:
        found.append(Condition("Power source", b.power_source, a.power_source, a.power_source == b.power_source))
    if a.platform_mode or b.platform_mode:
        found.append(Condition("Platform mode", b.platform_mode, a.platform_mode, a.platform_mode == b.platform_mode))
    if a.background_load is not None and b.background_load is not None:
        alike = abs(a.background_load - b.background_load) <= BACKGROUND_SHARE
        found.append(Condition("Others' work", f"{b.background_load:.1%}", f"{a.background_load:.1%}", alike))
    if "battery" in (a.power_source, b.power_source) and None not in (a.battery_charge, b.battery_charge):
        alike = _charges_alike(a.battery_charge or 0.0, b.battery_charge or 0.0)
        found.append(Condition("Battery charge", f"{b.battery_charge:.0f} %", f"{a.battery_charge:.0f} %", alike))
    if a.kernel and b.kernel and a.kernel != b.kernel:
        found.append(Condition("Kernel", b.kernel, a.kernel, alike=False))
    return tuple(found)


def _charges_alike(mine: float, its: float) -> bool:
    return abs(mine - its) <= CHARGE_PERCENT and (mine < LOW_CHARGE_PERCENT) == (its < LOW_CHARGE_PERCENT)


def _degrees(value: float) -> str:
    return f"{value:.0f} °C"


def _unlike_surroundings(run: RunRecord, baseline: RunRecord) -> list[str]:
    return [
        f"{entry.what}: {entry.other or 'unknown'}, the baseline {entry.base or 'unknown'}."
        for entry in conditions(run, baseline)
        if not entry.alike
    ]
