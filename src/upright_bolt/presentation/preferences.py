"""What a person has chosen for the window, kept in the data folder from one start to the next."""

from dataclasses import dataclass, replace
from enum import StrEnum
from pathlib import Path

from upright_bolt.disk import Document, JsonCodec
from upright_bolt.errors import BoltError, CorruptData
from upright_bolt.model.quantity import ClockUnit

FILE = "window.json"
MOST_RECENT = 6
FIRST_VIEW = "machine"
"""Shown at the very first start: it begins with what can be set here."""


class Looks(StrEnum):
    """Which theme the window wears."""

    DESKTOP = "desktop"
    LIGHT = "light"
    DARK = "dark"


class PanelNumber(StrEnum):
    """What the icon in the desktop's panel shows."""

    HOTTEST = "hottest"
    WATTS = "watts"
    CLOCK = "clock"


class WhenClosed(StrEnum):
    """What becomes of the program when its window is closed while its icon is in the panel."""

    ASK = "ask"
    STAY = "stay"
    END = "end"


class RunFact(StrEnum):
    """What the list of runs can tell of each, besides its name."""

    NUMBER = "number"
    DATE = "date"
    LENGTH = "length"
    SCORE = "score"
    WORKLOAD = "workload"
    MACHINE = "machine"


@dataclass(frozen=True, slots=True)
class Preferences:
    """The choices.

    Attributes:
        looks: the theme.
        clocks: the unit of clocks.
        start_view: the view that a start shows.
        run_facts: what the list of runs tells of each.
        recent: words of machines opened from files, the newest first.
        guided: machines whose first steps are done, or were put away.
        panel: whether an icon stands in the desktop's panel.
        panel_number: what it shows.
        when_closed: what becomes of the program then.
        at_login: whether it starts at login, hidden.
        tell_rules: whether a desktop notification tells that a rule has changed the profile.
    """

    looks: Looks = Looks.DESKTOP
    clocks: ClockUnit = ClockUnit.FITTING
    start_view: str = "workbench"
    run_facts: tuple[RunFact, ...] = (RunFact.NUMBER, RunFact.DATE, RunFact.LENGTH, RunFact.SCORE)
    recent: tuple[str, ...] = ()
    guided: tuple[str, ...] = ()
    panel: bool = False
    panel_number: PanelNumber = PanelNumber.HOTTEST
    when_closed: WhenClosed = WhenClosed.ASK
    at_login: bool = False
    tell_rules: bool = False

    def with_recent(self, spec: str) -> "Preferences":
        """Return these with a machine opened last; this computer and the twins are always on offer."""
        if not spec.startswith("tree:"):
            return self
        return replace(self, recent=(spec, *(known for known in self.recent if known != spec))[:MOST_RECENT])

    def with_guided(self, spec: str) -> "Preferences":
        """Return these with a machine whose first steps need no bar any more."""
        return self if spec in self.guided else replace(self, guided=(*self.guided, spec))


class PreferenceFile:
    """The choices on disk. A damaged file is said once, and left as it is until something is chosen anew.

    Attributes:
        first_start: whether there was no file yet.
        trouble: what is wrong with the file; empty if nothing.
    """

    def __init__(self, folder: Path) -> None:
        self._document = Document(
            folder / FILE, "upright-bolt window", 1, JsonCodec[Preferences](Preferences), durable=False
        )
        self.trouble = ""
        self.first_start = False
        try:
            found = self._document.load()
        except CorruptData as fault:
            found, self.trouble = Preferences(), f"{fault} The window uses its usual settings."
        self.first_start = found is None
        self.chosen = found or Preferences()

    def save(self, chosen: Preferences) -> str:
        """Keep other choices; returns what went wrong, empty if nothing."""
        if chosen == self.chosen and not self.first_start:
            return ""
        self.chosen = chosen
        try:
            self._document.save(chosen)
        except BoltError as fault:
            return f"Not kept for the next start: {fault}"
        self.first_start = False
        return ""
