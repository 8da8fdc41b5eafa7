"""Any result against any control, over all runs that carry both: points with error bars, joined where alike.

Runs belong together (one *line*) if they ran the same workload on the same machine with the same settings but for
the control that is looked at. The error bar of a point is the interval of 95 % of its mean: over repeats by Student's
t, for a single run from its slices (see ``analysis.comparison.difference``); where neither tells, there is none.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from scipy.special import stdtrit

from upright_bolt.analysis.comparison.compare import estimate
from upright_bolt.analysis.comparison.difference import LEVEL
from upright_bolt.analysis.comparison.run_spread import RunSpreads
from upright_bolt.analysis.numbers import BY_KEY, NUMBERS, Number, value_of
from upright_bolt.model.catalogue import beside, declaration_of, in_order
from upright_bolt.model.control import Value, show_value
from upright_bolt.model.declaration import Kind
from upright_bolt.model.run import RunHead, RunRecord, RunRole, RunState
from upright_bolt.model.workloads import Mode, workload

MOST_WORDS = 3


@dataclass(frozen=True, slots=True)
class Point:
    """The mean of some runs at one value of the control; ``half_width`` is half its interval, None if not known."""

    x: float
    mean: float
    half_width: float | None
    runs: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class SweepLine:
    """Points of runs that differ in nothing but the control, values rising.

    Attributes:
        work: workload and machine.
        words: what sets it apart from the line with the most runs, e.g. ``"burst 60 W"``; empty for that one.
        errors: values of the control at which a run gave wrong results, or ended with the machine.
    """

    points: tuple[Point, ...]
    work: tuple[str, str]
    words: str
    errors: tuple[float, ...] = ()


def lines(runs: Iterable[RunRecord], control: str, key: str) -> tuple[SweepLine, ...]:
    """Return the lines, the one with the most runs first.

    Args:
        runs: all runs to look at.
        control: name of a control with numbers, a switch or a choice.
        key: of a number in ``NUMBERS``.
    """
    looked_at = list(runs)
    words = words_of(control, looked_at)
    grouped: dict[tuple[object, ...], list[RunRecord]] = {}
    for run in looked_at:
        ended = run.broke or run.end.state in (RunState.FINISHED, RunState.FAILED)
        # The warm-up begins cold, so it is no repeat of the runs after it.
        warms_up = run.head.role is RunRole.WARM_UP
        if ended and not warms_up and _index(control, words, run) is not None:
            head = run.head
            # Work in stages is full load at first, so its score depends on its length.
            staged_s = head.asked_s if key == "score" and workload(head.workload).mode is Mode.STAGES else None
            for rest in _rests(control, run):
                grouped.setdefault((head.machine, head.workload, head.options, staged_s, rest), []).append(run)
    # Largest first, so that a line with all runs stands, and parts of it do not.
    ordered = _without_repeats(sorted(grouped.values(), key=len, reverse=True))
    first = ordered[0][0].head if ordered else None
    spreads = RunSpreads(looked_at)
    found = []
    for group in ordered:
        points = _points(group, control, words, BY_KEY[key], spreads)
        if points and first is not None:
            wrong = sorted({x for run in group if run.broke and (x := _index(control, words, run)) is not None})
            head = group[0].head
            found.append(SweepLine(points, (head.workload, head.machine), _apart(head, first, control), tuple(wrong)))
    return tuple(found)


def shares_power(run: RunRecord) -> bool:
    """Tell whether processor and GPU worked at once in a run, each with a score."""
    return workload(run.head.workload).mode is Mode.GPU_AND_CPU


SHARED = "shared"
"""Stands for both scores of the workload ``both`` in one picture."""


def shared(runs: Iterable[RunRecord], control: str) -> tuple[SweepLine, ...]:
    """Return frames and the processor's score over a control, each in % of the most it came to; frames first.

    Args:
        runs: all runs to look at; those of ``both`` count.
        control: as for ``lines``.
    """
    of_both = [run for run in runs if shares_power(run)]
    found = []
    for key, words in (("score_settled", "frames"), ("processor_score", "processor score")):
        first = next(iter(lines(of_both, control, key)), None)
        if first is None:
            return ()
        # Frames and scores have different units; in % of their best they share an axis.
        most = max(point.mean for point in first.points)
        points = tuple(
            replace(
                p,
                mean=100.0 * p.mean / most,
                half_width=None if p.half_width is None else 100.0 * p.half_width / most,
            )
            for p in first.points
        )
        found.append(replace(first, points=points, words=words))
    return tuple(found)


def _rests(control: str, run: RunRecord) -> list[tuple[object, ...]]:
    """Return the settings besides the control; where its companion moves along with it, also those without it."""
    settings = run.head.settings
    rest = tuple(sorted((n, v) for n, v in settings.items() if n != control))
    companion = companion_of(control)
    # Core and cache moved together are one line; for it, the companion counts as part of the control.
    if not companion or settings.get(companion) != settings.get(control):
        return [rest]
    return [rest, ("alike", *(entry for entry in rest if entry[0] != companion))]


def companion_of(control: str) -> str:
    """Return the control that people move together with this one; empty for none."""
    companion = declaration_of(control).companion
    return beside(control, companion) if companion else ""


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


def _points(
    group: Sequence[RunRecord], control: str, words: tuple[str, ...], number: Number, spreads: RunSpreads
) -> tuple[Point, ...]:
    """Return the means by value; runs with wrong results say nothing of how fast, cool or thrifty they were."""
    at: dict[float, list[RunRecord]] = {}
    for run in group:
        x = _index(control, words, run)
        if x is not None and value_of(run, number.key) is not None and run.usable:
            at.setdefault(x, []).append(run)
    found = []
    for x, runs in sorted(at.items()):
        values = [v for run in runs if (v := value_of(run, number.key)) is not None]
        known = estimate(runs, number, spreads)
        half_width = None
        if known is not None:
            scale = known.mean if known.ratio else 1.0
            half_width = float(stdtrit(known.degrees_of_freedom, 1.0 - LEVEL / 2.0)) * known.error * scale
        found.append(Point(x, sum(values) / len(values), half_width, tuple(run.id for run in runs)))
    return tuple(found)


def _index(control: str, words: tuple[str, ...], run: RunRecord) -> float | None:
    """Return where a run stands on the control's axis: its number, or the index of its word among the choices."""
    value = run.head.settings.get(control)
    if not isinstance(value, str):
        return value
    return float(words.index(value)) if value in words else None


def words_of(control: str, runs: Iterable[RunRecord]) -> tuple[str, ...]:
    """Return the words that stand for a control's indices on the axis, in their order; empty where numbers do."""
    kind = declaration_of(control).kind
    if kind is Kind.SWITCH:
        return ("off", "on")
    if kind is not Kind.CHOICE:
        return ()
    return tuple(sorted({value for run in runs if isinstance(value := run.head.settings.get(control), str)}))


def _apart(mine: RunHead, its: RunHead, control: str) -> str:
    said = [mine.machine] if mine.machine != its.machine else []
    said += [mine.workload] if mine.workload != its.workload else []
    apart = (control, companion_of(control))
    names = [n for n in mine.settings if n not in apart and mine.settings.get(n) != its.settings.get(n)]
    if not said and not names and apart[1]:
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
    return tuple(name for name in in_order(seen) if declaration_of(name).kind in kinds and len(seen[name]) > 1)


def results_of(runs: Iterable[RunRecord]) -> tuple[str, ...]:
    """Return the keys of numbers that were measured in some of the runs."""
    looked_at = list(runs)
    keys = (number.key for number in NUMBERS)
    return tuple(key for key in keys if any(value_of(run, key) is not None for run in looked_at))
