"""Names on the bus and in polkit, and the errors that cross the bus as themselves."""

from enum import StrEnum

from sdbus import map_exception_to_dbus_error

from upright_bolt.errors import BadInput, Denied, InUse, NotHere, Refused

BUS_NAME = "org.upright_bolt.Machine1"
INTERFACE = BUS_NAME
PATH = "/org/upright_bolt/Machine1"
VERSION = 2
"""Raised when a reply changes its shape."""


class Action(StrEnum):
    """What polkit is asked; declared in ``system/org.upright-bolt.policy``."""

    WATCH = "org.upright-bolt.watch"
    SET = "org.upright-bolt.set"
    SET_RISKY = "org.upright-bolt.set-voltage"
    PROFILES = "org.upright-bolt.manage-profiles"


for _error in (BadInput, Denied, InUse, NotHere, Refused):
    map_exception_to_dbus_error(_error, f"org.upright_bolt.Error.{_error.__name__}")
