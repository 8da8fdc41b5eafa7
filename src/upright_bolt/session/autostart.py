"""Entries that start this program when the person logs in (XDG autostart specification).

That of a search lies there only while a search works that was asked to go on by itself after a freeze; that of the
panel while the person wants it.
"""

import sys
from contextlib import suppress
from pathlib import Path

from platformdirs import user_config_path

from upright_bolt.errors import BoltError

SEARCH = ("org.upright_bolt.Search.desktop", "Goes on with a search after a restart")
PANEL = ("org.upright_bolt.Panel.desktop", "Shows a number and the profile in force in the panel")
"""Name of the entry, and what it is for."""
_RESERVED = '"`$\\'
"""Characters that the desktop entry specification wants quoted within a quoted argument."""


class Autostart:
    """One entry.

    Args:
        words: the program's own words: machine, data folder, view.
        entry: its name, and what it is for.
        folder: where entries lie; the person's own if None.
    """

    def __init__(self, words: tuple[str, ...], folder: Path | None = None, entry: tuple[str, str] = SEARCH) -> None:
        self._words = words
        self._comment = entry[1]
        self.path = (folder or user_config_path() / "autostart") / entry[0]

    def enter(self) -> None:
        """Write the entry. Raises BoltError if it cannot be written."""
        command = " ".join(_quoted(word) for word in (*_program(), *self._words))
        lines = ("[Desktop Entry]", "Type=Application", "Name=Upright Bolt", f"Exec={command}", "Terminal=false",
                 f"Comment={self._comment}")  # fmt: skip
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self.path.write_text("\n".join(lines) + "\n", encoding="utf-8")
        except OSError as fault:
            raise BoltError(
                f"{self.path} cannot be written ({fault.strerror}), so this program would not begin again by itself "
                "after a login."
            ) from fault

    def leave(self) -> None:
        """Take the entry away, if it is there."""
        with suppress(OSError):
            self.path.unlink()


def _program() -> tuple[str, ...]:
    """Return how this program is started again."""
    started = Path(sys.argv[0])
    if started.name == "upright-bolt" and started.exists():
        return (str(started.resolve()),)
    return (sys.executable, "-m", "upright_bolt")


def _quoted(word: str) -> str:
    """Return a word as the desktop entry specification wants it in ``Exec``."""
    escaped = "".join(f"\\{letter}" if letter in _RESERVED else letter for letter in word).replace("%", "%%")
    return '"' + escaped.replace("\\", "\\\\") + '"'
