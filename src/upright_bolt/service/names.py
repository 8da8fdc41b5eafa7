"""Names on the bus and in polkit, and the errors that cross the bus as themselves."""

from enum import StrEnum

from jeepney import DBusAddress

from upright_bolt.errors import BadInput, BoltError, Denied, InUse, NotFound, Refused

BUS_NAME = "org.upright_bolt.Machine1"
INTERFACE = BUS_NAME
PATH = "/org/upright_bolt/Machine1"
SERVICE = DBusAddress(PATH, BUS_NAME, INTERFACE)
POLKIT = DBusAddress(
    "/org/freedesktop/PolicyKit1/Authority", "org.freedesktop.PolicyKit1", "org.freedesktop.PolicyKit1.Authority"
)
VERSION = 7
"""Raised when a reply changes its shape."""


class Action(StrEnum):
    """What polkit is asked; declared in ``system/org.upright-bolt.policy``."""

    WATCH = "org.upright-bolt.watch"
    SET = "org.upright-bolt.set"
    SET_RISKY = "org.upright-bolt.set-voltage"
    PROFILES = "org.upright-bolt.manage-profiles"


ERRORS: dict[str, type[BoltError]] = {
    "org.upright_bolt.Error.Failed": BoltError,
    **{f"org.upright_bolt.Error.{error.__name__}": error for error in (BadInput, Denied, InUse, NotFound, Refused)},
}
"""Errors by their names on the bus; ``Failed`` is any other one of this program."""
FAILED = "org.freedesktop.DBus.Error.Failed"
LIMITS_EXCEEDED = "org.freedesktop.DBus.Error.LimitsExceeded"


class TooMuch(BoltError):
    """A user takes up more of the service than anybody may."""


def name_of(fault: BoltError) -> str:
    """Return an error's name on the bus."""
    if isinstance(fault, TooMuch):
        return LIMITS_EXCEEDED
    names = {error: name for name, error in ERRORS.items()}
    return next(names[kind] for kind in type(fault).__mro__ if kind in names)
