"""Values that have failed on a chip, and what counts as being at, beyond or close to them."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from itertools import combinations

from upright_bolt.model.catalogue import declaration_of, unsafe_direction_of
from upright_bolt.model.control import Value
from upright_bolt.model.profile import needs_proof

GRID = {"mV": 1000.0 / 1024.0, "MHz": 5.0, "V": 0.00625}
"""Steps in which hardware keeps such values: 1/1024 V in the mailbox, 6.25 mV and a few MHz in GPUs."""
TOLERANCE_STEPS = 1.0
"""A value that is read back lies up to one step from the one that was requested, so both are the same failure."""
MARGIN_STEPS = 2.0
"""Values this close to a failure are untested: nothing says on which side of the failure point they lie."""


class FailureKind(StrEnum):
    """How values failed."""

    WRONG = "wrong"
    """A checked run gave a wrong result, or its worker died."""
    FROZE = "froze"
    """The machine went down while they were applied in a run or a trial."""


@dataclass(frozen=True, slots=True)
class Failure:
    """Values that were applied together when something went wrong.

    Attributes:
        values: by control, in its unit.
        how: how they failed.
        at: date and time.
        by: who reported it, for a person to read.
        run_id: the run in which it happened; None where only the root record knows of it.
        chip: the processor; empty where that is not in question.
        margins: by control, how far from its value the failure point may lie; ``MARGIN_STEPS`` where not given.
    """

    values: dict[str, float]
    how: FailureKind
    at: str = ""
    by: str = ""
    run_id: int | None = None
    chip: str = ""
    margins: dict[str, float] = field(default_factory=dict)


def step_of(name: str) -> float:
    """Return the step in which hardware keeps a control that can fail, in its unit."""
    return GRID.get(declaration_of(name).quantity.unit, declaration_of(name).step)


def at_risk(settings: Mapping[str, Value]) -> dict[str, float]:
    """Return those settings that can make a machine fail: offsets on their unsafe side of 0, and memory clocks."""
    return {n: v for n, v in settings.items() if isinstance(v, float | int) and needs_proof(n, v)}


def reaches(settings: Mapping[str, Value], failed: Failure) -> bool:
    """Tell whether settings are at or beyond a failure, within one step of the hardware.

    All values that failed together have to be requested: one of several may be innocent.
    """
    return bool(failed.values) and all(
        _within(settings.get(name), name, value, TOLERANCE_STEPS * step_of(name))
        for name, value in failed.values.items()
    )


def comes_near(settings: Mapping[str, Value], failed: Failure) -> bool:
    """Tell whether settings are at, beyond or within the uncertainty of a failure."""
    return bool(failed.values) and all(
        _within(settings.get(name), name, value, max(MARGIN_STEPS * step_of(name), failed.margins.get(name, 0.0)))
        for name, value in failed.values.items()
    )


def _within(asked: Value | None, name: str, failed: float, margin: float) -> bool:
    return isinstance(asked, float | int) and unsafe_direction_of(name) * (asked - failed) >= -margin - 1e-9


def merged(known: Iterable[Failure], new: Failure, at_most: int) -> tuple[Failure, ...]:
    """Return failures with a new one, none of them implied by another.

    A failure implies those that are further from stock with the same controls, or more of them. Where there are too
    many, the two nearest with the same controls become one that implies both: none is ever dropped.
    """
    kept = list(known)
    if any(_implies(one, new) for one in kept):
        return tuple(kept)
    kept = [one for one in kept if not _implies(new, one)]
    kept.append(new)
    while len(kept) > at_most and (pair := _nearest_pair(kept)):
        joined = _joined(*pair)
        kept = [one for one in kept if one not in pair and not _implies(joined, one)]
        kept.append(joined)
    return tuple(kept)


def _implies(milder: Failure, other: Failure) -> bool:
    return all(
        name in other.values and unsafe_direction_of(name) * (other.values[name] - value) >= 0.0
        for name, value in milder.values.items()
    )


def _nearest_pair(failures: list[Failure]) -> tuple[Failure, Failure] | None:
    pairs = [pair for pair in combinations(failures, 2) if pair[0].values.keys() == pair[1].values.keys()]
    return min(pairs, key=lambda pair: _distance(*pair), default=None)


def _distance(one: Failure, other: Failure) -> float:
    return sum(abs(value - other.values[name]) / step_of(name) for name, value in one.values.items())


def _joined(one: Failure, other: Failure) -> Failure:
    """Return one failure that implies both: of each control the value nearest to stock."""
    return replace(one, values={name: _milder(name, value, other.values[name]) for name, value in one.values.items()})


def _milder(name: str, value: float, other: float) -> float:
    return value if unsafe_direction_of(name) * (other - value) >= 0.0 else other
