"""Desktop notifications, for rare things only. Where no desktop shows them, nothing is done.

The desktop notifications specification of freedesktop.org, over the session bus.
"""

import os
from contextlib import suppress

from jeepney import DBusAddress, new_method_call
from jeepney.io.blocking import open_dbus_connection

NOTIFICATIONS = DBusAddress(
    "/org/freedesktop/Notifications", bus_name="org.freedesktop.Notifications",
    interface="org.freedesktop.Notifications",
)  # fmt: skip
PATIENCE_S = 3.0
AS_LONG_AS_THE_DESKTOP_LIKES = -1
ICON = "org.upright_bolt.UprightBolt"


def notify(words: str) -> bool:
    """Show a notification; tell whether a desktop has taken it. May take seconds: for a thread of its own."""
    if not os.environ.get("DBUS_SESSION_BUS_ADDRESS"):
        return False
    with suppress(OSError, ValueError, TimeoutError), open_dbus_connection(bus="SESSION") as connection:
        call = new_method_call(
            NOTIFICATIONS, "Notify", "susssasa{sv}i",
            ("Upright Bolt", 0, ICON, "Upright Bolt", words, [], {}, AS_LONG_AS_THE_DESKTOP_LIKES),
        )  # fmt: skip
        connection.send_and_get_reply(call, timeout=PATIENCE_S)
        return True
    return False
