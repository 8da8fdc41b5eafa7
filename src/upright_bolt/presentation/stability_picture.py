"""What the picture of a search shows: rungs along each axis, the edge, what is kept, and what each position brought."""

from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass
from statistics import fmean

from upright_bolt.analysis.stability.belief import Estimate, Observed
from upright_bolt.analysis.stability.course import Course, Narrowed
from upright_bolt.model.axis import Axis
from upright_bolt.model.quantity import CLOCK, POWER, SCORE, TEMPERATURE, Quantity
from upright_bolt.model.search import SOAKING, Outcome, Purpose, Rung, RungEnd
from upright_bolt.text.search import axis_title, place_words, rung_line, why_next
from upright_bolt.text.times import span

LEAST_SPAN = 60.0
BEYOND = 8.0
LEAST_MARKS = 2


@dataclass(frozen=True, slots=True)
class Mark:
    """A rung on an axis.

    Attributes:
        number: the rung's.
        position: along the axis.
        outcome: how it ended; None while it goes on.
        load_s: how long it lasted.
        soak: whether it is a soak.
        earlier: whether it was seen before this search, by another or in a run.
        words: what happened, in a line.
    """

    number: int
    position: float
    outcome: Outcome | None
    load_s: float
    soak: bool
    words: str
    earlier: bool = False


@dataclass(frozen=True, slots=True)
class AxisRow:
    """One axis: its rungs, where its edge lies, and what is kept of it (0: stock)."""

    title: str
    marks: tuple[Mark, ...]
    edge: Estimate | None
    kept: float


@dataclass(frozen=True, slots=True)
class GainRow:
    """What a number was at each position that ended well, all controls together: (position, mean), in order."""

    title: str
    quantity: Quantity
    points: tuple[tuple[float, float], ...]
    relative: bool = False


@dataclass(frozen=True, slots=True)
class EdgePicture:
    """All of it, on a scale from 0 (stock) to ``furthest`` along the axis.

    ``interval_history`` is how the estimate of the edge went, on the axis titled ``narrowed_of``; empty without two
    tests.
    """

    axis: Axis
    rows: tuple[AxisRow, ...]
    gains: tuple[GainRow, ...]
    furthest: float
    interval_history: tuple[Narrowed, ...] = ()
    narrowed_of: str = ""


def picture_of(course: Course, now: Rung | None = None) -> EdgePicture:
    """Return the picture of a search.

    Args:
        course: the search.
        now: the rung in progress.
    """
    rows = tuple(_row(course, axis, now) for axis in course.axes)
    ends = [mark.position for row in rows for mark in row.marks]
    ends += [row.edge.high for row in rows if row.edge is not None and len(row.marks) != 1]
    last = course.searched_last
    interval_history = tuple(course.interval_history(last))
    return EdgePicture(
        course.axis,
        rows,
        _gains(course),
        max(LEAST_SPAN, *(end + BEYOND for end in ends)) if ends else LEAST_SPAN,
        interval_history if len(interval_history) > LEAST_MARKS else (),
        axis_title(last),
    )


def _row(course: Course, axis: tuple[str, ...], now: Rung | None) -> AxisRow:
    together = axis == course.search.asked.controls
    marks = [_earlier(course.axis, one) for one in course.known_on(axis)]
    for rung in course.search.rungs:
        end = course.search.ends.get(rung.number)
        position = _on_axis(course.axis, rung, axis, together=together)
        if position is None or (end is None and rung != now):
            continue
        words = rung_line(course.search.asked, rung, end) if end is not None else why_next(course.search.asked, rung)
        lasted = rung.load_s if end is None else max(end.load_s, 1.0)
        outcome = end.outcome if end is not None else None
        marks.append(Mark(rung.number, position, outcome, lasted, rung.purpose in SOAKING, words))
    kept = {course.axis.position(course.recommended.get(name)) for name in axis}
    told = course.tested(axis) or not course.search.rungs
    edge = course.outlook(axis).edge if told else None
    return AxisRow(axis_title(axis), tuple(marks), edge, kept.pop() if len(kept) == 1 else 0.0)


def outcome_of(one: Observed) -> Outcome:
    """Return how a checked load ended, as far as it is known of what was seen before."""
    return Outcome.FROZE if one.froze else Outcome.WRONG if one.errors else Outcome.PASSED


def _earlier(axis: Axis, one: Observed) -> Mark:
    outcome = outcome_of(one)
    place = f"{place_words(axis, one.position)} {axis.quantity.unit}"
    words = f"earlier, {span(one.load_s)} of full load at {place}: {outcome.value}"
    return Mark(0, one.position, outcome, max(one.load_s, 1.0), soak=False, words=words, earlier=True)


def _on_axis(whole: Axis, rung: Rung, axis: tuple[str, ...], *, together: bool) -> float | None:
    """Return where a rung lies on an axis; None if it is none of its own."""
    if rung.purpose in (Purpose.WARM_UP, Purpose.BESIDE, Purpose.ALONE):
        return None
    if rung.purpose in SOAKING:
        values = {whole.position(rung.settings.get(name)) for name in axis}
        return values.pop() if len(values) == 1 else None
    return rung.position if rung.controls == (() if together else axis) else None


def _gains(course: Course) -> tuple[GainRow, ...]:
    rows = (
        GainRow("Score", SCORE, _means(course, lambda end: end.score), relative=True),
        GainRow("Clock at full load", CLOCK, _means(course, lambda end: end.clock_mhz)),
        GainRow("Watts at full load", POWER, _means(course, lambda end: end.power_w)),
        GainRow("Temperature at full load", TEMPERATURE, _means(course, lambda end: end.temp_c)),
        GainRow("Watts between loads", POWER, _means(course, lambda end: end.idle_w)),
    )
    return tuple(row for row in rows if len(row.points) >= LEAST_MARKS)


def _means(course: Course, worth: Callable[[RungEnd], float | None]) -> tuple[tuple[float, float], ...]:
    at: defaultdict[float, list[float]] = defaultdict(list)
    for gain in course.gains.of(worth=worth):
        at[gain.position].append(gain.score)
    return tuple((position, fmean(values)) for position, values in sorted(at.items()))
