"""One machine for several callers. Whose trial it is, when it is put back, when the service may end.

Knows no bus. Everything here runs in one thread, one call after another.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from types import MappingProxyType
from typing import Any

from upright_bolt.errors import BoltError, Denied, InUse, Refused
from upright_bolt.model.change import ChangeKind, MachineChange
from upright_bolt.model.hold import LogEntry
from upright_bolt.model.machine import About
from upright_bolt.model.sample import Sample
from upright_bolt.model.settings import show_settings
from upright_bolt.model.trial import ApplyReport, Trial
from upright_bolt.privileges import ROOT
from upright_bolt.profiles.engine import ProfileEngine
from upright_bolt.service.callers import Caller
from upright_bolt.service.log import LOG
from upright_bolt.service.verbs import KEEP, SAMPLE, Owned, Verb
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.timestamp import now_stamp
from upright_bolt.text.times import date_and_time
from upright_bolt.text.trials import recovered, refusal, unrecorded

FRESH_S = 0.2
"""A sample younger than this is handed out again: many clients cost no more than one, and nobody can read the energy
counter fast enough to spy on what other programs compute."""
GRACE_S = 3.0
NO_ARGUMENTS: Mapping[str, Any] = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class _Run:
    """A run that a caller has announced."""

    caller: Caller
    what: str
    since: str
    may_set: bool


class SharedMachine:
    """Holds the machine and its trial on behalf of the callers.

    Args:
        open_engine: opens the machine; with a lock if nobody else holds it.
        now_s: a clock that only goes forward; samples carry its time.
    """

    def __init__(self, open_engine: Callable[[], SettingsEngine], now_s: Callable[[], float]) -> None:
        self._open = open_engine
        self._now_s = now_s
        self._engine = self._opened()
        self._sample: Sample | None = None
        self._sampled_s = 0.0
        self._orphans: dict[str, float] = {}
        """Trials whose owner has left, by id, and since when."""
        self._run: _Run | None = None
        self.news: tuple[LogEntry, ...] = ()
        """What was added to the log since the ``reconcile`` before the last one."""
        self._told = 0
        if self._engine.recovered is not None:
            LOG.warning(recovered(self._engine.recovered))

    def _opened(self) -> SettingsEngine:
        engine = self._open()
        if isinstance(engine.profiles, ProfileEngine):
            engine.profiles.reconciler.busy = lambda: self._run is not None and self._run.may_set
        return engine

    @property
    def about(self) -> About:
        """What does not change about the machine."""
        return self._engine.about

    @property
    def trial(self) -> Trial | None:
        """The trial that is running; None if none is."""
        return self._engine.trial

    def sample(self) -> Sample:
        """Return a sample that is at most ``FRESH_S`` old."""
        now = self._now_s()
        if self._sample is None or now - self._sampled_s >= FRESH_S:
            self._sample, self._sampled_s = replace(self._engine.sample(), time_s=now), now
        return self._sample

    def perform(self, verb: Verb, caller: Caller, arguments: Mapping[str, Any] = NO_ARGUMENTS) -> Any:  # noqa: ANN401
        """Do what a caller asks for, and return what the engine's method returns.

        Args:
            verb: what.
            caller: who.
            arguments: by name, checked.

        Raises:
            Denied: another caller's trial is running.
            InUse: a program outside the service holds the machine.
            BoltError: as the engine's method.
        """
        if verb is SAMPLE:
            return self.sample()
        if verb.owned is Owned.READS:
            return verb.act(self._engine, arguments)
        self._reopen_if_free()
        if verb.owned is Owned.OWNER or (verb.owned is Owned.OWNER_OR_ROOT and caller.uid != ROOT):
            self._check_owner(caller)
        # A trial that outlives its program belongs to the user; any other one to the connection, whose end is its end.
        owner = f"uid:{caller.uid}" if arguments.get("standing") else caller.unique
        who = {"by": caller.words, "owner": owner, "why": f"asked for by {caller.words}"}
        done = verb.act(self._engine, {**arguments, **{name: who[name] for name in verb.who}})
        LOG.info("%s %s", caller.words, _outcome(verb, arguments, done))
        self._mark_if_left(caller)
        return done

    @property
    def changed(self) -> tuple[str, ...]:
        """What is not the machine's own, as far as this boot's record tells, by name."""
        return (*self.tried, *self._engine.kept)

    @property
    def _profiles(self) -> ProfileEngine:
        profiles = self._engine.profiles
        if not isinstance(profiles, ProfileEngine):
            raise Refused("This machine has no profiles.")
        return profiles

    @property
    def suspects(self) -> bool:
        """Whether something is under suspicion since the machine went down uncleanly."""
        return self._profiles.record.now.suspicion is not None

    @property
    def active(self) -> bool:
        """Whether profiles are kept in force, so that the service must stay."""
        return self._profiles.record.now.active

    def reconcile_all(self) -> tuple[Trial | None, float]:
        """Return a trial that was put back since its owner has left, and when profiles want to be tended again."""
        return self.end_orphaned(), self.reconcile()

    def reconcile(self) -> float:
        """Keep profiles in force; return in how many seconds to call again at the latest."""
        due_s = self._profiles.reconcile()
        self.news, self._told = self._profiles.record.since(self._told), self._profiles.record.told
        return due_s

    def notify(self, kind: ChangeKind) -> None:
        """Take note of what somebody else tells of the machine: it is about to sleep, or has woken."""
        self._profiles.reconciler.notify(MachineChange(kind))

    def handles(self) -> tuple[int, ...]:
        """Return file descriptors; when one can be read, ``reconcile`` has something to do."""
        return self._profiles.reconciler.handles()

    def _reopen_if_free(self) -> None:
        """Open the machine anew if another program held it when the service began."""
        if self._engine.closed:
            self._engine.close()
            self._engine = self._opened()
            self._sample = None
        if self._engine.closed:
            raise InUse("A program run by root holds this machine at the moment; end it, or change settings there.")

    def _check_owner(self, caller: Caller) -> None:
        trial = self._engine.trial
        if trial is None or self.is_owner(caller):
            return
        # A trial without an owner is one of a profile, or of a program that had the machine itself.
        if caller.uid == ROOT and not trial.owner:
            return
        raise Denied(
            f"A trial of {trial.by} is running since {date_and_time(trial.since)}: {show_settings(trial.settings)}. "
            "Only they can change or keep it; it ends when they keep it or put it back."
        )

    def is_owner(self, caller: Caller) -> bool:
        """Tell whether the running trial is this caller's."""
        trial = self._engine.trial
        return trial is not None and trial.owner in (caller.unique, f"uid:{caller.uid}")

    @property
    def tried(self) -> tuple[str, ...]:
        """What the running trial has set, by name; nothing without one."""
        trial = self._engine.trial
        return () if trial is None else tuple(trial.settings)

    def begin_run(self, caller: Caller, what: str, *, may_set: bool) -> None:
        """Let a caller's run be the one on this machine.

        Args:
            caller: who runs it.
            what: the workload.
            may_set: the caller may change settings, so enforcement waits for the end of the run.

        Raises:
            InUse: another caller's run goes on, or a program outside the service holds the machine.
            Refused: it cannot be written down that it begins at values that can fail.
        """
        self._reopen_if_free()
        going_on = self._run
        if going_on is not None and going_on.caller is not caller:
            since = date_and_time(going_on.since)
            raise InUse(
                f"A run of {going_on.caller.words} is going on since {since} ({going_on.what}). "
                "One run at a time, or neither measures anything: wait until it has ended."
            )
        self._engine.note_run(what, caller.words)
        self._run = _Run(caller, what, now_stamp(), may_set=may_set)

    def end_run(self, caller: Caller) -> None:
        """A caller's run is over."""
        if self._run is not None and self._run.caller is caller:
            self._run = None
            self._engine.note_run("", caller.words)

    def _mark_if_left(self, caller: Caller) -> None:
        """A caller that has left while its settings were put in force leaves an orphan."""
        if caller.gone:
            self.left(caller)

    def left(self, caller: Caller) -> None:
        """Note that a caller has left the bus: its run is over, and its trial ends after a short grace."""
        self.end_run(caller)
        trial = self._engine.trial
        if trial is not None and trial.owner == caller.unique and not self._engine.closed:
            self._orphans.setdefault(trial.id, self._now_s())
            LOG.warning("%s left with a trial running", trial.by)

    def end_orphaned(self) -> Trial | None:
        """Put back a trial whose owner has left, once its grace is over; return it if so."""
        trial = self._engine.trial
        since_s = None if trial is None else self._orphans.get(trial.id)
        self._orphans = {} if trial is None or since_s is None else {trial.id: since_s}
        if trial is None or since_s is None or self._now_s() - since_s < GRACE_S:
            return None
        try:
            trial = self._engine.revert("the program that began it ended")
        except BoltError as fault:
            LOG.error("%s", fault)
            self._orphans = {trial.id: self._now_s()}
            return None
        self._orphans = {}
        LOG.warning("put back %s, since %s ended", show_settings(trial.before_values), trial.by)
        return trial

    @property
    def holding(self) -> bool:
        """Whether a trial or a run is going on, or profiles are kept in force, so that the service must stay."""
        engine = self._engine
        return engine.trial is not None or engine.has_pending_restores or self._run is not None or self.active

    @property
    def orphaned(self) -> bool:
        """Whether a trial waits for the end of its grace, since its owner has left."""
        return bool(self._orphans)

    def close(self) -> str:
        """Put back a trial that does not outlive the service, and let the machine go; a caller's run goes on."""
        return self._engine.close(run_goes_on=self._run is not None)

    def note_shutdown(self) -> None:
        """Record that the machine is being shut down in order. Raises BoltError."""
        self._engine.note_shutdown()


def _outcome(verb: Verb, arguments: Mapping[str, Any], done: object) -> str:
    """Return what a caller asked for and what came of it, for the log."""
    if isinstance(done, ApplyReport):
        got = ", ".join(f"{row.name} {row.got}" for row in done.rows)
        outcome = "in force" if done.ok else f"refused: {refusal(done)}"
        return f"asked for {show_settings(arguments['settings'])}; got {got}; {outcome}"
    if isinstance(done, Trial):
        applied = done.settings if verb is KEEP else done.before_values
        return f"{verb.tells} {show_settings(applied)}. {unrecorded(done)}".rstrip()
    return f"asked for {verb.name} {' '.join(str(each)[:60] for each in arguments.values())}".rstrip()
