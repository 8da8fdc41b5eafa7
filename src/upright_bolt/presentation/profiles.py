"""Profiles as the window has them: how they stand, what they measured, and what a person can ask of them."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

from upright_bolt.analysis.validation.measured import MEASURES, Measure, measured
from upright_bolt.model.control import Control, Value
from upright_bolt.model.hold import EnforcementStatus, LogEntry
from upright_bolt.model.profile import STOCK, Profile
from upright_bolt.model.run import RunRecord
from upright_bolt.model.settings import show_settings
from upright_bolt.model.start import Start
from upright_bolt.model.work import Work
from upright_bolt.presentation.machine_info import Outline
from upright_bolt.presentation.observable import Observable
from upright_bolt.presentation.ports import SessionWork
from upright_bolt.presentation.profile_desk import Past, ProfileDesk
from upright_bolt.session.series import ActiveSeries, SeriesRequest, start_series
from upright_bolt.session.session import Session
from upright_bolt.session.steps import Step
from upright_bolt.store.runs import RunStore
from upright_bolt.store.search_log import SearchLog
from upright_bolt.text.enforcement import entry_words, notable, standing_words, used_words

Say = Callable[[str], None]
LOG_LINES = 40
REFRESH_S, SELDOM_S = 2.0, 20.0
STEADY_S, IDLE_S, BATTERY_S = 600.0, 300.0, 900.0
LENGTHS_S = {"steady": STEADY_S, "idle": IDLE_S, "battery": BATTERY_S}


@dataclass(frozen=True, slots=True)
class ProfileShown:
    """A profile as it is shown.

    Attributes:
        profile: it; stock has the machine's own values as its settings.
        held_back: why a setting is not put in force, by control.
        active: whether it is applied.
        measured: value and run of each measure, by its key; what is missing was not measured.
    """

    profile: Profile
    held_back: Mapping[str, str]
    active: bool
    measured: Mapping[str, tuple[float, int]]


class Profiles:
    """The profiles of one machine, for the window.

    Args:
        thread: has the session.
        store, log: runs, and the record of searches.
        outline: the machine.
        say: tells the person an outcome.

    Attributes:
        status: how everything stands.
        entries: the latest entries of the hold's log, oldest first.
        tell_rules: whether a rule that changes the profile is worth telling.

    Topics:
        told: something rare has happened, as a sentence.
        changed: any of these has changed.
    """

    def __init__(self, thread: SessionWork, store: RunStore, log: SearchLog, outline: Outline, say: Say) -> None:
        self._thread = thread
        self._store = store
        self._search_log = log
        self._outline = outline
        self._say = say
        self._asked_s = float("-inf")
        self._waits = False
        self.status = EnforcementStatus()
        self.entries: tuple[LogEntry, ...] = ()
        self.tell_rules = False
        self._known = False
        self.told: Observable[str] = Observable()
        self.changed: Observable[None] = Observable()

    def _fail(self, sentence: str) -> None:
        self._say(f"✕ {sentence}")

    # what is shown

    @property
    def measures(self) -> tuple[Measure, ...]:
        """What can be measured of a profile on this machine."""
        return tuple(m for m in MEASURES if m.workload != "battery" or "battery.drain" in self._outline.index)

    def look(self, now_s: float, *, at_once: bool = False, seldom: bool = False) -> None:
        """Read anew how everything stands, now and then.

        Args:
            now_s: a clock that only goes forward.
            at_once: something has happened.
            seldom: nobody looks.
        """
        every_s = SELDOM_S if seldom else REFRESH_S
        if not self._waits and (at_once or not 0.0 <= now_s - self._asked_s < every_s):
            self._asked_s = now_s
            self.refresh()

    def refresh(self) -> None:
        """Read anew how everything stands."""
        self._waits = True

        def read(session: Session) -> tuple[EnforcementStatus, tuple[LogEntry, ...]]:
            profiles = session.access.profiles
            return (EnforcementStatus(), ()) if profiles is None else (profiles.status(), profiles.log(LOG_LINES))

        self._thread.ask(read, self._take, self._not_read)

    def _not_read(self, _why: str) -> None:
        self._waits = False

    def _take(self, found: tuple[EnforcementStatus, tuple[LogEntry, ...]]) -> None:
        self._waits = False
        if found != (self.status, self.entries):
            before, first = self.entries, not self._known
            self.status, self.entries = found
            self._known = True
            self.changed(None)
            self._tell(before, first=first)

    def _tell(self, before: tuple[LogEntry, ...], *, first: bool) -> None:
        """Announce what is rare enough for a desktop notification; at first, only what waits for the person."""
        if first:
            if self.status.suspects:
                self.told(f"Nothing risky is put in force: {self.status.suspects}. Use a profile to trust it again.")
            return
        for entry in self.entries:
            if entry not in before and notable(entry, rules=self.tell_rules):
                self.told(entry_words(entry))

    def shown(self, controls: Mapping[str, Control], runs: list[RunRecord]) -> list[ProfileShown]:
        """Return the profiles side by side, stock first.

        Args:
            controls: as they stand.
            runs: newest first.
        """
        status, spec = self.status, self._outline.spec
        stock = {name: c.stock for name, c in controls.items() if c.settable and c.stock is not None}
        found = [
            ProfileShown(
                Profile(STOCK, stock), {}, status.active == STOCK, measured(stock, runs, spec)
            )
        ]  # fmt: skip
        for view in status.profiles:
            held = {one.name: one.why for one in view.held_back}
            if view.profile.name == status.active:
                held |= {one.name: one.why for one in status.held_back}
            found.append(
                ProfileShown(
                    view.profile, held, view.profile.name == status.active,
                    measured(view.profile.settings, runs, spec),
                )
            )  # fmt: skip
        return found

    # what a person asks for

    def _desk(self, session: Session) -> ProfileDesk:
        return ProfileDesk(
            session.access, self._outline.spec, lambda: Past(self._store.all(), self._search_log.all())
        )  # fmt: skip

    def _do(self, work: Callable[[ProfileDesk, Session], str]) -> None:
        """Do something with the profiles in the session's thread, say what it returns, and look anew."""

        def do(session: Session) -> str:
            return work(self._desk(session), session)

        def done(said: str) -> None:
            if said:
                self._say(said)
            self.refresh()

        self._thread.ask(do, done, self._fail)

    def use(self, name: str) -> None:
        """Put a profile in force and hold it."""

        def work(desk: ProfileDesk, _session: Session) -> str:
            desk.profiles.use(name)
            return used_words(desk.status())

        self._do(work)

    def save(self, name: str, settings: Mapping[str, Value], note: str = "", *, replacing: bool = False) -> None:
        """Save settings as a profile."""
        self._do(lambda desk, _: self._saved(desk.save(name, settings, note, replacing=replacing)))

    def save_draft(self, draft: Mapping[str, Value], name: str, note: str = "") -> None:
        """Save a draft as a profile, with what is in force besides; nothing of it is put in force."""
        self._do(lambda desk, session: self._saved(desk.save(name, {**session.status().expected, **draft}, note)))

    def save_in_force(self, name: str, note: str = "", *, into: bool = False) -> None:
        """Save what is in force, or put it into a profile that is there.

        A trial of it ends: its settings go on as the profile's.
        """

        def work(desk: ProfileDesk, session: Session) -> str:
            status = session.status()
            settings = status.tried if into and status.tried else status.expected
            profile = desk.set(name, settings) if into else desk.save(name, settings, note)
            if status.trial is not None:
                session.revert("saved as a profile")
            desk.profiles.use(profile.name)
            return f"{self._saved(profile)} {standing_words(desk.status())}"

        self._do(work)

    def copy_offsets(self, source: str) -> None:
        """Copy the voltage offsets of a profile into every other one."""
        self._copy_into_every(source, lambda profile: dict(profile.offsets))

    def copy_graphics(self, source: str) -> None:
        """Copy the settings of graphics chips of a profile into every other one."""
        self._copy_into_every(source, lambda profile: profile.of_graphics)

    def _copy_into_every(self, source: str, of: Callable[[Profile], dict[str, Value]]) -> None:
        def work(desk: ProfileDesk, _session: Session) -> str:
            settings = of(desk.get(source))
            others = desk.copy_into_every(source, tuple(settings))
            return f"{show_settings(settings)} is in {', '.join(others)} now."

        self._do(work)

    def copy(self, source: str, target: str) -> None:
        """Copy a profile under another name."""
        self._do(lambda desk, _: self._saved(desk.copy(source, target)))

    def rename(self, name: str, new: str) -> None:
        """Give a profile another name."""

        def work(desk: ProfileDesk, _session: Session) -> str:
            desk.rename(name, new)
            return f"{name} is called {new} now."

        self._do(work)

    def delete(self, name: str) -> None:
        """Delete a profile."""

        def work(desk: ProfileDesk, _session: Session) -> str:
            desk.profiles.delete(name)
            return f"{name} is deleted."

        self._do(work)

    def set_hold(self, *, on: bool) -> None:
        """Keep profiles in force and follow rules, or not."""

        def work(desk: ProfileDesk, _session: Session) -> str:
            desk.profiles.set_hold(on=on)
            desk.profiles.reconcile()
            return f"Hold is {'on' if on else 'off'}. {standing_words(desk.status())}"

        self._do(work)

    def set_boot(self, *, on: bool) -> None:
        """Begin by itself at the next start, or not."""

        def work(desk: ProfileDesk, _session: Session) -> str:
            desk.profiles.set_boot(on=on)
            return "After a start the profile is put in force." if on else "After a start nothing is put in force."

        self._do(work)

    def save_rules(self, text: str, saved: Callable[[], None], refused: Say) -> None:
        """Make a text the rules; ``saved`` or ``refused`` is called in the window's thread."""

        def do(session: Session) -> None:
            desk = self._desk(session)
            desk.profiles.save_rules(text)
            desk.profiles.reconcile()

        def done(_: None) -> None:
            saved()
            self.refresh()

        self._thread.ask(do, done, refused)

    def measure(self, shown: ProfileShown, *, on_battery: bool) -> None:
        """Measure what is missing of a profile, run after run; everything is put back afterwards."""
        missing = dict.fromkeys(m.workload for m in self.measures if m.key not in shown.measured)
        workloads = [name for name in missing if (name == "battery") <= on_battery]
        if not workloads:
            self._fail("Hours on battery are measured with the charger unplugged; everything else is measured.")
            return

        def begin(session: Session) -> ActiveSeries:
            settings = {} if shown.profile.name == STOCK else dict(shown.profile.settings)
            kept = session.status().kept
            controls = session.controls()
            beside = {n: c.stock for n in kept if n not in settings and (c := controls[n]).stock is not None}
            tried = {**beside, **settings}
            steps = [
                Step(tried, f"{shown.profile.name}: {name}", work=Work(name, LENGTHS_S[name], start=Start.RESTED))
                for name in workloads
            ]
            return start_series(session, SeriesRequest(steps, Work("idle", IDLE_S)), self._store)

        said = f"Measuring {shown.profile.name}: {', '.join(workloads)}, one after another, each after a rest."
        self._thread.ask(begin, lambda _: self._say(said), self._fail)

    def read_text(self, name: str, opened: Say) -> None:
        """Read the text of a profile's file."""

        def read(session: Session) -> str:
            return "" if session.access.profiles is None else session.access.profiles.text(name)

        self._thread.ask(read, opened, self._fail)

    def save_text(self, name: str, text: str, saved: Callable[[], None], refused: Say) -> None:
        """Make an edited text a profile, with what speaks for its settings now."""

        def do(session: Session) -> str:
            desk = self._desk(session)
            profile = desk.save_text(name, text)
            desk.profiles.reconcile()
            return self._saved(profile)

        def done(said: str) -> None:
            saved()
            self._say(said)
            self.refresh()

        self._thread.ask(do, done, refused)

    def export(self, name: str, path: str) -> None:
        """Write a profile's file elsewhere."""

        def work(desk: ProfileDesk, _session: Session) -> str:
            desk.export(name, Path(path))
            return f"{name} is written to {path}."

        self._do(work)

    def _saved(self, profile: Profile) -> str:
        return f"Saved as {profile.name}: {show_settings(profile.settings)}."
