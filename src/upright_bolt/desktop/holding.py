"""What holds the clock back at this moment, in words, with the numbers that speak for it."""

from collections.abc import Mapping
from dataclasses import replace

from upright_bolt.analysis.holding import bounds_of, evidence
from upright_bolt.model.control import Control
from upright_bolt.model.machine import About
from upright_bolt.model.quantity import clock_text
from upright_bolt.session.sampler import Sample


def holding_words(sample: Sample, about: About, controls: Mapping[str, Control], since_s: float) -> str:
    """Return e.g. ``"sustained limit: 18.0 W of 18 W, since 0:28"``; kind by kind where there are several.

    Args:
        sample: the newest.
        about: the machine.
        controls: as they stand.
        since_s: for how long the constraint of the sample has held.
    """
    place = about.place

    def read(name: str) -> float | None:
        return sample.values[place[name]] if name in place else None

    bounds = bounds_of({name: control.in_force for name, control in controls.items()})
    bounds = replace(bounds, ceiling_c=bounds.ceiling_c or about.ceiling_c)
    if not sample.kinds:
        told = evidence(sample.constraint, read, bounds=bounds)
        return f"{sample.constraint.value}: {told}, since {clock_text(since_s)}" if told else sample.constraint.value
    said = []
    for (kind, _), constraint in zip(about.topology.kinds, sample.kinds, strict=False):
        told = evidence(constraint, read, bounds=bounds, kind=kind)
        said.append(f"{kind}: {constraint.value}" + (f", {told}" if told else ""))
    return "; ".join(said)
