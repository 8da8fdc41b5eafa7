"""How far runs of one setting lie apart on a machine: learnt from its own repeats, with a cautious prior before.

The variances of all its series are pooled, with a prior variance that counts as ``PRIOR_FREEDOM`` degrees of freedom
(the scaled inverse chi-square prior, conjugate to a normal variance: Gelman et al., Bayesian Data Analysis, 2.6).
"""

from collections.abc import Iterable
from math import log, sqrt

from upright_bolt.analysis.comparison.difference import Spread
from upright_bolt.analysis.numbers import Number, value_of
from upright_bolt.model.quantity import TEMPERATURE
from upright_bolt.model.run import RunRecord

PRIOR_RELATIVE = 0.01
"""Runs on well-kept machines lie 0.3 to 1.5 % apart."""
PRIOR_C = 1.5
PRIOR_FREEDOM = 3.0


def group_key(run: RunRecord) -> tuple[object, ...]:
    """Return what is the same for the repeats of one setting in one series."""
    return run.head.series, tuple(sorted(run.head.settings.items()))


class RunSpreads:
    """The spread from run to run of each number, by machine and workload.

    Args:
        known: all runs there are.
    """

    def __init__(self, known: Iterable[RunRecord]) -> None:
        self._groups: dict[tuple[str, str], dict[object, list[RunRecord]]] = {}
        for run in known:
            if run.head.series and run.usable:
                of_machine = self._groups.setdefault((run.head.machine, run.head.workload), {})
                of_machine.setdefault((group_key(run), run.head.options), []).append(run)
        self._found: dict[tuple[str, str, str], Spread | None] = {}

    def of(self, run: RunRecord, number: Number) -> Spread | None:
        """Return the spread of a number on a run's machine; None if neither repeats nor a prior tell it."""
        where = (run.head.machine, run.head.workload)
        key = (*where, number.key)
        if key not in self._found:
            self._found[key] = self._learnt(where, number)
        return self._found[key]

    def _learnt(self, where: tuple[str, str], number: Number) -> Spread | None:
        squares, freedom = 0.0, 0.0
        for runs in self._groups.get(where, {}).values():
            values = [v for run in runs if (v := value_of(run, number.key)) is not None]
            if len(values) < 2 or (number.ratio and min(values) <= 0):
                continue
            known = [log(v) for v in values] if number.ratio else values
            mean = sum(known) / len(known)
            squares += sum((v - mean) ** 2 for v in known)
            freedom += len(known) - 1
        prior = _prior(number)
        if prior is None:
            return Spread(sqrt(squares / freedom), freedom) if freedom else None
        total = PRIOR_FREEDOM + freedom
        return Spread(sqrt((PRIOR_FREEDOM * prior**2 + squares) / total), total)


def _prior(number: Number) -> float | None:
    if number.ratio:
        return PRIOR_RELATIVE
    return PRIOR_C if number.quantity is TEMPERATURE else None
