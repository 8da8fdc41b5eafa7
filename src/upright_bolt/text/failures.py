"""Sentences about values that have failed on a chip."""

from collections.abc import Iterable, Mapping

from upright_bolt.model.control import Value
from upright_bolt.model.failure import Failure, FailureKind, reaches
from upright_bolt.model.settings import show_settings
from upright_bolt.sanitize import one_line
from upright_bolt.text.times import date_and_time

LOST = (
    "the record of failures on this machine is damaged, so it is unknown what has failed here; "
    "“upright-bolt failures --clear” starts a new one"
)


def failure_text(failure: Failure) -> str:
    """Return what has failed, how, when and who reported it."""
    how = "froze the machine" if failure.how is FailureKind.FROZE else "gave wrong results"
    run = f" in run {failure.run_id}" if failure.run_id is not None else ""
    when = f" on {date_and_time(failure.at)}" if failure.at else ""
    who = f", reported by {one_line(failure.by)}" if failure.by else ""
    return f"{show_settings(failure.values)} {how}{run}{when}{who}"


def failures_in_short(failures: Iterable[Failure]) -> str:
    """Return values that have failed, in a phrase."""
    return "; ".join(show_settings(one.values) for one in failures) or "none"


def known_failure(failure: Failure, settings: Mapping[str, Value]) -> str:
    """Return the sentence for settings that were requested and are known to fail."""
    how = "froze this machine" if failure.how is FailureKind.FROZE else "gave wrong results here"
    where = f" (run {failure.run_id})" if failure.run_id is not None else ""
    asked = show_settings({n: v for n, v in settings.items() if n in failure.values})
    lies = "is at or beyond that" if reaches(settings, failure) else "is so close to that that it may fail as well"
    return f"{show_settings(failure.values)} {how}{where}; {asked} {lies}."
