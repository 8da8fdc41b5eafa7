"""Which power limit counts where several are in force: the lowest."""

from collections.abc import Mapping
from dataclasses import dataclass

from upright_bolt.model.control import Control


@dataclass(frozen=True, slots=True)
class EffectiveLimits:
    """The limits that count.

    Attributes:
        average_w, average_by: on average, and the control that says so; None and empty if no limit is known.
        moment_w, moment_by: for moments.
    """

    average_w: float | None
    average_by: str
    moment_w: float | None
    moment_by: str


def effective_limits(controls: Mapping[str, Control]) -> EffectiveLimits:
    """Return which of the limits in force counts, on average and for moments.

    A burst or peak limit below the sustained one holds on average, too. Limits that are switched off count for nothing.
    The board's limit spans more than the processor: it is left to its own row.
    """
    limiter = controls.get("limiter")
    if limiter is not None and limiter.current == "off":
        return EffectiveLimits(None, "", None, "")
    watts = {
        name: float(control.current)
        for name in ("sustained", "burst", "peak")
        if (control := controls.get(name)) is not None and isinstance(control.current, float)
    }
    average = min(watts, key=lambda name: watts[name], default="")
    moments = {name: w for name, w in watts.items() if name != "sustained"}
    moment = min(moments, key=lambda name: moments[name], default="")
    return EffectiveLimits(watts.get(average), average, moments.get(moment), moment)
