"""Asks the login manager not to let this computer fall asleep while something works on it."""

import os
from contextlib import suppress

from jeepney import DBusAddress, new_method_call
from jeepney.io.blocking import open_dbus_connection
from jeepney.low_level import MessageType

from upright_bolt.service.bus import bus_is_there

LOGIN_MANAGER = DBusAddress(
    "/org/freedesktop/login1", bus_name="org.freedesktop.login1", interface="org.freedesktop.login1.Manager"
)
WHAT, MODE = "sleep:idle", "block"
"""Neither sleep nor idleness. A lid that is closed still does what its owner has chosen: a covered laptop gets hot."""
PATIENCE_S = 3.0


class Awake:
    """Keeps this computer awake until it is let go. Where no login manager answers, nothing is done, and nothing said.

    Args:
        why: what is going on, as the login manager lists it.
    """

    def __init__(self, why: str) -> None:
        self._fd: int | None = None
        if bus_is_there():
            with suppress(OSError, ValueError, TimeoutError):
                self._fd = _inhibit(why)

    @property
    def held(self) -> bool:
        """Whether the login manager has agreed."""
        return self._fd is not None

    def release(self) -> None:
        """Let the computer sleep again, once."""
        if self._fd is not None:
            os.close(self._fd)
            self._fd = None


def _inhibit(why: str) -> int | None:
    """Return the file descriptor that keeps the computer awake while it is open; None if that is refused."""
    with open_dbus_connection(bus="SYSTEM", enable_fds=True) as connection:
        call = new_method_call(LOGIN_MANAGER, "Inhibit", "ssss", (WHAT, "Upright Bolt", why, MODE))
        reply = connection.send_and_get_reply(call, timeout=PATIENCE_S)
        if reply.header.message_type is not MessageType.method_return:
            return None
        return int(reply.body[0].to_raw_fd())
