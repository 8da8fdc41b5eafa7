"""Voltage offsets and memory clocks that have failed on a chip: nothing at, beyond or close to them is set unasked."""

from collections.abc import Iterable, Mapping, Sequence

from upright_bolt.analysis.chip import chip_of_run
from upright_bolt.analysis.validation.evidence import offsets_of
from upright_bolt.model.axis import Axis
from upright_bolt.model.catalogue import unsafe_direction_of
from upright_bolt.model.control import Value
from upright_bolt.model.failure import MARGIN_STEPS, Failure, FailureKind, comes_near, step_of
from upright_bolt.model.run import RunRecord, RunState
from upright_bolt.model.search import FAILED, Outcome, Rung, Search


def failures_in(
    runs: Iterable[RunRecord], searches: Iterable[Search], machine: str, chip: str, since: str = ""
) -> list[Failure]:
    """Return what has failed on this chip: in runs, and in tests of searches that took their run with them.

    Args:
        runs: all that are kept.
        searches: likewise.
        machine: the machine as typed.
        chip: the processor with its microcode, as runs and searches name it.
        since: date and time from which failures count: an administrator cleared earlier ones. Empty for all.
    """
    found = []
    for run in runs:
        froze = run.end.state is RunState.RESTARTED
        if run.head.machine != machine or chip_of_run(run) != chip or not (run.errors or froze):
            continue
        if not _is_older(run.head.started_at, since) and (values := _risks(run.head.settings, run.head.tried)):
            how = FailureKind.FROZE if froze and not run.errors else FailureKind.WRONG
            found.append(Failure(values, how, run.head.started_at, run_id=run.id))
    for search in searches:
        if search.asked.chip not in (chip, "") or _is_older(search.asked.began_at, since):
            continue
        for rung, end in search.ended:
            if end.outcome in FAILED and (values := _risks(rung.settings, search.asked.axis.moved(rung.settings))):
                how = FailureKind.FROZE if end.outcome is Outcome.FROZE else FailureKind.WRONG
                margins = _margins(search, rung, values)
                found.append(Failure(values, how, search.asked.began_at, run_id=end.run_id, margins=margins))
    return found


def _is_older(stamp: str, since: str) -> bool:
    return bool(since) and stamp <= since


def _margins(search: Search, test: Rung, values: Mapping[str, float]) -> dict[str, float]:
    """Return how far from a failed test the failure point may lie: the search's own uncertainty then.

    It never reaches what the search recommends in the end, which rests on all of its tests.
    """
    axis = Axis(search.asked.controls, search.asked.stock)
    found = {}
    for name in values.keys() & set(axis.controls):
        margin = max(MARGIN_STEPS * step_of(name), test.spread_after)
        if search.end is not None and search.end.settings:
            gap = axis.position(values[name]) - axis.position(search.end.settings.get(name))
            margin = min(margin, max(0.0, gap - step_of(name)))
        found[name] = margin
    return found


def _risks(settings: Mapping[str, Value], moved: Mapping[str, Value]) -> dict[str, float]:
    """Return what of settings can have made work fail: voltages below stock, and what was moved and can fail."""
    tried = {name: value for name, value in moved.items() if not isinstance(value, str) and unsafe_direction_of(name)}
    return offsets_of(settings) | tried


def near_failure(
    known: Sequence[Failure], settings: Mapping[str, Value], current: Mapping[str, Value]
) -> Failure | None:
    """Return a failure that ``settings``, applied beside the ``current`` ones, reach or come close to; None if none."""
    after = {**current, **settings}
    return next((one for one in known if settings.keys() & one.values.keys() and comes_near(after, one)), None)


def first_failures(known: Iterable[Failure]) -> dict[str, float]:
    """Return by control the first value on its way to danger at which something has failed."""
    found: dict[str, float] = {}
    for one in known:
        for name, value in one.values.items():
            first = min if unsafe_direction_of(name) > 0.0 else max
            found[name] = first(value, found.get(name, value))
    return found
