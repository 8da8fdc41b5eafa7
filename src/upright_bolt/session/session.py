"""A session: one machine in use by one process. Everything the window and the command line do goes through here."""

from collections.abc import Callable, Collection
from contextlib import suppress
from dataclasses import dataclass

from upright_bolt.errors import BadInput, BoltError, InUse, MachineFroze
from upright_bolt.kernel.identity import read_boot_id
from upright_bolt.model.control import Control, Value
from upright_bolt.model.event import (
    AccessChanged,
    ChangedByOthers,
    ClockSet,
    Event,
    Kept,
    ProfileEvent,
    Resumed,
    RunEnded,
    RunStarted,
    Tried,
    WasPutBack,
)
from upright_bolt.model.machine import About
from upright_bolt.model.sample import Sample, value_of
from upright_bolt.model.settings import Settings
from upright_bolt.model.trial import ApplyReport, Status, Trial
from upright_bolt.session.active_run import ActiveRun
from upright_bolt.session.activity import BY_USER, Activity
from upright_bolt.session.change_watch import ChangeWatch, chips_changed
from upright_bolt.session.local_enforcement import LocalEnforcement
from upright_bolt.session.machine import Machine
from upright_bolt.session.run_progress import LOADED
from upright_bolt.session.start import IdleDetector
from upright_bolt.settings.access import PROFILES, MachineAccess
from upright_bolt.text import events as event_words
from upright_bolt.text import trials as trial_words


class SleepInhibitor:
    """Holds the machine awake from the first reason on until there is none any more.

    Args:
        machine: may be able to.
    """

    def __init__(self, machine: Machine) -> None:
        self._machine = machine
        self._let_go: Callable[[], None] | None = None

    def see(self, why: str) -> None:
        """Take note of what goes on now; empty for nothing."""
        stay_awake = self._machine.stay_awake
        if why and self._let_go is None and stay_awake is not None:
            self._let_go = stay_awake(why)
        elif not why and self._let_go is not None:
            self._let_go()
            self._let_go = None


SAMPLE_S = 0.5
BUSY = "A run is in progress; stop it or wait for its end."


@dataclass(frozen=True, slots=True)
class Tick:
    """One step of a session: the sample, and what happened since the last."""

    sample: Sample
    events: tuple[Event, ...]


class Session:
    """One machine in use.

    Args:
        machine: its clock and what can work on it.
        access: reads and sets it.

    Attributes:
        index: sensor name to its index in a sample.
        rest: sees whether the machine has come to rest.
    """

    def __init__(self, machine: Machine, access: MachineAccess) -> None:
        self.machine = machine
        self.access = access
        self.about: About = access.about
        self.index = self.about.index
        self._watch = ChangeWatch(self.about.sensors)
        self._events: list[Event] = []
        self._last: Sample | None = None
        self._trouble = ""
        self.rest = IdleDetector(self.about.sensors)
        self._stack: list[Activity] = []
        """What goes on: each was begun by the one below it."""
        self._profiles = LocalEnforcement(access, lambda: self.now_s, lambda: self.working)
        self._awake = SleepInhibitor(machine)

    @property
    def recovered(self) -> str:
        """What was done about a trial that an earlier process left, as a sentence; empty if nothing."""
        return trial_words.recovered(self.access.recovered)

    @property
    def now_s(self) -> float:
        """The present moment on the machine's clock."""
        return self.machine.clock.now_s()

    @property
    def boot_id(self) -> str:
        """The name of the machine's present boot; empty if it does not say."""
        return read_boot_id(self.machine.files)

    def controls(self) -> dict[str, Control]:
        """Return every control as it stands on this machine."""
        return self.access.controls()

    def current_values(self) -> dict[str, Value]:
        """Return every control that can be read, with its value."""
        return self.access.current_values()

    def status(self) -> Status:
        """Return the trial, what was kept, and what no longer holds."""
        return self.access.status()

    def tick(self) -> Tick:
        """Take a sample and let a run in progress go on."""
        if self.access.about is not self.about:
            self._take_over(self.access.about)
        sample = self._last = self.access.sample()
        self.rest.take(sample, working=self.run is not None and self.run.stage in LOADED)
        self._take_changes()  # first: what another program has set is not taken for a reset by the firmware
        self._events += self._watch.observe(sample)
        self._take_jumps()
        if self.access.trouble != self._trouble:
            self._trouble = self.access.trouble
            self._events.append(AccessChanged(self.now_s, self._trouble))
        events, self._events = self._events, []
        for each in tuple(self._stack):
            each.on_sample(sample, events)
        if self.run is not None:
            self._profiles.take_errors(self.run)
        self._profiles.reconcile()
        self._awake.see(next((each.needs for each in self._stack if not each.ended), ""))
        return Tick(sample, tuple(events))

    def _take_over(self, about: About) -> None:
        """Take over what the machine is now that a graphics chip has come or gone; sensors keep their places."""
        self._events += chips_changed(self.now_s, self.about.chips, about.chips)
        self.about, self.index = about, about.index
        self._watch = ChangeWatch(about.sensors)

    def _take_changes(self) -> None:
        heard = self.access.changes_by_others()
        for change in heard:
            if change.what != PROFILES:
                self._changed(ChangedByOthers(self.now_s, change.what, change.who))
        for entry in self._profiles.news(heard=any(change.what == PROFILES for change in heard)):
            self._changed(ProfileEvent(self.now_s, entry))

    def _take_jumps(self) -> None:
        for jump in self.machine.clock.jumps():
            event = Resumed(self.now_s, jump.seconds) if jump.slept else ClockSet(self.now_s, jump.seconds)
            self._events.append(event)
            if jump.slept and self.run is not None:
                self.run.fail(f"{event_words.sentence(event)} in the middle of the run; what came before is kept.")

    # settings

    def try_settings(self, settings: Settings, *, standing: bool) -> ApplyReport:
        """Put settings in force as a trial. Raises BadInput, InUse or Refused; a machine's no is in the report."""
        report = self.access.try_settings(settings, standing=standing)
        self._changed(Tried(self.now_s, dict(settings), refused=not report.ok))
        return report

    def keep(self) -> Trial:
        """End the trial and leave its settings in force until a restart. Raises BadInput, InUse or Refused."""
        trial = self.access.keep()
        self._changed(Kept(self.now_s, trial.settings))
        return trial

    def revert(self, why: str = "asked for") -> Trial:
        """Put back what was in force before the trial. Raises BadInput, InUse or Refused."""
        trial = self.access.revert(why)
        self._changed(WasPutBack(self.now_s, trial.before_values))
        return trial

    def reset_to_stock(self, names: Collection[str] = ()) -> Trial:
        """Put the machine's own values in force, after *keep* as well; a running trial ends.

        Raises BadInput, NotFound, InUse or Refused.
        """
        trial = self.access.reset_to_stock(names)
        self._changed(WasPutBack(self.now_s, trial.before_values))
        return trial

    def _changed(self, event: Event) -> None:
        self._watch.forget_limits()
        self._events.append(event)

    # what goes on

    @property
    def run(self) -> ActiveRun | None:
        """The run in progress, also once it has ended, until ``end_run`` takes it; None if there is none."""
        top = self._stack[-1] if self._stack else None
        return top if isinstance(top, ActiveRun) else None

    @property
    def activity(self) -> Activity | None:
        """What was begun and has not ended: a search or a series rather than its run; None for nothing."""
        return next((each for each in self._stack if not each.ended), None)

    @property
    def working(self) -> bool:
        """Whether anything goes on."""
        return self.run is not None or self.activity is not None

    def check_free(self) -> None:
        """Raise InUse or BadInput unless a run could begin now."""
        if self.access.closed:
            raise InUse(self.access.closed)
        if self.run is not None:
            raise BadInput(BUSY)

    def check_alone(self) -> None:
        """Raise InUse or BadInput unless nothing goes on."""
        self.check_free()
        if self.working:
            raise BadInput(BUSY)

    def begin(self, activity: Activity) -> None:
        """Let ``tick`` carry on one thing more."""
        self._stack = [each for each in self._stack if not each.ended]
        self._stack.append(activity)
        if isinstance(activity, ActiveRun):
            self._events.append(RunStarted(self.now_s, activity.id))

    def end_run(self) -> ActiveRun | None:
        """Return the run if it has ended, and make room for the next."""
        run = self.run
        if run is None or not run.ended:
            return None
        self._profiles.take_errors(run)  # before anything that it ran under is reverted
        self._stack.remove(run)
        with suppress(BoltError):  # a service that has gone has forgotten the run with it
            self.access.end_run()
        self._profiles.run_ended()
        self._events.append(RunEnded(self.now_s, run.id))
        for each in reversed(self._stack):
            each.on_run_end(run)
        self.machine.save()
        return run

    def stop(self, why: str = BY_USER) -> None:
        """Stop everything that goes on; what is there is kept."""
        for each in tuple(self._stack):
            each.stop(why)

    def skip_waiting(self) -> None:
        """Let what waits for something go on now."""
        if self._stack:
            self._stack[-1].skip_waiting()

    def fail_run(self, fault: Exception) -> None:
        """End the run in progress, since nothing can go on."""
        if self.run is not None:
            end = self.run.end_with_machine if isinstance(fault, MachineFroze) else self.run.fail
            end(str(fault))

    def power_source(self) -> str:
        """Return "charger" or "battery"; empty if the machine does not say."""
        plugged = value_of(self._last or self.tick().sample, self.index, "charger")
        return "" if plugged is None else ("charger" if plugged else "battery")

    # the machine

    def plug(self, *, charger: bool) -> None:
        """Plug a twin's charger in or out.

        Raises:
            BadInput: this is a real machine, a copy of one, or a twin without a battery.
            InUse: another process holds the machine.
        """
        if self.machine.plug is None:
            raise BadInput("Only the charger of a twin with a battery can be plugged in or out by a program.")
        if self.access.closed:
            raise InUse(self.access.closed)
        self.machine.plug(charger)
        self._profiles.reconcile(at_once=True)

    def close(self) -> str:
        """Stop a run, put back a trial that does not outlive this process, and let the machine go; once.

        Returns:
            A sentence if something could not be put back, else nothing.
        """
        self.stop("the program was closed")
        for each in self._stack:
            each.close()
        self._awake.see("")
        return self.access.close()
