"""The runs of a series before they are made: repeats, two settings in turn, ladders, and the warm-up before them."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from upright_bolt.errors import BadInput
from upright_bolt.model.catalogue import Kind, declaration_of
from upright_bolt.model.control import parse_value, show_value
from upright_bolt.model.run import RunRole
from upright_bolt.model.settings import Settings
from upright_bolt.model.work import RESTING, Work

MOST_RUNS = 200


@dataclass(frozen=True, slots=True)
class Step:
    """One run to be made: the settings tried for it (none: what is in force), its label, and what it is for."""

    settings: Settings
    label: str
    role: RunRole = RunRole.COUNTED


def repeats(settings: Settings, count: int, label: str, *, alternate: bool) -> list[Step]:
    """Return ``count`` runs of ``settings``; with ``alternate`` as many without, in the order A B B A A B ….

    Raises:
        BadInput: too few or too many, or nothing to alternate with.
    """
    if not 1 <= count <= MOST_RUNS:
        raise BadInput(f"repeat: from 1 to {MOST_RUNS} runs; {count} is outside that.")
    tried = Step(settings, label)
    if not alternate:
        return [tried] * count
    if not settings:
        raise BadInput("alternate: name the settings to compare with those in force: --with sustained=25W.")
    plain = Step({}, f"{label}, without" if label else "without")
    return [step for i in range(count) for step in ((plain, tried) if i % 2 == 0 else (tried, plain))]


def ladder(text: str, beside: Settings, count: int) -> list[Step]:
    """Return the runs of a ladder typed as ``NAME=FROM..TO/STEP``, each rung ``count`` times.

    Several controls that move together are named with commas: ``core-offset,cache-offset=0mV..-80mV/10mV``.

    Raises:
        BadInput: it has another form, a control has no scale, or it has too many rungs.
    """
    words, sign, span = text.partition("=")
    first, dots, rest = span.partition("..")
    last, slash, step = rest.partition("/")
    if not (sign and dots and slash):
        raise BadInput(f"“{text}” is not a ladder; it is written NAME=FROM..TO/STEP, e.g. sustained=12W..40W/4W.")
    names = _ladder_names(words, beside)
    declared = declaration_of(names[0])
    low, high = (float(parse_value(names[0], part)) for part in (first, last))
    stride = abs(declared.quantity.parse(step, "step"))
    if stride <= 0:
        raise BadInput("step: it must be more than nothing.")
    rungs = int(abs(high - low) / stride + 1e-9) + 1
    if not count >= 1 or rungs * count > MOST_RUNS:
        raise BadInput(f"That makes {rungs * max(count, 0)} runs; from 1 to {MOST_RUNS} can be made in one go.")
    way = stride if high >= low else -stride
    title = ", ".join(names)
    found = []
    for value in (low + way * i for i in range(rungs)):
        settings = {**beside, **dict.fromkeys(names, value)}
        found += [Step(settings, f"{title} {show_value(names[0], value)}")] * count
    return found


def _ladder_names(words: str, beside: Settings) -> list[str]:
    names = [name.strip() for name in words.split(",")]
    if len(set(names)) < len(names):
        raise BadInput(f"“{words}” names a control twice.")
    quantity = declaration_of(names[0]).quantity
    for name in names:
        declared = declaration_of(name)
        if declared.kind is not Kind.SCALE:
            raise BadInput(f"{declared.title}: only a control with a scale has a ladder.")
        if declared.quantity is not quantity:
            raise BadInput(f"{names[0]} and {name} cannot move together: one is in {quantity.unit}, the other is not.")
        if name in beside:
            raise BadInput(f"{name} is the ladder's own; leave it out of --with.")
    return names


def with_warm_up(steps: Sequence[Step], work: Work) -> list[Step]:
    """Return the steps with a run before them that is not counted, where a series needs one.

    The first of several runs alone finds a rested machine. What is measured at rest needs none.
    """
    if len(steps) < 2 or work.workload in (*RESTING, "battery"):
        return list(steps)
    return [replace(steps[0], label="warm-up", role=RunRole.WARM_UP), *steps]
