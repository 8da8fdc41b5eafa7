"""What can be asked of a machine in another process: one table of verbs.

A verb is a method of the settings engine or of its profiles. Its entry says what crosses the way there and back, which
right it needs, and what everybody else is told. The interface on the bus with its description, the client, and the
helper under sudo are made from these entries: a new verb is one entry and one method of the engine.
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import Enum
from html import escape
from typing import TYPE_CHECKING, Any

from upright_bolt.errors import BadInput, Refused
from upright_bolt.model.catalogue import CATALOGUE, declaration_of
from upright_bolt.model.settings import Settings, settings_from_data
from upright_bolt.service import wire
from upright_bolt.service.names import INTERFACE, Action
from upright_bolt.settings.access import PROFILES
from upright_bolt.settings.engine import SettingsEngine

if TYPE_CHECKING:
    from upright_bolt.service.shared_machine import SharedMachine

MOST_SETTINGS = 4 * len(CATALOGUE)
"""Settings in one call: a machine with several GPUs has more than the catalogue has entries."""
LONGEST_NAME = 128
LONGEST_PROFILE_NAME = 200
MOST_LOG = 400
MAY_ASK = "may_ask"
"""The last argument of a verb that may ask for a password: whether somebody is there to type it."""
REQUIRED = object()


Need = Callable[["SharedMachine", Mapping[str, Any]], tuple[Action, tuple[str, ...]]]
"""Which right a call needs, and for which settings."""


class Owned(Enum):
    """Whose trial a verb may touch."""

    READS = "changes nothing"
    ANY = "changes no trial"
    OWNER = "the caller's"
    OWNER_OR_ROOT = "the caller's; anybody's if root calls"


class Open(Enum):
    """To whom a verb is open before any right is asked for."""

    WATCHERS = "whoever may watch"
    OWNER = "whoever has begun the trial, and whoever may watch"
    EVERYBODY = "everybody"


@dataclass(frozen=True, slots=True)
class Argument:
    """One argument.

    Attributes:
        name: of the engine's parameter.
        signature: on the bus.
        pack: makes plain data of it.
        unpack: checks plain data, which anybody may have sent, and returns the argument. Raises BadInput or NotFound.
        default: what stands for it if it is not given.
    """

    name: str
    signature: str
    pack: Callable[[Any], Any]
    unpack: Callable[[Any], Any]
    default: Any = REQUIRED


@dataclass(frozen=True, slots=True)
class Reply:
    """What a verb answers.

    Attributes:
        names: of its parts, separated by spaces.
        signature: on the bus.
        pack: makes the parts, as plain data, of what the engine returned.
        unpack: returns what the parts stand for. Raises Refused.
    """

    names: str
    signature: str
    pack: Callable[[Any], tuple[Any, ...]]
    unpack: Callable[..., Any]


@dataclass(frozen=True, slots=True)
class Verb:
    """One verb.

    Attributes:
        name: on the bus.
        method: of the engine; of its profiles after ``profiles.``.
        takes, gives: what crosses the way.
        need: the right that it needs besides; None for none.
        asks: a password may be asked for.
        open_to: who may call it at all.
        owned: whose trial it may touch.
        ends: it ends something, so it goes ahead of other calls and no queue holds it up.
        who: what the engine is told of the caller besides, by names of parameters.
        tells: what the signal ``Changed`` says afterwards; empty for none.
        on_bus: the service offers it; if not, the helper alone does.
        does: stands in for the engine's method where an answer is more than what that returns.
    """

    name: str
    method: str
    takes: tuple[Argument, ...] = ()
    gives: Reply = Reply("", "", lambda _: (), lambda: None)
    need: Need | None = None
    asks: bool = False
    open_to: Open = Open.WATCHERS
    owned: Owned = Owned.READS
    ends: bool = False
    who: tuple[str, ...] = ()
    tells: str = ""
    on_bus: bool = True
    does: Callable[..., Any] | None = None

    @property
    def signature(self) -> str:
        """What it takes on the bus."""
        return "".join(each.signature for each in self.takes) + ("b" if self.asks else "")

    def packed(self, given: Sequence[Any], named: Mapping[str, Any]) -> list[Any]:
        """Return the arguments of a call of ``method`` as plain data. Raises TypeError for one it does not take."""
        names = [each.name for each in self.takes]
        if len(given) > len(names) or not named.keys() <= set(names):
            raise TypeError(f"{self.method} takes {', '.join(names) or 'no arguments'}")
        values = {**{each.name: each.default for each in self.takes}, **dict(zip(names, given, strict=False)), **named}
        return [each.pack(values[each.name]) for each in self.takes]

    def unpacked(self, data: Sequence[Any]) -> dict[str, Any]:
        """Return the arguments that came as plain data. Raises BadInput or NotFound."""
        return {each.name: each.unpack(part) for each, part in zip(self.takes, data, strict=True)}

    def act(self, engine: SettingsEngine, arguments: Mapping[str, Any]) -> Any:  # noqa: ANN401 - the method's
        """Call the engine. Raises what its method raises."""
        if self.does is not None:
            return self.does(engine, **arguments)
        part, _, method = self.method.rpartition(".")
        if part and engine.profiles is None:
            raise Refused("This machine has no profiles.")
        return getattr(engine.profiles if part else engine, method)(**arguments)


def pack_settings(settings: Settings) -> dict[str, tuple[str, Any]]:
    """Return settings as variants of the bus: a number or a word each."""
    return {name: ("s" if isinstance(value, str) else "d", value) for name, value in settings.items()}


def unpack_settings(asked: Mapping[str, tuple[str, Any]]) -> dict[str, float | str]:
    """Return the settings of a call. Raises BadInput or NotFound."""
    unpack_names(asked)
    for name, (form, _) in asked.items():
        if form not in ("d", "s"):
            raise BadInput(f"{name}: a value is a number (d) or a word (s), not of the form “{form[:16]}”.")
    return settings_from_data({name: value for name, (_, value) in asked.items()})


def unpack_names(asked: Iterable[str]) -> tuple[str, ...]:
    """Return the names of a call. Raises BadInput if there are too many, NotFound for one that does not exist."""
    names = tuple(asked)
    if len(names) > MOST_SETTINGS:
        raise BadInput(f"{len(names)} settings were given; at most {MOST_SETTINGS} can be set at once.")
    for name in names:
        if len(name) > LONGEST_NAME:
            raise BadInput(f"A name of {len(name)} characters is none of a control; “{name[:32]}…” was given.")
        declaration_of(name)
    return names


def _profile_name(text: str) -> str:
    if not 0 < len(text) <= LONGEST_PROFILE_NAME or not text.isprintable():
        raise BadInput(f"A profile's name has 1 to {LONGEST_PROFILE_NAME} printable characters.")
    return text


def _run_word(text: str) -> str:
    if not 0 < len(text) <= LONGEST_NAME or not text.isprintable():
        raise BadInput(f"A run is announced by a word of up to {LONGEST_NAME} characters.")
    return text


def _action(names: Iterable[str]) -> Action:
    return Action.SET_RISKY if any(declaration_of(name).risky for name in names) else Action.SET


def to_set(_: "SharedMachine", arguments: Mapping[str, Any]) -> tuple[Action, tuple[str, ...]]:
    """Return the right to set what a call names, and the names."""
    (names,) = (tuple(arguments[name]) for name in ("settings", "names") if name in arguments)
    return _action(names), names


def _to_keep(machine: "SharedMachine", _: Mapping[str, Any]) -> tuple[Action, tuple[str, ...]]:
    return _action(machine.tried), machine.tried


def _to_reset(machine: "SharedMachine", arguments: Mapping[str, Any]) -> tuple[Action, tuple[str, ...]]:
    names = tuple(arguments["names"]) or machine.changed
    return _action(names), names


def _to_use(machine: "SharedMachine", _: Mapping[str, Any]) -> tuple[Action, tuple[str, ...]]:
    """What was under suspicion after a crash is trusted again, which needs the right to set voltages."""
    return Action.SET_RISKY if machine.suspects else Action.SET, ()


def _always(action: Action) -> Need:
    return lambda _machine, _arguments: (action, ())


def _json(name: str, pack: Callable[[Any], str], unpack: Callable[[str], Any]) -> Reply:
    return Reply(name, "s", lambda value: (pack(value),), unpack)


def _as_text(name: str, check: Callable[[str], str] = str) -> Argument:
    return Argument(name, "s", str, check)


SETTINGS = Argument("settings", "a{sv}", pack_settings, unpack_settings)
NAMES = Argument("names", "as", list, unpack_names, default=())
STANDING = Argument("standing", "b", bool, bool)
ON = Argument("on", "b", bool, bool)
MOST = Argument("most", "u", int, lambda most: max(1, min(int(most), MOST_LOG)), default=MOST_LOG)
PROFILE = _as_text("name", _profile_name)
TEXT = _as_text("text")

TRIAL = _json("trial", wire.trial, wire.read_trial)
FOR_ALL = _always(Action.PROFILES)

DESCRIBE = Verb("Describe", "describe",
                gives=_json("description", lambda found: wire.describe(*found), wire.read_description),
                does=lambda engine: (engine.about, engine.recovered))  # fmt: skip
SAMPLE = Verb("Sample", "sample",
              gives=Reply("time_s values held_by kinds_held_by", "dadsas", wire.sample, wire.read_sample))  # fmt: skip
APPLY = Verb("Apply", "try_settings", (SETTINGS, STANDING), _json("report", wire.report, wire.read_report),
             need=to_set, asks=True, owned=Owned.OWNER, who=("by", "owner"), tells="tried")  # fmt: skip
KEEP = Verb("Keep", "keep", gives=TRIAL, need=_to_keep, asks=True, owned=Owned.OWNER, tells="kept")
PUT_BACK = Verb("PutBack", "revert", gives=TRIAL, open_to=Open.OWNER, owned=Owned.OWNER_OR_ROOT, ends=True,
                who=("why",), tells="put back")  # fmt: skip
BEGIN_SERIES = Verb("BeginSeries", "begin_series", (NAMES,), need=to_set, asks=True)
END_SERIES = Verb("EndSeries", "end_series", open_to=Open.EVERYBODY, ends=True)
BEGIN_RUN = Verb("BeginRun", "begin_run", (_as_text("what", _run_word),),
                 does=lambda engine, what: engine.note_run(what, "sudo"))  # fmt: skip
END_RUN = Verb("EndRun", "end_run", open_to=Open.EVERYBODY, ends=True,
               does=lambda engine: engine.note_run("", "sudo"))  # fmt: skip
VERBS = (
    DESCRIBE,
    Verb("Controls", "controls", gives=_json("controls", wire.controls, wire.read_controls)),
    SAMPLE,
    Verb("Status", "status", gives=_json("status", lambda now: wire.status(*now), wire.read_status),
         does=lambda engine: (engine.status(), engine.about.survey)),
    APPLY,
    KEEP,
    PUT_BACK,
    Verb("ToStock", "reset_to_stock", (NAMES,), TRIAL, need=_to_reset, asks=True, owned=Owned.OWNER_OR_ROOT,
         who=("by",), tells="put back"),
    BEGIN_SERIES,
    END_SERIES,
    BEGIN_RUN,
    END_RUN,
    Verb("Profiles", "profiles.status", gives=_json("status", wire.enforcement_status, wire.read_enforcement_status)),
    Verb("HoldLog", "profiles.log", (MOST,), _json("log", wire.log, wire.read_log)),
    Verb("ProfileText", "profiles.text", (PROFILE,), _json("text", str, str)),
    Verb("SaveProfile", "profiles.save", (PROFILE, TEXT), need=FOR_ALL, asks=True, owned=Owned.ANY, tells=PROFILES),
    Verb("DeleteProfile", "profiles.delete", (PROFILE,), need=FOR_ALL, asks=True, owned=Owned.ANY, tells=PROFILES),
    Verb("SaveRules", "profiles.save_rules", (TEXT,), need=FOR_ALL, asks=True, owned=Owned.ANY, tells=PROFILES),
    Verb("UseProfile", "profiles.use", (PROFILE,), need=_to_use, asks=True, owned=Owned.ANY, who=("by",),
         tells=PROFILES),
    Verb("SetHold", "profiles.set_hold", (ON,), need=FOR_ALL, asks=True, owned=Owned.ANY, tells=PROFILES),
    Verb("SetBoot", "profiles.set_boot", (ON,), need=FOR_ALL, asks=True, owned=Owned.ANY, tells=PROFILES),
    # What has failed is read from the machine, so nobody can invent a failure, and whoever may try settings may report.
    Verb("ReportFailure", "profiles.report_failure", need=_always(Action.SET), owned=Owned.ANY, who=("by",),
         tells=PROFILES),
    Verb("ClearFailures", "profiles.clear_failures", need=_always(Action.SET_RISKY), asks=True, owned=Owned.ANY,
         who=("by",), tells=PROFILES),
    Verb("Tend", "profiles.reconcile", gives=Reply("again_s", "d", lambda again_s: (again_s,), float), on_bus=False),
    Verb("Close", "close", gives=_json("trouble", str, str), on_bus=False),
)  # fmt: skip
BY_NAME: Mapping[str, Verb] = {verb.name: verb for verb in VERBS}
BY_METHOD: Mapping[str, Verb] = {verb.method: verb for verb in VERBS}


def _elements(signature: str, names: Iterable[str], direction: str) -> str:
    return "".join(
        f'      <arg type="{escape(form)}" name="{name}" direction="{direction}"/>\n'
        for form, name in zip(_complete_types(signature), names, strict=True)
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
        f'    <method name="{each.name}">\n'
        + _elements(each.signature, [*(one.name for one in each.takes), *([MAY_ASK] if each.asks else [])], "in")
        + _elements(each.gives.signature, each.gives.names.split(), "out")
        + "    </method>\n"
        for each in VERBS
        if each.on_bus
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
