"""A stand-in for a desktop's panel, as a template of python-dbusmock: the watcher with which icons register.

Loaded by Debian's Python, not by the tests themselves. The names on the bus are those of the StatusNotifierItem
specification.
"""

import dbus

BUS_NAME = "org.kde.StatusNotifierWatcher"
MAIN_OBJ = "/StatusNotifierWatcher"
MAIN_IFACE = "org.kde.StatusNotifierWatcher"
SYSTEM_BUS = False


def load(mock, _parameters):
    mock.items = []
    mock.AddProperties(
        MAIN_IFACE,
        dbus.Dictionary(
            {
                "IsStatusNotifierHostRegistered": dbus.Boolean(True),
                "ProtocolVersion": dbus.Int32(0),
                "RegisteredStatusNotifierItems": dbus.Array([], signature="s"),
            },
            signature="sv",
        ),
    )


@dbus.service.method(MAIN_IFACE, in_signature="s", sender_keyword="sender")
def RegisterStatusNotifierItem(self, service, sender=None):
    self.items.append(f"{sender} {service}")


@dbus.service.method(MAIN_IFACE, in_signature="s")
def RegisterStatusNotifierHost(self, _service):
    pass


@dbus.service.method(MAIN_IFACE, out_signature="as")
def Items(self):
    return dbus.Array(self.items, signature="s")
