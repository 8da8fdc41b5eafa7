"""Lets a search go on after a freeze: an entry that opens the window once the person logs in again.

It lies in the folder of the desktop's autostart entries (XDG autostart specification) only while a search works that
was asked to go on by itself.
"""

import sys
from contextlib import suppress
from pathlib import Path

from platformdirs import user_config_path

from upright_bolt.errors import BoltError

NAME = "org.upright_bolt.Search.desktop"
_RESERVED = '"`$\\'
"""Characters that the desktop entry specification wants quoted within a quoted argument."""


class Autostart:
    """The entry.

    Args:
        words: the program's own words: machine, data folder, view.
        folder: where entries lie; the person's own if None.
    """

    def __init__(self, words: tuple[str, ...], folder: Path | None = None) -> None:
        self._words = words
        self.path = (folder or user_config_path() / "autostart") / NAME

    def enter(self) -> None:
        """Write the entry. Raises BoltError if it cannot be written."""
        command = " ".join(_quoted(word) for word in (*_program(), *self._words))
        lines = ("[Desktop Entry]", "Type=Application", "Name=Upright Bolt", f"Exec={command}", "Terminal=false",
                 "Comment=Goes on with a search after a restart")  # fmt: skip
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self.path.write_text("\n".join(lines) + "\n", encoding="utf-8")
        except OSError as fault:
            raise BoltError(
                f"{self.path} cannot be written ({fault.strerror}), so the search could not go on by itself after a "
                "freeze; ask it to wait instead."
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
