"""What earlier runs of a machine tell of its cooling, as a start for the next."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from upright_bolt.model.run import RunRecord
from upright_bolt.model.sensor import FAN
from upright_bolt.model.start import Start
from upright_bolt.model.workloads import Mode, workload
from upright_bolt.store.runs import Floats, RunStore

if TYPE_CHECKING:
    from collections.abc import Mapping

    from upright_bolt.analysis.cooling.fit import Cooling
    from upright_bolt.analysis.cooling.model import Prior

MOST_RUNS = 3
LEAST_S = 150.0
WARMS_W = 4.0
"""So many watts of a chip on the same sink, on average, move what is fitted by more than its interval."""


def cooling_of(store: RunStore, record: RunRecord, prior: "Prior | None" = None) -> "Cooling | None":
    """Return the cooling that a kept run shows; None if it does not, or if a graphics chip heated the same sink."""
    from upright_bolt.analysis.cooling import fit  # noqa: PLC0415 - brings numpy along

    time_s, columns = store.telemetry(record.id)
    power, temp = columns.get("power.package"), columns.get("temperature.package")
    if power is None or temp is None or heated_beside(columns):
        return None
    lasts = time_s <= record.end.duration_s + 1e-6
    cores = [column[lasts] for name, column in columns.items() if name.startswith("temperature.core")]
    fan, sustained = columns.get(FAN), record.head.settings.get("sustained")
    import numpy as np  # noqa: PLC0415 - loaded above

    return fit.fit(
        time_s[lasts], power[lasts], temp[lasts], None if fan is None else fan[lasts],
        cores_c=np.array(cores) if cores else None, prior=prior,
        size_w=sustained if isinstance(sustained, float) and not record.head.tried else None,
    )  # fmt: skip


def heated_beside(columns: "Mapping[str, Floats]") -> dict[str, float]:
    """Return the graphics chips with watts of their own that worked meanwhile, each with its mean in W.

    The model of a cooling knows no heat but the processor's; chips within the processor have no watts of their own.
    """
    import numpy as np  # noqa: PLC0415 - brought along by whoever has columns

    watts = {name.removesuffix(".power"): column for name, column in columns.items() if name.endswith(".power")}
    means = {part: float(np.nan_to_num(column).mean()) for part, column in watts.items() if len(column)}
    return {part: mean for part, mean in means.items() if mean >= WARMS_W}


def earlier_cooling(store: RunStore, known: Sequence[RunRecord], machine: str) -> "Prior | None":
    """Return what the latest few runs of a machine tell of its cooling, the oldest first taken in; None for nothing.

    Args:
        store: has their telemetry.
        known: all runs, newest first.
        machine: the machine's spec.
    """
    fit_for_it = [
        run
        for run in known
        if run.head.machine == machine
        and workload(run.head.workload).mode in (Mode.MIXED, Mode.HOLD)
        and workload(run.head.workload).threads is None
        and run.head.conditions.start == Start.RESTED
        and run.end.duration_s >= LEAST_S
        and run.usable
    ]
    prior: Prior | None = None
    for run in reversed(fit_for_it[:MOST_RUNS]):
        cooling = cooling_of(store, run, prior)
        prior = prior if cooling is None else cooling.as_prior()
    return prior
