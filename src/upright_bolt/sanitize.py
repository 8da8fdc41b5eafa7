"""Text that stays text wherever it is shown: no control characters, none that turn the direction of what follows."""

import re

_UNSAFE = re.compile(r"[\x00-\x1f\x7f-\x9f\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069\ud800-\udfff]")


def one_line(text: str) -> str:
    """Return text that stays on its line: control characters and those that change its direction are spelled out."""
    return _UNSAFE.sub(lambda found: found[0].encode("unicode_escape").decode(), text)


def printable(text: str) -> str:
    """Return text that a terminal shows as it is: as ``one_line``, but line feeds and tabs stay."""
    return _UNSAFE.sub(lambda found: found[0] if found[0] in "\n\t" else one_line(found[0]), text)


_PLAIN = str.maketrans({
    "“": '"', "”": '"', "‘": "'", "’": "'", "–": "-", "—": "-", "−": "-", "…": "...", "°": "", "×": "x", "·": "-",
    "±": "+/-", "→": "->", "≤": "<=", "≥": ">=", "≠": "!=", "µ": "u", "✕": "x", "✓": "ok", "△": "!", "▲": "!", "●": "*",
    "■": "#", "○": "o", "Ω": "ohm",
})  # fmt: skip


def plain(text: str) -> str:
    """Return a text with typographic signs in plain ASCII, for a terminal that has no others."""
    return text.translate(_PLAIN)


def capital(text: str) -> str:
    """Return a text as a line begins: its first letter raised, and the rest left as it is.

    A name with a digit stays, such as that of a graphics chip.
    """
    named = any(letter.isdigit() for letter in text.partition(" ")[0])
    return text if named else text[:1].upper() + text[1:]


def small(text: str) -> str:
    """Return a text as it stands within a line: its first letter lowered, and the rest left as it is."""
    return text[:1].lower() + text[1:]
