"""Sentences on runs: what their telemetry shows, what ran beside them, what holds the clock back now."""

from collections.abc import Mapping
from dataclasses import replace

from upright_bolt.analysis.cooling.fit import Cooling
from upright_bolt.analysis.limits.constraints import basis_of, bounds_of
from upright_bolt.analysis.phases import FULL, WHOLE, Held, Phase
from upright_bolt.analysis.run_details import RunDetails
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.control import Control
from upright_bolt.model.machine import About
from upright_bolt.model.quantity import POWER, clock_text
from upright_bolt.model.run import RunNumbers, RunRecord
from upright_bolt.model.sample import Sample, value_of
from upright_bolt.model.work import NO_CHIP
from upright_bolt.sanitize import capital
from upright_bolt.text.constraints import LEAST_SHARE, basis
from upright_bolt.text.times import length, span

WIDEST_C = 8.0
"""An interval of where a run leads that is wider says nothing worth a sentence."""
FURTHEST = 3.0
"""A run is drawn out no further than so many times its own length."""


def details(found: RunDetails) -> list[str]:
    """Return what a run's telemetry shows, a sentence each."""
    said = [words] if (words := what_held(found.phases)) else []
    last = found.phases[-1] if found.phases else None
    said += [words for held in (last.held if last is not None else ()) if (words := _held(held))]
    if found.cooling is not None and found.cooling.still_needs_s >= 1.0:
        said.append(_not_settled(found.cooling, last.to_s if last is not None else 0.0))
    carried = found.carried
    if carried is not None:
        said.append(
            f"This cooling carries {carried.value:.1f} W ({carried.low:.1f} to {carried.high:.1f}) "
            f"for half an hour below {found.below_c:.0f} °C."
        )
    elif found.below_c is not None and found.beside_w:
        chips = " and ".join(f"{part} drew {POWER.show(round(watts))}" for part, watts in found.beside_w.items())
        said.append(f"What this cooling carries cannot be read from this run: {chips} on the same heat sink.")
    elif found.below_c is not None:
        said.append(
            "What this cooling carries cannot be read from this run: it needs a minute and a rise in temperature."
        )
    return said


def _not_settled(cooling: Cooling, lasted_s: float) -> str:
    """Return where a run leads that had not settled, as far as it tells."""
    ends = cooling.settled_c
    if ends.high - ends.low > WIDEST_C or cooling.still_needs_s > FURTHEST * lasted_s:
        return "It had not settled, and is too short to tell where its watts lead."
    return (
        f"It had not settled: about {span(cooling.still_needs_s)} more would lead to {ends.value:.0f} °C "
        f"({ends.low:.0f} to {ends.high:.0f})."
    )


def carried(run: RunRecord) -> str:
    """Return what a run of ``cooling`` has found out; empty for others, and for one that did not come so far."""
    below_c, extra = run.head.options.below_c, run.end.numbers.extra
    if "draws_w" in extra:
        return (
            f"The processor draws {POWER.show(round(extra['draws_w'], 1))} at most here, which this cooling carries "
            f"below {below_c:.0f} °C: the limit is not what holds it."
        )
    if "carries_w" not in extra:
        return ""
    value, low, high = (extra[f"carries_{which}w"] for which in ("", "low_", "high_"))
    return (
        f"This cooling carries {value:.1f} W ({low:.1f} to {high:.1f}) for half an hour below {below_c:.0f} °C. "
        f"Try it: set sustained={int(low)}W burst={int(low)}W."
    )


def what_held(phases: tuple[Phase, ...]) -> str:
    """Return what held the clock back in the last phase, e.g. "After 31 s the sustained limit held it for 94 % …"."""
    last = phases[-1] if phases else None
    held = {word: share for word, share in last.constraint_share.items() if share >= LEAST_SHARE} if last else {}
    if last is None or not held or last.name == WHOLE:
        return ""
    word, share = next(iter(held.items()))
    begin = f"After {length(last.from_s)}" if last.from_s else ("At full load" if last.name == FULL else "Throughout")
    of_time = f"for {share:.0%} of the time"
    if word == Constraint.UNKNOWN:
        return f"{begin} it is not known what held it, {of_time}."
    if word == Constraint.NO_WORK:
        return f"{begin} it had too little work to be held back, {of_time}."
    if word == Constraint.HEAT:
        return f"{begin} heat held it {of_time}."
    heat = f"; heat for {held[Constraint.HEAT]:.0%}" if Constraint.HEAT in held else ""
    if not heat and last.temp_c is not None:
        heat = "; heat never did"
    return f"{begin} the {word} held it {of_time}{heat}."


def _held(held: Held) -> str:
    """Return what speaks for a constraint of a phase, e.g. "  sustained limit: 18.0 W of 18 W, since 0:14, 100%…"."""
    words = basis(held.basis)
    if not words:
        return ""
    kind = f"{capital(held.kind)}, " if held.kind else ""
    return f"  {kind}{held.constraint}: {words}, since {clock_text(held.since_s)}, {held.share:.0%} of that time"


def rendered(run: RunRecord) -> str:
    """Return which chip of a graphics load worked, and at what; empty for other work."""
    options = run.head.options
    if not options.chip:
        return ""
    who = "The software renderer" if options.chip == NO_CHIP else options.chip
    scene = "scenes in steps, light, heavy and none" if options.weight == "steps" else f"the {options.weight} scene"
    pace = f"{options.pace_fps:g} times a second" if options.pace_fps else "as fast as it went"
    return f"{who} rendered {scene}, {pace}; every frame was checked."


def beside(numbers: RunNumbers) -> list[str]:
    """Return what else was running as a sentence; none if nothing was."""
    words = ", ".join(f"{name} {share:.1f} %" for name, share in numbers.others.items())
    return [f"Beside it ran: {words}"] if words else []


def holding_now(sample: Sample, about: About, controls: Mapping[str, Control], since_s: float) -> str:
    """Return e.g. ``"sustained limit: 18.0 W of 18 W, since 0:28"``; kind by kind where there are several.

    Args:
        sample: the newest.
        about: the machine.
        controls: as they stand.
        since_s: for how long the constraint of the sample has held.
    """
    index = about.index

    def read(name: str) -> float | None:
        return value_of(sample, index, name)

    bounds = bounds_of({name: control.current for name, control in controls.items()})
    bounds = replace(bounds, ceiling_c=bounds.ceiling_c or about.ceiling_c)
    if not sample.kinds:
        words = basis(basis_of(sample.constraint, read, bounds=bounds))
        return f"{sample.constraint.value}: {words}, since {clock_text(since_s)}" if words else sample.constraint.value
    said = []
    for (kind, _), constraint in zip(about.topology.kinds, sample.kinds, strict=False):
        words = basis(basis_of(constraint, read, bounds=bounds, kind=kind))
        said.append(f"{kind}: {constraint.value}" + (f", {words}" if words else ""))
    return "; ".join(said)
