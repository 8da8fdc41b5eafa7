"""A session: one machine in use by one process. Everything the window and the command line do goes through here."""

from collections.abc import Collection, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import partial
from typing import TYPE_CHECKING

from upright_bolt.analysis.chip_held import cap_of
from upright_bolt.errors import BadInput, BoltError, InUse
from upright_bolt.kernel.identity import read_boot_id
from upright_bolt.model.control import Control, Value
from upright_bolt.model.event import (
    AccessChanged,
    ChangedByOthers,
    ClockSet,
    Event,
    HoldDid,
    Kept,
    Resumed,
    RunEnded,
    RunStarted,
    Tried,
    WasPutBack,
)
from upright_bolt.model.machine import About
from upright_bolt.model.run import RunRole
from upright_bolt.model.sample import Sample, value_of
from upright_bolt.model.search import Search
from upright_bolt.model.settings import Settings
from upright_bolt.model.start import Start
from upright_bolt.model.trial import ApplyReport, Status, Trial
from upright_bolt.model.work import Work, check_options, length_of
from upright_bolt.model.workloads import Way, workload
from upright_bolt.session.active_run import ActiveRun, Beginning
from upright_bolt.session.awake import StayAwake, reason
from upright_bolt.session.change_watch import ChangeWatch, chips_changed
from upright_bolt.session.chip_wake import on_chip
from upright_bolt.session.holding import Holding, limits_of
from upright_bolt.session.machine import Machine
from upright_bolt.session.other_processes import OtherProcesses
from upright_bolt.session.profile_tending import ProfileTending
from upright_bolt.session.run_head import head_of
from upright_bolt.session.run_progress import LOADED, RunSink, RunStage
from upright_bolt.session.series import ActiveSeries, SeriesAsked, try_or_raise
from upright_bolt.session.start import Gate, Goal, RestWatch
from upright_bolt.settings.access import PROFILES, MachineAccess
from upright_bolt.wording import events as event_words
from upright_bolt.wording import trials as trial_words
from upright_bolt.workload.hold_load import HoldLoad
from upright_bolt.workload.load import Load, Task, choose_cpus

if TYPE_CHECKING:
    from upright_bolt.analysis.edge_history import Seen
    from upright_bolt.analysis.thermal_model import Prior
    from upright_bolt.session.edge_search import ActiveSearch, SearchSink

SAMPLE_S = 0.5
LONGEST_RUN_S = 24 * 3600.0
SHORTEST_RUN_S = 5.0
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
        run: the run in progress; None if there is none.
        series: the series in progress; None if there is none.
        search: the search for an edge in progress; None if there is none.
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
        self.rest = RestWatch(self.about.sensors)
        self._holding: Holding | None = None
        self.run: ActiveRun | None = None
        self.series: ActiveSeries | None = None
        self.search: ActiveSearch | None = None
        self._profiles = ProfileTending(access, lambda: self.now_s, lambda: self.working)
        self._awake = StayAwake(machine)

    @property
    def working(self) -> bool:
        """Whether a run, a series or a search goes on."""
        return self.run is not None or self.series is not None or self.search is not None

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

    def in_force(self) -> dict[str, Value]:
        """Return every control that can be read, with its value."""
        return self.access.in_force()

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
        if self._holding is not None:
            self._holding.take(sample)
        if self.search is not None:
            self.search.watch(sample)
        if self.run is not None:
            self.run.tick(sample, events)
            self._profiles.take_errors(self.run)
        elif self.series is not None:
            self.series.take(sample)
        elif self.search is not None:
            self.search.take(sample)
        self._profiles.tend()
        self._awake.see(reason(self))
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
            self._changed(HoldDid(self.now_s, entry))

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

    def put_back(self, why: str = "asked for") -> Trial:
        """Put back what was in force before the trial. Raises BadInput, InUse or Refused."""
        trial = self.access.put_back(why)
        self._changed(WasPutBack(self.now_s, trial.before_values))
        return trial

    def to_stock(self, names: Collection[str] = ()) -> Trial:
        """Put the machine's own values in force, after *keep* as well; a running trial ends.

        Raises BadInput, NotHere, InUse or Refused.
        """
        trial = self.access.to_stock(names)
        self._changed(WasPutBack(self.now_s, trial.before_values))
        return trial

    def _changed(self, event: Event) -> None:
        self._watch.forget_limits()
        self._events.append(event)

    # runs

    def start_run(
        self,
        work: Work,
        label: str,
        sink: RunSink,
        series: str = "",
        role: RunRole = RunRole.COUNTED,
        gate: Gate | None = None,
        thermal_prior: "Prior | None" = None,
    ) -> ActiveRun:
        """Begin a run; ``tick`` carries it on.

        Args:
            work: what it executes, and for how long under load.
            label: a name for the run.
            sink: where it is kept.
            series: shared by runs that are repeats of each other.
            role: what it is for in its series.
            gate: what it has waited for already; None lets it wait as its work's start says.
            thermal_prior: for ``cooling``: what earlier runs of the machine tell of it; None for nothing.

        Raises:
            BadInput: nothing can run here, or not this; no such workload, length, number of threads or kind of core.
            InUse: another process holds the machine, or another run goes on there.
        """
        self._check_free()
        if not SHORTEST_RUN_S <= work.duration_s <= LONGEST_RUN_S:
            raise BadInput(f"A run lasts from {SHORTEST_RUN_S:.0f} s to 24 h; {work.duration_s:g} s is outside that.")
        check_options(work.workload, work.options)
        work = replace(work, duration_s=length_of(work.workload, work.options, work.duration_s))
        cpus = choose_cpus(self.about.topology, work.workload, work.threads, work.kind)
        holds = (known := workload(work.workload)).way is Way.HOLD
        limits = limits_of(self, work.options.below_c) if holds else {}
        work, chip = on_chip(self, work)
        load: Load = self.machine.load(Task("steady" if holds else work.workload, cpus, work.options, chip))
        load = HoldLoad(load) if holds else load
        if known.on_battery and (why := self._no_drain()):
            raise BadInput(why)
        head = replace(head_of(self, work, label, len(cpus) if load.scores else None), series=series, role=role)
        beginning = self._beginning(work, gate)
        others = OtherProcesses(self.machine.files, self.about.topology)
        hindered = self._plugged_in if known.on_battery else lambda _: ""
        self.access.begin_run(work.workload)
        try:
            cap = cap_of(self.controls() if chip is not None else {}, work.options.chip)
            self.run = ActiveRun(head, load, sink, self.index, self.now_s, beginning, others, hindered, cap)
            if isinstance(load, HoldLoad):
                self._holding = Holding(self, self.run, load, limits, partial(try_or_raise, self), thermal_prior)
        except BaseException:
            self._leave_run()
            raise
        self._events.append(RunStarted(self.now_s, self.run.id))
        return self.run

    def _beginning(self, work: Work, gate: Gate | None) -> Beginning:
        """Return how a run begins. Raises BadInput if it cannot begin so."""
        start = work.begins
        rested = start is Start.RESTED
        warm = None
        if start is Start.WARM:
            warm = self.machine.load(Task("steady", choose_cpus(self.about.topology, "steady", None, "")))
        return Beginning(gate or Gate(Goal(settles=rested, whole=rested), self.rest), warm, self.rest)

    def _check_free(self) -> None:
        """Raise InUse or BadInput unless a run could begin now."""
        if self.access.closed:
            raise InUse(self.access.closed)
        if self.run is not None:
            raise BadInput(BUSY)

    def _check_alone(self) -> None:
        """Raise InUse or BadInput unless several runs could begin now."""
        self._check_free()
        if self.series is not None or self.search is not None:
            raise BadInput(BUSY)

    def _no_drain(self) -> str:
        """Return why the battery's drain cannot be measured now, as a sentence; empty if it can."""
        if "battery.drain" not in self.index:
            return "This machine has no battery whose drain could be measured."
        return self._plugged_in(self.tick().sample, "; pull its plug, then start the run")

    def _plugged_in(self, sample: Sample, advice: str = "") -> str:
        plugged = value_of(sample, self.index, "charger")
        return f"The charger is plugged in, so the battery does not drain{advice}." if plugged else ""

    def power_source(self) -> str:
        """Return "charger" or "battery"; empty if the machine does not say."""
        plugged = value_of(self._last or self.tick().sample, self.index, "charger")
        return "" if plugged is None else ("charger" if plugged else "battery")

    def end_run(self) -> ActiveRun | None:
        """Return the run if it has ended, and make room for the next."""
        run = self.run
        if run is None or run.stage is not RunStage.ENDED:
            return None
        self.run = None
        self._profiles.take_errors(run)  # before anything that it ran under is reverted
        self._leave_run()
        self._end_holding()
        self._profiles.run_ended()
        self._events.append(RunEnded(self.now_s, run.id))
        for of_several in (self.series, self.search):
            if of_several is not None:
                of_several.take_ended(run)
        self.machine.save()
        return run

    def _end_holding(self) -> None:
        """Put the limits back that a run of ``cooling`` has moved."""
        was_holding, self._holding = self._holding is not None, None
        if was_holding and self.status().trial is not None:
            self.put_back("the run ended")

    def _leave_run(self) -> None:
        with suppress(BoltError):  # a service that has gone has forgotten the run with it
            self.access.end_run()

    def start_series(self, asked: SeriesAsked, sink: RunSink) -> ActiveSeries:
        """Begin several runs, one after another; ``tick`` and ``end_run`` carry them on.

        Raises:
            BadInput: a run, a series or a trial is in progress, a setting lies outside what the machine allows, or the
                temperature to wait for is not measured.
            InUse: another process holds the machine.
            Denied: the rights of the person do not allow what the series tries.
        """
        self._check_alone()
        self.series = ActiveSeries(self, asked, sink)
        return self.series

    def end_series(self) -> ActiveSeries | None:
        """Return the series if it has ended, and make room for the next."""
        series = self.series
        if series is None or not series.ended:
            return None
        self.series = None
        return series

    def start_search(
        self, search: Search, known: "Sequence[Seen]", sink: "SearchSink", runs: RunSink
    ) -> "ActiveSearch":
        """Begin a search for an edge, or go on with one; ``tick`` and ``end_run`` carry it on.

        Args:
            search: as its record tells it.
            known: what was seen on its chip before.
            sink: where its record is kept.
            runs: where its runs are kept.

        Raises:
            BadInput: a run, a series or a trial is in progress, or the axis cannot be set here.
            InUse: another process holds the machine.
            Denied: the rights of the person do not allow it.
        """
        from upright_bolt.session.edge_search import ActiveSearch  # noqa: PLC0415 - brings numpy along

        self._check_alone()
        self.search = ActiveSearch(self, search, known, sink, runs)
        return self.search

    def end_search(self) -> "ActiveSearch | None":
        """Return the search if this process has done with it, and make room for the next."""
        search = self.search
        if search is None or not search.ended:
            return None
        self.search = None
        return search

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
        self._profiles.tend(at_once=True)

    def close(self) -> str:
        """Stop a run, put back a trial that does not outlive this process, and let the machine go; once.

        Returns:
            A sentence if something could not be put back, else nothing.
        """
        for of_several in (self.series, self.search):
            if of_several is not None:
                of_several.stop()
        if self.run is not None:
            self.run.stop("the program was closed")
        if self.search is not None:
            self.search.let_go()
        self._awake.see("")
        return self.access.close()
