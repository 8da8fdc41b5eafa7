"""What the window shows of one machine, and what a person can ask of it. Knows no widget and no Qt.

Each part of the state has a topic of its own (``Observable``), so that a view redraws what has changed and nothing
else: a drag of a strip announces ``drafted`` and no more.
"""

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from time import monotonic

from upright_bolt.analysis.limits.gpu_limits import cap_of
from upright_bolt.model.control import Control, Value
from upright_bolt.model.event import Event, ProfileEvent, Tried
from upright_bolt.model.machine import About
from upright_bolt.model.run import RunRecord, RunState
from upright_bolt.model.sample import Sample, value_of
from upright_bolt.model.settings import Settings, show_settings
from upright_bolt.model.start import Start
from upright_bolt.model.trial import ApplyReport, Status, Trial
from upright_bolt.presentation.draft import Draft
from upright_bolt.presentation.gpu_curve import ChipCurve
from upright_bolt.presentation.history import History
from upright_bolt.presentation.machine_info import CoreNow, CoreReader, Outline
from upright_bolt.presentation.observable import Observable
from upright_bolt.presentation.pace import Pace
from upright_bolt.presentation.past_failures import KnownFailures
from upright_bolt.presentation.ports import MINIMISED_S, BackgroundWork, SessionWork, Snapshot
from upright_bolt.presentation.profiles import Profiles
from upright_bolt.presentation.records import Records
from upright_bolt.presentation.run_list import RunList
from upright_bolt.presentation.run_starter import RunRequest, RunStarter
from upright_bolt.presentation.searches import Searches
from upright_bolt.session.chip_wake import wake_chip
from upright_bolt.session.run_progress import RunProgress
from upright_bolt.session.session import SAMPLE_S, Session
from upright_bolt.session.starting import woken_and_tried
from upright_bolt.store.runs import RunStore
from upright_bolt.store.search_log import SearchLog
from upright_bolt.text.faults import state_words
from upright_bolt.text.report import machine_report
from upright_bolt.text.runs import holding_now
from upright_bolt.text.trials import drift, refusal, row_sentence
from upright_bolt.text.trials import reset_to_stock as stock_words
from upright_bolt.text.trials import revert as put_back_words


class DriftWatch:
    """Watches the status for what was in force and is not any more.

    Args:
        say: says it in the window.

    Attributes:
        told: the same sentence, for whoever does not look at the window.
    """

    def __init__(self, say: Callable[[str], None]) -> None:
        self._say = say
        self._known: frozenset[str] = frozenset()
        self.told: Observable[str] = Observable()

    def take(self, status: Status) -> None:
        """Take over a newer status."""
        now = frozenset(entry.name for entry in status.drift)
        fresh = [drift(entry, status) for entry in status.drift if entry.name not in self._known]
        self._known = now
        if fresh:
            self._say(f"▽ {fresh[0]}" + (f" And {len(fresh) - 1} more." if len(fresh) > 1 else ""))
            self.told(fresh[0])


ALL = ""
"""Announced as drafted when more than one control's draft has changed."""


class Presenter:
    """The state behind the window.

    Attributes:
        warning: why the draft was not tried: it has failed on this chip; empty if that is not so.
        outcome: a sentence on what became of the last thing asked.
        runs: all runs that are kept.

    Topics:
        drafted: the draft of one control has changed; its name, or ``ALL``.
        said: the outcome has changed.
        live: there is a newer sample, and where a run or series stands.
        settings_changed: controls, trial or drift have changed.
    """

    def __init__(
        self,
        outline: Outline,
        thread: SessionWork,
        background: BackgroundWork,
        store: RunStore,
        controls: dict[str, Control],
        log: SearchLog,
    ) -> None:
        self.outline = outline
        self._thread = thread
        self._background = background
        self._store = store
        self._core_reader = CoreReader(outline)
        self.controls = controls
        self.status = Status(None)
        self.history = History(outline.sensors)
        self.pace = Pace()
        self._draft = Draft()
        self.outcome = outline.recovered
        self.warning = ""
        self.progress: RunProgress | None = None
        self.sample: Sample | None = None
        self._hidden = False
        self.drafted: Observable[str] = Observable()
        self.said: Observable[str] = Observable()
        self.live: Observable[None] = Observable()
        self.settings_changed: Observable[None] = Observable()
        self.runs = RunList(background, store, outline.spec, lambda: self.controls, self.say, self._tell_damage)
        self.drifts = DriftWatch(self.say)
        self.searches = Searches(thread, background, store, log, outline, self.say)
        self.profiles = Profiles(thread, store, log, outline, self.say)
        self.failures = KnownFailures(self.profiles, self.searches, self)
        self.records = Records(thread, background, store, self.say, self.runs.load, self.failures.near)
        self.chip_curve = ChipCurve(background, store, outline.spec)
        self.runner = RunStarter(thread, self.records, store, self.say, self._fail)

    def release(self) -> None:
        """Announce nothing to the present widgets any more: they are about to go."""
        for topic in (self.drafted, self.said, self.live, self.settings_changed, self.runs.changed,
                      self.searches.changed, self.profiles.changed, self.drifts.told,
                      self.chip_curve.changed):  # fmt: skip
            topic.silence()

    def update_machine(self, about: About) -> None:
        """Take over what the machine is now that graphics chips have come or gone; widgets are to be built anew."""
        self.outline.update_machine(about)
        self.history.update_machine(self.outline.sensors)

    def set_hidden(self, *, hidden: bool) -> None:
        """Sample more rarely and draw nothing while the window is minimised; catch up afterwards."""
        self._thread.period_s = MINIMISED_S if hidden else SAMPLE_S
        self._hidden = hidden
        if not hidden:
            self.settings_changed(None)
            self.live(None)
            self.drafted(ALL)

    def take(self, snapshot: Snapshot) -> None:
        """Take over what has happened since the last snapshot."""
        controls, status = snapshot.controls or self.controls, snapshot.status or self.status
        self.history.chip_cap = cap_of(controls, self.history.chip)
        self.history.add(snapshot.samples, snapshot.events)
        if snapshot.samples:
            self.sample = snapshot.samples[-1]
        self.progress = snapshot.progress
        if snapshot.progress is not None and self.sample is not None:
            self.pace.take(snapshot.progress, self.sample.time_s)
        changed = (controls, status) != (self.controls, self.status)
        self.controls, self.status = controls, status
        self.drifts.take(status)
        self.records.take_series(snapshot.series, snapshot.ended_series)
        self.searches.take(snapshot.search, snapshot.ended_search)
        if snapshot.ended_run is not None:
            self.runs.take_ended(snapshot.ended_run, self._show_ended)
        if snapshot.trouble:
            self.say(f"✕ {snapshot.trouble}")
        told = any(isinstance(event, ProfileEvent) for event in snapshot.events)
        self.profiles.look(monotonic(), at_once=told, seldom=self._hidden)
        if self._hidden:
            return
        if changed:
            self.settings_changed(None)
        self.live(None)

    def say(self, sentence: str) -> None:
        """Tell the person what became of what was asked."""
        self.outcome = sentence
        self.said(sentence)

    def _fail(self, sentence: str) -> None:
        self.say(f"✕ {sentence}")

    # settings

    @property
    def draft(self) -> dict[str, Value]:
        """Settings being edited, not in force."""
        return self._draft.values

    def draft_values(self, values: Mapping[str, Value | None]) -> None:
        """Draft values of controls that move together, or of one; None drops a control's draft."""
        controls = self.controls
        self.warning = ""
        self._draft.change({n: None if v == controls[n].current else v for n, v in values.items()})
        for name in values:
            self.drafted(name)

    def drop_draft(self) -> None:
        """Drop the whole draft; ``undo`` brings it back."""
        self._draft.drop()
        self.drafted(ALL)

    def undo(self) -> None:
        """Take the last change of the draft back."""
        if self._draft.undo():
            self.drafted(ALL)

    def redo(self) -> None:
        """Make a change of the draft again that was taken back."""
        if self._draft.redo():
            self.drafted(ALL)

    @property
    def busy(self) -> str:
        """What tries settings by itself now, as a sentence; empty if nothing does."""
        if self.searches.progress is not None:
            return "A search is in progress, and what is in force is its own; pause it in the Edge view first."
        if self.records.series is not None:
            return "A series of runs is in progress, and what is in force is its own; stop it first."
        return ""

    def _is_free(self) -> bool:
        """Whether a person's own settings may be touched; if not, say why."""
        if self.busy:
            self._fail(self.busy)
        return not self.busy

    def try_draft(self, *, allow_known_bad: bool = False) -> None:
        """Put the draft in force as a trial of this window; known failures only if ``allow_known_bad``."""
        draft = dict(self.draft)
        self.warning = "" if allow_known_bad else self.failures.near(draft)
        if self.warning:
            self._fail(f"{self.warning} Nothing was changed. Trying it may freeze this machine.")
            return
        self._try(draft)

    def try_profile(self, name: str) -> None:
        """Try a profile as a trial of this window, with what is held back."""
        views = [view.profile for view in self.profiles.status.profiles if view.profile.name == name]
        settings = dict(views[0].settings) if views else {}
        warning = self.failures.near(settings)
        if warning:
            self._fail(f"{warning} Nothing was changed.")
        elif settings:
            self._try(settings)

    def try_guarded(self, name: str, value: Value) -> None:
        """Try one control by itself, after the person has confirmed it."""
        self._try({name: value})

    def _try(self, settings: Settings) -> None:
        if not self._is_free():
            return
        self._thread.ask(lambda session: woken_and_tried(session, settings), self._tried, self.say)

    def wake_chip(self, part: str) -> None:
        """Wake a graphics chip, since a person wants to see its settings."""
        self._thread.ask(lambda session: wake_chip(session, part), self.say, self.say)

    def _tried(self, report: ApplyReport) -> None:
        if report.ok:
            self._draft.forget()
            self.drafted(ALL)
            nearest = [row_sentence(row) for row in report.rows if row.why is not None]
            self.say(" ".join(["In force as a trial, read back from the machine.", *nearest]))
        else:
            self._fail(refusal(report))

    def machine_report(self) -> str:
        """Return the machine's sheet as text."""
        return machine_report(self.outline.about, self.controls, self.status, self.outline.spec)

    def keep(self) -> None:
        """Keep what is being tried, unless it is what has failed on this chip, or beyond it."""
        trial = self.status.trial
        broken = self.failures.near(trial.settings) if trial is not None else ""
        if broken:
            self._fail(f"{broken} It is tried, but not kept.")
        if broken or not self._is_free():
            return

        def kept(trial: Trial) -> None:
            self.say(f"Kept until the machine restarts: {show_settings(trial.settings)}.")

        self._thread.ask(lambda session: session.keep(), kept, self.say)

    def keep_in_profile(self, name: str, note: str = "", *, into: bool = False) -> None:
        """Keep what is being tried in a profile: a new one, or ``into`` one that is there."""
        if self._is_free():
            self.profiles.save_in_force(name, note, into=into)

    def revert(self) -> None:
        """End the trial and put back what was in force before."""
        if not self._is_free():
            return

        def was_put_back(trial: Trial) -> None:
            self.say(put_back_words(trial))

        self._thread.ask(lambda session: session.revert(), was_put_back, self.say)

    def reset_to_stock(self) -> None:
        """Put the machine's own values in force, whatever was kept or is being tried."""
        if not self._is_free():
            return
        self._thread.ask(
            lambda session: session.reset_to_stock(), lambda trial: self.say(stock_words(trial)), self._fail
        )

    # the machine

    def plug(self) -> None:
        """Plug a twin's charger in, or out."""
        charger = not self.on_charger
        self._thread.ask(lambda session: session.plug(charger=charger), lambda _: None, self.say)

    def set_pace(self, pace: float) -> None:
        """Let a twin's time run ``pace`` times as fast as real time."""

        def change(session: Session) -> None:
            if session.machine.set_pace is not None:
                session.machine.set_pace(pace)

        self._thread.ask(change, lambda _: None, self.say)

    @property
    def on_charger(self) -> bool | None:
        """Whether the charger is plugged in; None if the machine does not say."""
        value = value_of(self.sample, self.outline.index, "charger") if self.sample is not None else None
        return None if value is None else bool(value)

    def trial_age_s(self) -> float:
        """Return for how long the trial has been running: on the machine's own clock if it began in this window."""
        return trial_age_s(self.status.trial, self.history.events, self.sample)

    def cores_now(self) -> tuple[CoreNow, ...]:
        """Return every core's numbers of the moment."""
        return () if self.sample is None else self._core_reader.cores(self.sample)

    def holding_now(self) -> str:
        """Return what holds the clock back now, with what speaks for it."""
        if self.sample is None:
            return ""
        said = holding_now(self.sample, self.outline.about, self.controls, self.history.held_since_s())
        return "; ".join(part for part in (said, self.history.chip_words) if part)

    # runs

    def start_run(self, workload: str, length: str, label: str) -> None:
        """Start a run at once; what was typed wrongly is said."""
        self.start_asked(RunRequest(workload, length, label, start=Start.AT_ONCE))

    def start_asked(self, asked: RunRequest) -> None:
        """Start a run, or several one after another, as a person chose; what was typed wrongly is said."""
        self.runner.start(asked, dict(self.draft))

    def _show_ended(self, run: RunRecord) -> None:
        self.pace.end(run.id, run.slices)
        if run.end.state is not RunState.RUNNING and not run.head.series:
            how = state_words(run) + (f": {run.end.why}" if run.end.why else "")
            self.say(f"Run {run.id} is kept ({how}).")

    def _tell_damage(self, words: str) -> None:
        # what was done about the machine's own record is not to be missed for it
        before = [self.outcome] if self.outcome and self.outcome == self.outline.recovered else []
        self._fail(" ".join((*before, words)))

    def compute(self, work: Callable[[], object], on_result: Callable[[object], None]) -> None:
        """Compute something in the background."""
        self._background.run(work, on_result, self.say)


def trial_age_s(trial: Trial | None, events: Sequence[Event], sample: Sample | None) -> float:
    """Return for how many seconds a trial has been running: on the machine's own clock if it began in this window.

    Args:
        trial: that runs; None for none.
        events: what has happened while this window was open.
        sample: the newest.
    """
    if trial is None:
        return 0.0
    begun = [event.time_s for event in events if isinstance(event, Tried)]
    if begun and sample is not None and not trial.standing:
        return max(0.0, sample.time_s - begun[-1])
    return max(0.0, (datetime.now().astimezone() - datetime.fromisoformat(trial.since)).total_seconds())
