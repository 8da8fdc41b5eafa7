"""Settings: control names with the values meant for them, as typed by people and as kept in files."""

from collections.abc import Iterable, Mapping
from math import isfinite

from upright_bolt.errors import BadInput
from upright_bolt.model.catalogue import declaration_of, title_of
from upright_bolt.model.control import Value, parse_value, parts_of, show_value
from upright_bolt.model.declaration import Kind

Settings = Mapping[str, Value]
"""Control name to value; names that are missing are left as they are."""


def parse_assignments(words: Iterable[str]) -> dict[str, Value]:
    """Return the settings typed as ``name=value`` words, or ``name,name=value`` for several alike.

    Raises:
        BadInput: one sentence per bad word, all of them at once.
    """
    settings: dict[str, Value] = {}
    faults = []
    for word in words:
        names, sign, text = (part.strip() for part in word.partition("="))
        if not sign:
            faults.append(f"“{word}” is not of the form NAME=VALUE.")
            continue
        for name in (part.strip() for part in names.split(",")):
            if name in settings:
                faults.append(f"{name} is given twice.")
                continue
            try:
                settings[name] = parse_value(name, text)
            except BadInput as fault:
                faults.append(str(fault))
    if faults:
        raise BadInput(" ".join(faults))
    return settings


def show_settings(settings: Settings) -> str:
    """Return settings as a short phrase: ``"sustained 25 W, turbo off"``."""
    return ", ".join(f"{name} {show_value(name, value)}" for name, value in settings.items()) or "nothing"


LONGEST_WORD = 512
"""Of a value: a turbo table names a clock for each of up to a hundred cores."""


def is_number(text: str) -> bool:
    """Tell whether ``text`` is a finite number."""
    try:
        return isfinite(float(text))
    except ValueError:
        return False


def settings_from_data(pairs: Mapping[str, object]) -> dict[str, Value]:
    """Return settings that come as data from outside this program, in the form that each control has.

    Raises:
        BadInput: a value of the wrong form, or not a finite number.
        NotFound: an unknown control.
    """
    settings: dict[str, Value] = {}
    for name, value in pairs.items():
        declared, title = declaration_of(name), title_of(name)
        if declared.kind is Kind.SCALE:
            if isinstance(value, bool) or not isinstance(value, int | float) or not isfinite(value):
                raise BadInput(f"{title}: {str(value)[:LONGEST_WORD]} is not a number.")
            settings[name] = float(value)
            continue
        if not isinstance(value, str) or not 0 < len(value) <= LONGEST_WORD or not value.isprintable():
            raise BadInput(f"{title}: {str(value)[:LONGEST_WORD]!r} is not a word that could be set.")
        if declared.kind is Kind.TABLE and not all(is_number(part) for part in parts_of(value)):
            raise BadInput(f"{title}: “{value}” is not a row of numbers.")
        if declared.kind is Kind.SWITCH and value not in ("on", "off"):
            raise BadInput(f"{title}: “{value}” is neither on nor off.")
        settings[name] = value
    return settings
