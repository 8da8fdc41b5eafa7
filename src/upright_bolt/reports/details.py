"""What a run's telemetry tells beyond its numbers: phases, whether it had settled, what its cooling carries."""

from dataclasses import asdict
from typing import Any

from upright_bolt.analysis import phases
from upright_bolt.analysis.limits.constraints import Bounds, bounds_of
from upright_bolt.analysis.limits.gpu_limits import HIGHEST_CLOCK, seen_as_a_processor
from upright_bolt.analysis.run_details import RunDetails
from upright_bolt.model.catalogue import PART_MARK
from upright_bolt.model.run import RunRecord
from upright_bolt.model.workloads import Mode, workload
from upright_bolt.reports.earlier_cooling import cooling_of, heated_beside
from upright_bolt.session.stages import stages_of
from upright_bolt.store.runs import Floats, RunStore
from upright_bolt.text.constraints import basis


def telemetry_of(store: RunStore, record: RunRecord) -> tuple[Floats, dict[str, Floats]]:
    """Return sample times and columns as pictures show them: of a run on a graphics chip alone, the chip's own.

    Args:
        store: has them, see ``RunStore.telemetry`` for shapes.
        record: the run.

    Raises:
        NotFound: there is no such run.
        CorruptData: what the database holds of it makes no sense.
    """
    time_s, columns = store.telemetry(record.id)
    chip = record.head.options.chip
    if workload(record.head.workload).mode is Mode.GPU and f"{chip}.clock" in columns:
        return time_s, seen_as_a_processor(columns, chip)
    return time_s, columns


def details_of(store: RunStore, record: RunRecord, below_c: float | None = None) -> RunDetails:
    """Return the details of a kept run; ``below_c`` asks what its cooling carries below that temperature."""
    time_s, columns = telemetry_of(store, record)
    head, duration_s = record.head, record.end.duration_s
    known, bounds = workload(head.workload), bounds_of(head.settings)
    if known.mode is Mode.GPU:
        cap = head.settings.get(f"{head.options.chip}{PART_MARK}{HIGHEST_CLOCK}")
        bounds = Bounds(cap if isinstance(cap, float) else None)
    if known.even:
        found = phases.find(time_s, columns, duration_s, bounds=bounds)
    else:
        stages = stages_of(head.workload, head.options, time_s)
        full = None if stages is None else stages.full
        found = phases.whole(time_s, columns, duration_s, bounds=bounds, full=full)
    beside = heated_beside(columns)
    told = known.even and not head.options.chip and not beside
    return RunDetails(found, cooling_of(store, record) if told else None, below_c, beside)


def details_data(details: RunDetails) -> dict[str, Any]:
    """Return the details as plain data; None where the run does not tell."""
    cooling = details.cooling
    carried = details.carried
    needs = cooling.still_needs_s if cooling is not None else None
    return {
        "phases": [_phase_data(phase) for phase in details.phases],
        "settled": None if needs is None else (True if needs < 1.0 else needs),
        "thermal": None
        if cooling is None
        else {
            "resistance_c_per_w": asdict(cooling.resistance_c_per_w),
            "taus_s": [asdict(tau) for tau in cooling.taus_s],
            "ambient_c": asdict(cooling.ambient_c),
            "settled_c": asdict(cooling.settled_c),
        },
        "carries": None
        if carried is None
        else {
            "below_c": details.below_c,
            "sustained_w": carried.value,
            "low_w": carried.low,
            "high_w": carried.high,
        },
    }


def _phase_data(phase: phases.Phase) -> dict[str, Any]:
    held = [
        {"kind": h.kind, "constraint": h.constraint, "share": h.share, "since_s": h.since_s,
         "evidence": basis(h.basis), "value": h.basis.value, "limit": h.basis.limit}
        for h in phase.held
    ]  # fmt: skip
    return {**asdict(phase), "held": held}
