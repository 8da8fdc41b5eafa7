"""For how long a trial has been running."""

from collections.abc import Sequence
from datetime import datetime

from upright_bolt.model.event import Event, Tried
from upright_bolt.model.sample import Sample
from upright_bolt.model.trial import Trial


def trial_age_s(trial: Trial | None, events: Sequence[Event], sample: Sample | None) -> float:
    """Return for how many seconds a trial has been running: on the machine's own clock if it began in this window.

    Args:
        trial: that runs; None for none.
        events: what has happened while this window was open.
        sample: the newest.
    """
    if trial is None:
        return 0.0
    begun = [event.time_s for event in events if isinstance(event, Tried)]
    if begun and sample is not None and not trial.standing:
        return max(0.0, sample.time_s - begun[-1])
    return max(0.0, (datetime.now().astimezone() - datetime.fromisoformat(trial.since)).total_seconds())
