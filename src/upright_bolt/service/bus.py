"""Whether there is a system bus at all, found out without opening it: most commands need no more to know."""

import os
from pathlib import Path

SOCKETS = ("/run/dbus/system_bus_socket", "/var/run/dbus/system_bus_socket")


def bus_is_there() -> bool:
    """Tell whether a system bus is named or has its socket."""
    return bool(os.environ.get("DBUS_SYSTEM_BUS_ADDRESS")) or any(Path(socket).exists() for socket in SOCKETS)
