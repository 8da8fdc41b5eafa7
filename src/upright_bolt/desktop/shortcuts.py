"""The keyboard's shortcuts: one table, from which they are made and listed."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Shortcut:
    """Keys as Qt writes them, what they do, and the method of window or presenter that does it, if any."""

    keys: str
    words: str
    does: str = ""


SHORTCUTS = (
    Shortcut("Alt+1", "Machine", ""),
    Shortcut("Alt+2", "Workbench", ""),
    Shortcut("Alt+3", "Edge", ""),
    Shortcut("Alt+4", "Compare", ""),
    Shortcut("Alt+5", "Profiles", ""),
    Shortcut("Ctrl+O", "Open a capture of another machine", "open_capture"),
    Shortcut("Ctrl+Return", "Try the draft", "try_draft"),
    Shortcut("Ctrl+Backspace", "Put back what was in force before the trial", "revert"),
    Shortcut("Ctrl+Z", "Take the last change of the draft back", "undo"),
    Shortcut("Ctrl+Shift+Z", "Make it again", "redo"),
    Shortcut("Left, Right", "On a strip: one step", ""),
    Shortcut("PgUp, PgDown", "On a strip: five steps", ""),
    Shortcut("Home, End", "On a strip: the lowest, the highest", ""),
    Shortcut("Escape", "On a strip or in its field: drop its draft", ""),
    Shortcut("Space", "In the list of runs: take the run in, or out", ""),
    Shortcut("Return", "In the list of runs: open the run by itself", ""),
    Shortcut("Delete", "In the list of runs: remove the run", ""),
    Shortcut("F1", "Help on this view", "help"),
    Shortcut("Ctrl+?", "This list", "list_shortcuts"),
    Shortcut("Ctrl+,", "Preferences", "ask_preferences"),
    Shortcut("Ctrl+Q", "Close the window; a trial is put back", "close"),
)
