"""Runs whose load changes by design: which of their samples show the machine fully loaded, lightly, or at rest.

Their means over the whole, or over a last part, mix these, and say nothing about any of them.
"""

from dataclasses import dataclass
from typing import TYPE_CHECKING

from upright_bolt.model.work import Options, hold_s
from upright_bolt.model.workloads import LIGHT, Mode, workload

if TYPE_CHECKING:
    from upright_bolt.analysis.summary import Floats, Mask

SETTLES_S = 1.0
"""After the beginning of a stage; what is read before is still of the one before it."""


@dataclass(frozen=True, slots=True)
class Stages:
    """Which samples show what; each of shape ``(n,)``.

    Attributes:
        told: whether means over them are numbers of the run; not where its limits are moved meanwhile.
    """

    full: "Mask"
    light: "Mask"
    rest: "Mask"
    told: bool


def stages_of(name: str, options: Options, time_s: "Floats") -> Stages | None:
    """Return the stages of a run; None for a workload without any.

    Args:
        name: the workload's.
        options: its options.
        time_s: sample times from load start, shape ``(n,)``.
    """
    import numpy as np  # noqa: PLC0415 - half of this program's commands never need it

    known = workload(name)
    if known.mode is Mode.HOLD:
        held = time_s <= hold_s(options)
        return Stages(held, np.zeros_like(held), time_s > hold_s(options) + SETTLES_S, told=False)
    stages = known.stages
    if not stages:
        return None
    lengths = np.array([stage.seconds for stage in stages])
    ends = np.cumsum(lengths)
    shares = np.array([stage.share for stage in stages])
    place = np.mod(time_s, ends[-1])
    at = np.minimum(np.searchsorted(ends, place - 1e-6), len(stages) - 1)
    settled = (place - (ends - lengths)[at] >= SETTLES_S) & (time_s > 0)
    share = shares[at]
    return Stages(settled & (share == 1.0), settled & (share == LIGHT), settled & (share == 0.0), told=True)


def stage_numbers(stages: Stages, columns: "dict[str, Floats]") -> dict[str, float]:
    """Return what was measured in each kind of stage: clock in MHz and watts at full load, watts in the others."""
    if not stages.told:
        return {}
    wanted = {
        "full_mhz": ("clock.mean", stages.full),
        "full_w": ("power.package", stages.full),
        "light_w": ("power.package", stages.light),
        "between_w": ("power.package", stages.rest),
    }
    found = {}
    for key, (name, where) in wanted.items():
        values = columns[name][where] if name in columns else []
        known = [float(value) for value in values if value == value]  # noqa: PLR0124 - NaN: not measured
        if known:
            found[key] = sum(known) / len(known)
    return found
