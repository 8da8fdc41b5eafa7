"""Any result against any control, over all runs that carry both: points with error bars, joined where alike.

Runs belong together (a *strand*) if they ran the same workload on the same machine with the same settings but for
the control that is looked at. The error bar of a point is the interval of 95 % of its mean: over repeats by Student's
t, for a single run from its slices (see ``analysis.difference``); where neither tells, there is none.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from scipy.special import stdtrit

from upright_bolt.analysis.compare import estimate
from upright_bolt.analysis.difference import SURE
from upright_bolt.analysis.numbers import NUMBERS, value_of
from upright_bolt.model.control import CATALOGUE, Kind, Value, show_value
from upright_bolt.model.run import RunHead, RunRecord, RunState

MOST_WORDS = 3
COMPANIONS = {
    "core-offset": "cache-offset", "cache-offset": "core-offset", "sustained": "burst", "burst": "sustained",
}  # fmt: skip
"""Controls that people move together: one voltage rail, and flat limits that leave no burst."""


@dataclass(frozen=True, slots=True)
class Point:
    """The mean of some runs at one value of the control; ``reach`` is half its interval, None if not known."""

    x: float
    mean: float
    reach: float | None
    runs: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Strand:
    """Points of runs that differ in nothing but the control, values rising.

    Attributes:
        work: workload and machine.
        words: what sets it apart from the strand with the most runs, e.g. ``"burst 60 W"``; empty for that one.
        errors: values of the control at which a run gave wrong results.
    """

    points: tuple[Point, ...]
    work: tuple[str, str]
    words: str
    errors: tuple[float, ...] = ()


def strands(runs: Iterable[RunRecord], control: str, key: str) -> tuple[Strand, ...]:
    """Return the strands, the one with the most runs first.

    Args:
        runs: all runs to look at.
        control: name of a control with numbers, a switch or a choice.
        key: of a number in ``NUMBERS``.
    """
    looked_at = list(runs)
    words = words_of(control, looked_at)
    grouped: dict[tuple[object, ...], list[RunRecord]] = {}
    for run in looked_at:
        if run.end.state in (RunState.FINISHED, RunState.FAILED) and _place(control, words, run) is not None:
            for rest in _rests(control, run):
                grouped.setdefault((run.head.machine, run.head.workload, run.head.options, rest), []).append(run)
    ordered = _without_repeats(sorted(grouped.values(), key=len, reverse=True))
    first = ordered[0][0].head if ordered else None
    found = []
    for group in ordered:
        points = _points(group, control, words, key)
        if points and first is not None:
            wrong = sorted({x for run in group if run.errors and (x := _place(control, words, run)) is not None})
            head = group[0].head
            found.append(Strand(points, (head.workload, head.machine), _apart(head, first, control), tuple(wrong)))
    return tuple(found)


def _rests(control: str, run: RunRecord) -> list[tuple[object, ...]]:
    """Return the settings besides the control; where its companion moves along with it, also those without it."""
    settings = run.head.settings
    rest = tuple(sorted((n, v) for n, v in settings.items() if n != control))
    companion = COMPANIONS.get(control)
    if companion is None or settings.get(companion) != settings.get(control):
        return [rest]
    return [rest, ("alike", *(entry for entry in rest if entry[0] != companion))]


def _without_repeats(groups: list[list[RunRecord]]) -> list[list[RunRecord]]:
    """Leave out groups whose runs all stand in larger ones."""
    seen: set[int] = set()
    kept = []
    for group in groups:
        ids = {run.id for run in group}
        if not ids <= seen:
            kept.append(group)
            seen |= ids
    return kept


def _points(group: Sequence[RunRecord], control: str, words: tuple[str, ...], key: str) -> tuple[Point, ...]:
    at: dict[float, list[RunRecord]] = {}
    for run in group:
        x = _place(control, words, run)
        if x is not None and value_of(run, key) is not None and run.end.state is RunState.FINISHED:
            at.setdefault(x, []).append(run)
    found = []
    for x, runs in sorted(at.items()):
        values = [v for run in runs if (v := value_of(run, key)) is not None]
        told = estimate(runs, key)
        reach = float(stdtrit(told.freedom, SURE)) * told.error * told.mean if told is not None else None
        found.append(Point(x, sum(values) / len(values), reach, tuple(run.id for run in runs)))
    return tuple(found)


def _place(control: str, words: tuple[str, ...], run: RunRecord) -> float | None:
    """Return where a run stands on the control's axis: its number, or the place of its word among the choices."""
    value = run.head.settings.get(control)
    if not isinstance(value, str):
        return value
    return float(words.index(value)) if value in words else None


def words_of(control: str, runs: Iterable[RunRecord]) -> tuple[str, ...]:
    """Return the words that stand for a control's places on the axis, in their order; empty where numbers do."""
    kind = CATALOGUE[control].kind
    if kind is Kind.SWITCH:
        return ("off", "on")
    if kind is not Kind.CHOICE:
        return ()
    return tuple(sorted({value for run in runs if isinstance(value := run.head.settings.get(control), str)}))


def _apart(mine: RunHead, its: RunHead, control: str) -> str:
    said = [mine.machine] if mine.machine != its.machine else []
    said += [mine.workload] if mine.workload != its.workload else []
    apart = (control, COMPANIONS.get(control))
    names = [n for n in mine.settings if n not in apart and mine.settings.get(n) != its.settings.get(n)]
    if not said and not names and apart[1] is not None:
        names = [apart[1]]
    said += [f"{name} {show_value(name, mine.settings[name])}" for name in names[:MOST_WORDS]]
    return ", ".join(said)


def controls_with_runs(runs: Iterable[RunRecord]) -> tuple[str, ...]:
    """Return the controls that had different values in some of the runs, in the catalogue's order."""
    seen: dict[str, set[Value]] = {}
    for run in runs:
        for name, value in run.head.settings.items():
            seen.setdefault(name, set()).add(value)
    kinds = (Kind.SCALE, Kind.SWITCH, Kind.CHOICE)
    return tuple(name for name in CATALOGUE if CATALOGUE[name].kind in kinds and len(seen.get(name, ())) > 1)


def results_of(runs: Iterable[RunRecord]) -> tuple[str, ...]:
    """Return the keys of numbers that were measured in some of the runs."""
    looked_at = list(runs)
    keys = (number.key for number in NUMBERS)
    return tuple(key for key in keys if any(value_of(run, key) is not None for run in looked_at))
