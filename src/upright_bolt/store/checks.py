"""Whether a run from a file or from the database can be shown, compared and exported: all its parts are sane.

What is not is refused whole (a file), or named as damaged and left out (a row of the database).
"""

from collections.abc import Iterable
from datetime import datetime
from math import isfinite
from numbers import Real

import numpy as np
from numpy.typing import NDArray

from upright_bolt.errors import BadInput, CorruptData
from upright_bolt.model.constraint import ORDER
from upright_bolt.model.event import Event
from upright_bolt.model.run import RunNumbers, RunRecord
from upright_bolt.model.settings import settings_from_data
from upright_bolt.model.work import MOST_TIMES
from upright_bolt.model.workloads import WORKLOADS
from upright_bolt.sanitize import one_line, printable
from upright_bolt.session.numbers import is_held

LONGEST_S = 1e6
LARGEST = 1e15
"""No number of a run comes near it; with larger ones a mean or a square overflows."""
LONGEST_WORD = 300
LONGEST_NOTE = 20_000
MOST_COLUMNS = 4096
MOST_ROWS = 500_000
MOST_PARTS = 100_000
"""Slices, errors or events of one run."""
MOST_FACTS = 64
MOST_WORDS = 1000
"""Of a command."""


def check_record(record: RunRecord) -> None:
    """Raise CorruptData unless a record is sane; the sentence says what is not."""
    head, end = record.head, record.end
    _words("label", (head.label,))
    _words("machine", (head.machine, head.workload, head.series, head.key, head.boot_id))
    _words("note", (record.note,), LONGEST_NOTE, lines=True)
    _words("reason", (end.why,), LONGEST_NOTE, lines=True)
    _words("conditions", _texts(head.conditions))
    if head.workload not in WORKLOADS:
        raise CorruptData(f"the workload “{head.workload[:40]}” is none that this version knows")
    _date(head.started_at)
    _spans(record)
    _identity(head.identity)
    for settings in (head.settings, head.tried):
        try:
            settings_from_data(settings)
        except BadInput as fault:
            raise CorruptData(f"settings: {fault}") from fault
    columns = head.columns
    if len(columns) > MOST_COLUMNS or len(set(columns)) != len(columns):
        raise CorruptData("columns: too many, or one twice")
    _words("columns", columns)
    _options(record)
    _numbers(end.numbers, record)


def _texts(value: object) -> Iterable[str]:
    return (text for name in value.__slots__ if isinstance(text := getattr(value, name), str))  # type: ignore[attr-defined]


def _words(what: str, texts: Iterable[object], longest: int = LONGEST_WORD, *, lines: bool = False) -> None:
    for text in texts:
        if not isinstance(text, str) or len(text) > longest:
            raise CorruptData(f"{what}: no text, or one that is too long")
        if (printable(text) if lines else one_line(text)) != text:
            raise CorruptData(f"{what}: a text with control characters")


def _date(text: str) -> None:
    try:
        zoned = datetime.fromisoformat(text).tzinfo is not None
    except (TypeError, ValueError):
        zoned = False
    if not zoned:
        raise CorruptData("started_at: no date and time with a zone")


def _real(value: object, what: str, low: float = -LARGEST, high: float = LARGEST) -> None:
    if isinstance(value, bool) or not isinstance(value, Real) or not low <= float(value) <= high:
        raise CorruptData(f"{what}: {str(value)[:24]} is no number that could be")


def _spans(record: RunRecord) -> None:
    _real(record.head.asked_s, "asked_s", 0.0, LONGEST_S)
    _real(record.end.duration_s, "duration_s", 0.0, LONGEST_S)
    if record.end.score is not None:
        _real(record.end.score, "score")
    if len(record.slices) > MOST_PARTS or len(record.errors) > MOST_PARTS:
        raise CorruptData("too many slices or errors")
    ended_s = 0.0
    for part in record.slices:
        _real(part.from_s, "slice", ended_s - 1e-6, LONGEST_S)
        _real(part.to_s, "slice", part.from_s + 1e-6, LONGEST_S)
        _real(part.units, "slice", 0.0)
        _real(part.score, "slice", 0.0)
        ended_s = part.to_s
    for error in record.errors:
        _words("error", (error.block, error.what))
        _real(error.time_s, "error", -LONGEST_S, LONGEST_S)
        _real(error.cpu, "error", -1, MOST_PARTS)
        for value in (error.temp_c, error.clock_mhz, error.voltage_v):
            if value is not None:
                _real(value, "error")


def _identity(identity: object) -> None:
    if not isinstance(identity, dict) or len(identity) > MOST_FACTS:
        raise CorruptData("identity: no facts, or too many")
    _words("identity", identity)
    for fact in identity.values():
        if isinstance(fact, str):
            _words("identity", (fact,))
        elif fact is not None and not isinstance(fact, bool):
            _real(fact, "identity")


def _options(record: RunRecord) -> None:
    options = record.head.options
    if len(options.command) > MOST_WORDS:
        raise CorruptData("command: too many words")
    _words("command", options.command, LONGEST_NOTE, lines=True)
    _words("pattern", (options.pattern,), LONGEST_NOTE)
    _words("unit", (options.unit,))
    _real(options.times, "times", 1, MOST_TIMES)
    _real(options.rate_fps, "rate", 0.0, LARGEST)
    _real(options.below_c, "below", 0.0, LARGEST)
    if len(record.measures) > MOST_FACTS:
        raise CorruptData("too many measures")
    for name, measure in record.measures.items():
        _words("measure", (name, measure.unit))
        _real(measure.value, "measure")


def _numbers(numbers: RunNumbers, record: RunRecord) -> None:
    """Check that every number is finite, all of them in one go: a list of a thousand runs has a hundred thousand."""
    _words("numbers", (*numbers.constraint_share, *numbers.spread, *numbers.extra, *numbers.others,
                       numbers.first_held_by))  # fmt: skip
    conditions = record.head.conditions
    single = [getattr(numbers, name) for name in _SINGLE]
    values = [
        *(value for value in single if value is not None),
        *numbers.constraint_share.values(),
        *numbers.extra.values(),
        *numbers.others.values(),
        *(value for spread in numbers.spread.values() for value in spread),
        *(value for value in (conditions.temp_start_c, conditions.background_load, conditions.threads,
                              conditions.battery_charge, conditions.budget_low_w, conditions.budget_high_w)
          if value is not None),
    ]  # fmt: skip
    if len(values) > MOST_PARTS or not all(isfinite(value) and -LARGEST <= value <= LARGEST for value in values):
        raise CorruptData("numbers: one is not finite, or too large")


_SINGLE = tuple(
    name
    for name in RunNumbers.__slots__
    if name not in ("constraint_share", "spread", "extra", "others", "first_held_by")
)


def check_telemetry(time_s: NDArray[np.float64], columns: dict[str, NDArray[np.float64]]) -> None:
    """Raise CorruptData unless a run's telemetry can be shown: times that go forward, numbers, constraints that are."""
    if not np.isfinite(time_s).all() or (np.abs(time_s) > LONGEST_S).any() or (np.diff(time_s) < 0).any():
        raise CorruptData("its times do not go forward")
    for name, column in columns.items():
        known = column[~np.isnan(column)]
        if (np.abs(known) > LARGEST).any():
            raise CorruptData(f"column {name[:40]} has a number that could not be")
        if is_held(name) and (known.size != column.size or not np.isin(known, np.arange(len(ORDER))).all()):
            raise CorruptData(f"column {name[:40]} names what holds the clock back by no number that is known")


def check_events(events: Iterable[Event]) -> None:
    """Raise CorruptData unless events can be told."""
    for count, event in enumerate(events):
        if count >= MOST_PARTS:
            raise CorruptData("too many events")
        for name in type(event).__slots__:
            value = getattr(event, name)
            if isinstance(value, str):
                _words("event", (value,), LONGEST_NOTE)
            elif isinstance(value, float | int) and not isinstance(value, bool):
                _real(value, "event")
            elif isinstance(value, dict):
                try:
                    settings_from_data(value)
                except BadInput as fault:
                    raise CorruptData(f"event: {fault}") from fault
