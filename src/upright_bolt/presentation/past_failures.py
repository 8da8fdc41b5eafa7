"""All that is known to have failed on a machine: in the root record, and in a person's own runs and searches."""

from collections.abc import Iterable
from contextlib import suppress
from typing import TYPE_CHECKING, Protocol

from upright_bolt.analysis.chip import chip_of
from upright_bolt.analysis.validation.known_failures import failures_in, first_failures, near_failure
from upright_bolt.errors import BoltError
from upright_bolt.text.failures import known_failure

if TYPE_CHECKING:
    from upright_bolt.model.control import Control
    from upright_bolt.model.failure import Failure
    from upright_bolt.model.run import RunRecord
    from upright_bolt.model.search import Search
    from upright_bolt.model.settings import Settings
    from upright_bolt.presentation.profiles import Profiles
    from upright_bolt.presentation.searches import Searches
    from upright_bolt.settings.access import MachineAccess


def all_failures(
    access: "MachineAccess", machine: str, runs: "Iterable[RunRecord]", searches: "Iterable[Search]"
) -> "list[Failure]":
    """Return what has failed on a machine's chip since failures were last cleared.

    Args:
        access: the way to the machine.
        machine: as typed.
        runs: all that a person keeps.
        searches: likewise.
    """
    on_record: tuple[Failure, ...] = ()
    since = ""
    if access.profiles is not None:
        with suppress(BoltError):  # a service that does not answer: the person's own records still count
            status = access.profiles.status()
            on_record, since = status.failures, status.cleared_at
    return [*on_record, *failures_in(runs, searches, machine, chip_of(access.about.identity), since)]


class _HasControls(Protocol):
    controls: "dict[str, Control]"


class KnownFailures:
    """What the window knows to have failed on its machine.

    Args:
        profiles: has the root record's failures.
        searches: has those of a person's runs and searches.
        machine: has the controls as they stand.
    """

    def __init__(self, profiles: "Profiles", searches: "Searches", machine: "_HasControls") -> None:
        self._profiles = profiles
        self._searches = searches
        self._machine = machine

    @property
    def all(self) -> "list[Failure]":
        """What has failed since failures were last cleared."""
        status = self._profiles.status
        return [*status.failures, *(one for one in self._searches.failures if one.at > status.cleared_at)]

    @property
    def failed_at(self) -> dict[str, float]:
        """The first value of each control, on its way to danger, at which something has failed."""
        return first_failures(self.all)

    def near(self, settings: "Settings") -> str:
        """Return what has failed at, before or close to settings, as a sentence; empty if nothing has."""
        current = {name: c.current for name, c in self._machine.controls.items() if c.current is not None}
        found = near_failure(self.all, settings, current)
        return known_failure(found, {**current, **settings}) if found is not None else ""
