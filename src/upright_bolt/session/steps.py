"""The runs of a series before they are made: repeats, two settings in turn, ladders, and the warm-up before them."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace

from upright_bolt.errors import BadInput
from upright_bolt.model.catalogue import declaration_of
from upright_bolt.model.control import parse_value, show_value
from upright_bolt.model.declaration import Kind
from upright_bolt.model.run import RunRole
from upright_bolt.model.settings import Settings, show_settings
from upright_bolt.model.work import Work
from upright_bolt.model.workloads import workload

MOST_RUNS = 200
FIRST_LOOK = 4
"""Runs of each setting before a series is looked at for the first time, see ``analysis.comparison.sequential_test``."""


@dataclass(frozen=True, slots=True)
class Step:
    """One run to be made.

    Attributes:
        settings: tried for it (none: what is in force).
        label: its name.
        role: what it is for.
        work: what it executes, if that is not the series' own.
    """

    settings: Settings
    label: str
    role: RunRole = RunRole.COUNTED
    work: Work | None = None


@dataclass(frozen=True, slots=True)
class Outcome:
    """A run of a series that has ended: what it was for, its number, its score, and how many results were wrong."""

    step: Step
    run_id: int
    score: float | None
    errors: int


More = Callable[[Sequence[Outcome]], list[Step]]
"""Returns the runs still to be made after those of the series so far; none if it is over."""


def repeats(settings: Settings, count: int, label: str, *, alternate: bool) -> list[Step]:
    """Return ``count`` runs of ``settings``; with ``alternate`` as many without, in the order A B B A A B ….

    Raises:
        BadInput: too few or too many, or nothing to alternate with.
    """
    if not 1 <= count <= MOST_RUNS:
        raise BadInput(f"repeat: from 1 to {MOST_RUNS} runs; {count} is outside that.")
    if not alternate:
        return [Step(settings, label)] * count
    return _in_turn(settings, label, range(count), RunRole.COUNTED)


def _in_turn(settings: Settings, label: str, numbers: Iterable[int], role: RunRole) -> list[Step]:
    """Return pairs of runs without and with settings, in the order A B B A, by the pairs' numbers. Raises BadInput."""
    if not settings:
        raise BadInput("alternate: name the settings to compare with those in force: --with sustained=25W.")
    tried = Step(settings, label or show_settings(settings), role)
    plain = Step({}, f"{label}, without" if label else "without", role)
    return [step for i in numbers for step in ((plain, tried) if i % 2 == 0 else (tried, plain))]


def until_decided(settings: Settings, label: str) -> tuple[list[Step], More]:
    """Return the first pairs of a series that goes on until its difference is decided, and what adds further ones.

    Raises:
        BadInput: there are no settings to compare with those in force.
    """

    def more(outcomes: Sequence[Outcome]) -> list[Step]:
        from upright_bolt.analysis.comparison.sequential_test import decided, runs_to_next_look  # noqa: PLC0415 - brings numpy along

        with_it, without = ([o.score for o in outcomes if bool(o.step.settings) is tried] for tried in (True, False))
        known = [[score for score in scores if score is not None] for scores in (with_it, without)]
        if any(o.errors or o.score is None for o in outcomes) or decided(*known):
            return []
        done = len(with_it)
        return _in_turn(settings, label, range(done, done + runs_to_next_look(done)), RunRole.LOOKED_AT)

    return _in_turn(settings, label, range(FIRST_LOOK), RunRole.LOOKED_AT), more


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
    known = workload(work.workload)
    if len(steps) < 2 or known.rests or known.on_battery:
        return list(steps)
    return [replace(steps[0], label="warm-up", role=RunRole.WARM_UP), *steps]
