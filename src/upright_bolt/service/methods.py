"""The form of the interface on the bus: each method's arguments, and the description that the bus hands out of it."""

from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from html import escape
from typing import Any

from upright_bolt.service.names import INTERFACE

Answer = Callable[..., Awaitable[tuple[Any, ...]]]


@dataclass(frozen=True, slots=True)
class Method:
    """A method on the bus.

    Attributes:
        name: as called.
        takes, gives: signatures of the bus.
        takes_names, gives_names: names of the arguments, separated by spaces.
        ends: it ends something, so no queue of other calls may hold it up.
        free: the right to watch is not asked for first; the method sees to rights itself.
        run: does it, given the interface, the caller and the arguments.
    """

    name: str
    takes: str
    gives: str
    takes_names: str
    gives_names: str
    ends: bool
    free: bool
    run: Answer


METHODS: dict[str, Method] = {}


def method(
    name: str, takes: tuple[str, str] = ("", ""), gives: tuple[str, str] = ("", ""), *,
    ends: bool = False, free: bool = False,
) -> Callable[[Answer], Answer]:  # fmt: skip
    """Offer a coroutine method on the bus: signatures, and the names of the arguments."""

    def offered(run: Answer) -> Answer:
        METHODS[name] = Method(name, takes[0], gives[0], takes[1], gives[1], ends, free, run)
        return run

    return offered


def _arguments(signature: str, names: str, direction: str) -> str:
    forms = _complete_types(signature)
    return "".join(
        f'      <arg type="{escape(form)}" name="{name}" direction="{direction}"/>\n'
        for form, name in zip(forms, names.split(), strict=True)
    )


def _complete_types(signature: str) -> list[str]:
    """Return the parts of a signature; of containers, only arrays and dictionaries of simple types are offered here."""
    found: list[str] = []
    rest = signature
    while rest:
        end = 1
        if rest.startswith("a{"):
            end = rest.index("}") + 1
        elif rest.startswith("a"):
            end = 2
        found.append(rest[:end])
        rest = rest[end:]
    return found


def description() -> str:
    """Return the description that ``org.freedesktop.DBus.Introspectable`` hands out."""
    methods = "".join(
        f'    <method name="{each.name}">\n{_arguments(each.takes, each.takes_names, "in")}'
        f"{_arguments(each.gives, each.gives_names, 'out')}    </method>\n"
        for each in METHODS.values()
    )
    return (
        '<!DOCTYPE node PUBLIC "-//freedesktop//DTD D-BUS Object Introspection 1.0//EN"\n'
        '"http://www.freedesktop.org/standards/dbus/1.0/introspect.dtd">\n'
        f'<node>\n  <interface name="{INTERFACE}">\n{methods}'
        '    <signal name="Changed">\n      <arg type="s" name="what"/>\n      <arg type="s" name="who"/>\n'
        '      <arg type="u" name="process"/>\n    </signal>\n  </interface>\n'
        '  <interface name="org.freedesktop.DBus.Introspectable">\n    <method name="Introspect">\n'
        '      <arg type="s" direction="out"/>\n    </method>\n  </interface>\n'
        '  <interface name="org.freedesktop.DBus.Peer">\n    <method name="Ping"/>\n  </interface>\n</node>\n'
    )
