"""Settings: control names with the values meant for them, as typed by people and as kept in files."""

from collections.abc import Iterable, Mapping

from upright_bolt.errors import BadInput
from upright_bolt.model.control import Value, parse_value, show_value

Settings = Mapping[str, Value]
"""Control name to value; names that are missing are left as they are."""


def parse_assignments(words: Iterable[str]) -> dict[str, Value]:
    """Return the settings typed as ``name=value`` words.

    Raises:
        BadInput: one sentence per bad word, all of them at once.
    """
    settings: dict[str, Value] = {}
    faults = []
    for word in words:
        name, sign, text = (part.strip() for part in word.partition("="))
        if not sign:
            faults.append(f"“{word}” is not of the form NAME=VALUE.")
            continue
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
