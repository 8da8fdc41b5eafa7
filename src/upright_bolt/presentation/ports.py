"""What the state behind the window needs of its surroundings: the session's thread, and work in the background."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Protocol

from upright_bolt.model.control import Control
from upright_bolt.model.event import Event
from upright_bolt.model.machine import About
from upright_bolt.model.sample import Sample
from upright_bolt.model.trial import Status
from upright_bolt.session.run_progress import RunProgress
from upright_bolt.session.series import SeriesProgress
from upright_bolt.session.session import Session
from upright_bolt.session.stability_search import SearchProgress

MINIMISED_S = 2.0
"""Time between samples while nobody looks."""

Request = Callable[[Session], Any]
Answer = Callable[[Any], None]
Failure = Callable[[str], None]


@dataclass(slots=True)
class Snapshot:
    """What has happened since the last snapshot; ``controls`` and ``status`` only when read again.

    ``about`` is another object once graphics chips have come or gone.

    ``ended_series`` tells how a series ended, ``ended_search`` how a search did: empty if well, None if none has.
    """

    samples: list[Sample] = field(default_factory=list)
    events: list[Event] = field(default_factory=list)
    progress: RunProgress | None = None
    ended_run: int | None = None
    series: SeriesProgress | None = None
    ended_series: str | None = None
    search: SearchProgress | None = None
    ended_search: str | None = None
    trouble: str = ""
    controls: dict[str, Control] | None = None
    status: Status | None = None
    about: About | None = None


class SessionWork(Protocol):
    """The thread in which the session lives.

    Attributes:
        period_s: time between samples while no run is in progress.
    """

    period_s: float

    def ask(self, what: Request, answer: Answer, fail: Failure) -> None:
        """Let the session do ``what``; the outcome comes back in the window's thread."""
        ...


class BackgroundWork(Protocol):
    """Work that must not hold up the window: reading and writing the run store, and long computations."""

    def run(self, work: Callable[[], Any], on_result: Answer, on_error: Failure) -> None:
        """Do ``work`` in the background and hand its outcome over in the window's thread."""
        ...
