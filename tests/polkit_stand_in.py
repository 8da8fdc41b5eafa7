"""A stand-in for polkit, as a template of python-dbusmock: which actions go, which need a password, who answers.

Loaded by Debian's Python, not by the tests themselves.
"""

import dbus
from dbusmock import MOCK_IFACE

BUS_NAME = "org.freedesktop.PolicyKit1"
MAIN_OBJ = "/org/freedesktop/PolicyKit1/Authority"
MAIN_IFACE = "org.freedesktop.PolicyKit1.Authority"
SYSTEM_BUS = True
MAY_ASK = 1


def load(mock, _parameters):
    mock.allowed = []
    mock.with_password = []
    mock.hangs = False
    mock.person = "waits"
    mock.waiting = []
    mock.asked = 0


@dbus.service.method(
    MAIN_IFACE, in_signature="(sa{sv})sa{ss}us", out_signature="(bba{ss})", async_callbacks=("answer", "_fault")
)
def CheckAuthorization(self, _subject, action, _details, flags, _cancel, answer, _fault):
    self.asked += 1
    if self.hangs:
        self.waiting.append((answer, action))
    elif action not in self.with_password or not flags & MAY_ASK:
        answer(_verdict(self, action))
    elif self.person == "waits":
        self.waiting.append((answer, action))
    else:
        answer((self.person == "accepts", False, {}))


def _verdict(self, action):
    return (action in self.allowed, action in self.with_password and action not in self.allowed, {})


@dbus.service.method(MAIN_IFACE, in_signature="s")
def CancelCheckAuthorization(_self, _cancel):
    pass


@dbus.service.method(MOCK_IFACE, in_signature="asas")
def SetRules(self, allowed, with_password):
    """Set which actions go, and which after a password; tell everybody that the rules have changed."""
    self.allowed, self.with_password = allowed, with_password
    self.EmitSignal(MAIN_IFACE, "Changed", "", [])


@dbus.service.method(MOCK_IFACE, in_signature="asas")
def SetRulesSilently(self, allowed, with_password):
    self.allowed, self.with_password = allowed, with_password


@dbus.service.method(MOCK_IFACE, in_signature="b")
def Hang(self, hangs):
    self.hangs = hangs


@dbus.service.method(MOCK_IFACE, in_signature="s")
def SetPerson(self, person):
    """Say what the person who is asked does: waits, accepts, dismisses."""
    self.person = person


@dbus.service.method(MOCK_IFACE, in_signature="b")
def Release(self, accepted):
    """Answer all questions that wait."""
    waiting, self.waiting = self.waiting, []
    for answer, action in waiting:
        answer((bool(accepted) or action in self.allowed, False, {}))


@dbus.service.method(MOCK_IFACE, out_signature="u")
def Waiting(self):
    return len(self.waiting)


@dbus.service.method(MOCK_IFACE, out_signature="u")
def Asked(self):
    return self.asked
