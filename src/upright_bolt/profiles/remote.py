"""Profiles through the process that has the rights: the same words over the bus and to the helper, as JSON."""

from collections.abc import Callable, Mapping
from math import inf
from typing import Any

from upright_bolt.disk import Typed, bounded
from upright_bolt.errors import Damaged, Refused
from upright_bolt.model.hold import HoldStatus, LogEntry
from upright_bolt.settings.access import ProfileAccess

_STATUS: Typed[HoldStatus] = Typed(HoldStatus)
_LOG: Typed[tuple[LogEntry, ...]] = Typed(tuple[LogEntry, ...])
MOST_LOG = 400


def status_text(profiles: ProfileAccess) -> str:
    """Return how everything stands as JSON."""
    return _STATUS.text(profiles.status())


def log_text(profiles: ProfileAccess, most: int) -> str:
    """Return the latest entries of the log as JSON."""
    return _LOG.text(profiles.log(max(1, min(int(most), MOST_LOG))))


ACTS: Mapping[str, Callable[..., str]] = {
    "Profiles": status_text,
    "HoldLog": log_text,
    "ProfileText": lambda profiles, name: profiles.text(name),
    "SaveProfile": lambda profiles, name, text: _done(profiles.save(name, text)),
    "DeleteProfile": lambda profiles, name: _done(profiles.delete(name)),
    "SaveRules": lambda profiles, text: _done(profiles.save_rules(text)),
    "UseProfile": lambda profiles, name, *by: _done(profiles.use(name, *by)),
    "SetHold": lambda profiles, on: _done(profiles.set_hold(on=bool(on))),
    "SetBoot": lambda profiles, on: _done(profiles.set_boot(on=bool(on))),
    "ReportFailure": lambda profiles, *by: _done(profiles.report_failure(*by)),
    "ClearFailures": lambda profiles, *by: _done(profiles.clear_failures(*by)),
    "Tend": lambda profiles: str(profiles.tend()),
}
"""What can be asked of profiles in another process, by name."""
WITH_CALLER = ("UseProfile", "ReportFailure", "ClearFailures")
"""Those that are told who asks, in words, where several callers share the machine."""


def _done(_nothing: None) -> str:
    return ""


class RemoteProfiles:
    """``ProfileAccess`` through another process.

    Args:
        call: asks it by name with plain arguments, and returns the text of its answer.
        tends: whether this process has to drive it.
    """

    near = False

    def __init__(self, call: Callable[..., Any], *, tends: bool) -> None:
        self._call = call
        self._tends = tends

    def status(self) -> HoldStatus:
        """Return how everything stands. Raises Refused or Denied."""
        status: HoldStatus = _read(_STATUS, self._call("Profiles"))
        return status

    def log(self, most: int = MOST_LOG) -> tuple[LogEntry, ...]:
        """Return the latest entries of the log, oldest first. Raises Refused or Denied."""
        entries: tuple[LogEntry, ...] = _read(_LOG, self._call("HoldLog", most))
        return entries

    def text(self, name: str) -> str:
        """Return the text of a profile's file. Raises NotHere or BadInput."""
        return str(self._call("ProfileText", name))

    def save(self, name: str, text: str) -> None:
        """Make a text the profile of that name. Raises BadInput, Denied or BoltError."""
        self._call("SaveProfile", name, text)

    def delete(self, name: str) -> None:
        """Delete a profile. Raises NotHere, BadInput, Denied or BoltError."""
        self._call("DeleteProfile", name)

    def save_rules(self, text: str) -> None:
        """Make a text the rules. Raises BadInput, Denied or BoltError."""
        self._call("SaveRules", text)

    def use(self, name: str) -> None:
        """Put a profile in force and hold it. Raises BadInput, Denied, InUse or Refused."""
        self._call("UseProfile", name)

    def set_hold(self, *, on: bool) -> None:
        """Keep profiles in force and follow rules, or not. Raises BadInput, Denied or BoltError."""
        self._call("SetHold", on)

    def set_boot(self, *, on: bool) -> None:
        """Begin by itself at the next boot, or not. Raises Denied or BoltError."""
        self._call("SetBoot", on)

    def report_failure(self) -> None:
        """Report that what is applied now has failed. Raises BadInput, Denied or BoltError."""
        self._call("ReportFailure")

    def clear_failures(self) -> None:
        """Forget what has failed on this processor. Raises Denied, InUse or BoltError."""
        self._call("ClearFailures")

    def tend(self) -> float:
        """Drive it, where this process has to; return in how many seconds again."""
        return float(self._call("Tend")) if self._tends else inf

    def close(self) -> None:
        """Nothing is held open."""


def _read(form: Typed[Any], text: str) -> Any:  # noqa: ANN401 - the form's type
    try:
        value = form.from_text(text)
        bounded(value)
    except Damaged as fault:
        raise Refused("The part with root's rights answers in a form that is not known here.") from fault
    return value
