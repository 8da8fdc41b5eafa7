"""A session: one machine in use by one process. Everything the window and the command line do goes through here."""

import uuid
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace

from upright_bolt.errors import BadInput, InUse
from upright_bolt.model.control import Control, Value
from upright_bolt.model.machine import About
from upright_bolt.model.run import Conditions, RunEvent, RunHead
from upright_bolt.model.settings import Settings, show_settings
from upright_bolt.model.trial import ApplyReport, Status, Trial
from upright_bolt.model.work import Options, Work, check_options
from upright_bolt.session.bystanders import Bystanders
from upright_bolt.session.direct import now_stamp
from upright_bolt.session.machine import Machine
from upright_bolt.session.numbers import held_columns
from upright_bolt.session.reach import Reach
from upright_bolt.session.running import ActiveRun, Phase, RunSink
from upright_bolt.session.sampler import Sample
from upright_bolt.session.series import ActiveSeries, Step
from upright_bolt.session.watch import Watcher
from upright_bolt.workload.load import Task, choose_cpus

SAMPLE_S = 0.5
LONGEST_RUN_S = 24 * 3600.0
SHORTEST_RUN_S = 5.0
PLAIN = Options()
BUSY = "A run is in progress; stop it or wait for its end."


@dataclass(frozen=True, slots=True)
class Tick:
    """One step of a session: the sample, and what happened since the last."""

    sample: Sample
    events: tuple[RunEvent, ...]


class Session:
    """One machine in use.

    Args:
        machine: its clock and what can work on it.
        reach: reads and sets it.
    """

    def __init__(self, machine: Machine, reach: Reach) -> None:
        self.machine = machine
        self.reach = reach
        self.about: About = reach.about
        self.place = self.about.place
        self._watcher = Watcher(self.place)
        self._events: list[RunEvent] = []
        self._last: Sample | None = None
        self._trouble = ""
        self.run: ActiveRun | None = None
        self.series: ActiveSeries | None = None

    @property
    def recovered(self) -> str:
        """What was done about a trial that an earlier process left, as a sentence; empty if nothing."""
        return self.reach.recovered

    def controls(self) -> dict[str, Control]:
        """Return every control of the catalogue as it stands on this machine."""
        return self.reach.controls()

    def in_force(self) -> dict[str, Value]:
        """Return every control that can be read, with its value."""
        return self.reach.in_force()

    def status(self) -> Status:
        """Return the trial, what was kept, and what no longer holds."""
        return self.reach.status()

    def tick(self) -> Tick:
        """Take a sample and let a run in progress go on."""
        sample = self._last = self.reach.sample()
        self._events += self._watcher.observe(sample)
        self._take_slips()
        if self.reach.trouble != self._trouble:
            self._trouble = self.reach.trouble
            self._note("service", self._trouble or "The root service answers again")
        events, self._events = self._events, []
        if self.run is not None:
            self.run.tick(sample, events)
        elif self.series is not None:
            self.series.take(sample)
        return Tick(sample, tuple(events))

    def _take_slips(self) -> None:
        for slip in self.machine.clock.slips():
            self._note("slept" if slip.slept else "clock", slip.show())
            if slip.slept and self.run is not None:
                self.run.fail(f"{slip.show()} in the middle of the run; what came before is kept.")

    def end_run(self) -> ActiveRun | None:
        """Return the run if it has ended, and make room for the next."""
        run = self.run
        if run is None or run.phase is not Phase.ENDED:
            return None
        self.run = None
        self._note("run", f"Run {run.id} ended")
        if self.series is not None:
            self.series.take_ended(run)
        self.machine.save()
        return run

    def start(self, work: Work, label: str, sink: RunSink, series: str = "") -> ActiveRun:
        """Begin a run of some work; see ``start_run``."""
        return self.start_run(
            work.workload, work.duration_s, label, sink, series,
            threads=work.threads, kind=work.kind, options=work.options,
        )  # fmt: skip

    def start_series(self, steps: Sequence[Step], work: Work, sink: RunSink, cool_c: float | None) -> ActiveSeries:
        """Begin several runs, one after another; ``tick`` and ``end_run`` carry them on.

        Raises:
            BadInput: a run, a series or a trial is in progress, or the temperature to wait for is not measured.
            InUse: another process holds the machine.
        """
        if self.reach.closed:
            raise InUse(self.reach.closed)
        if self.run is not None or self.series is not None:
            raise BadInput(BUSY)
        self.series = ActiveSeries(self, steps, work, sink, cool_c)
        return self.series

    def end_series(self) -> ActiveSeries | None:
        """Return the series if it has ended, and make room for the next."""
        series = self.series
        if series is None or not series.ended:
            return None
        self.series = None
        return series

    def _note(self, kind: str, text: str) -> None:
        self._events.append(RunEvent(self.machine.clock.now_s(), kind, text))

    def try_settings(self, settings: Settings, *, standing: bool) -> ApplyReport:
        """Put settings in force as a trial. Raises BadInput, InUse or Refused; a machine's no is in the report."""
        report = self.reach.try_settings(settings, standing=standing)
        self._changed("tried", f"Tried {show_settings(settings)}" if report.ok else "Trial refused")
        return report

    def keep(self) -> Trial:
        """End the trial and leave its settings in force until a restart. Raises BadInput, InUse or Refused."""
        trial = self.reach.keep()
        self._changed("kept", f"Kept {show_settings(trial.settings)}")
        return trial

    def put_back(self, why: str = "asked for") -> Trial:
        """Put back what was in force before the trial. Raises BadInput, InUse or Refused."""
        trial = self.reach.put_back(why)
        self._changed("put back", f"Put back {show_settings(trial.before_values)}")
        return trial

    def _changed(self, kind: str, text: str) -> None:
        self._watcher.forget_limits()
        self._note(kind, text)

    def start_run(
        self,
        workload: str,
        duration_s: float,
        label: str,
        sink: RunSink,
        series: str = "",
        *,
        threads: int | None = None,
        kind: str = "",
        options: Options = PLAIN,
    ) -> ActiveRun:
        """Begin a run; ``tick`` carries it on.

        Args:
            workload: its name.
            duration_s: time under load.
            label: a name for the run.
            sink: where it is kept.
            series: shared by runs that are repeats of each other.
            threads: processors to keep busy; None for all.
            kind: a kind of core; empty for any.
            options: what else is asked of the workload.

        Raises:
            BadInput: nothing can run here, or not this; no such workload, length, number of threads or kind of core.
            InUse: another process holds the machine.
        """
        if self.reach.closed:
            raise InUse(self.reach.closed)
        if self.run is not None:
            raise BadInput(BUSY)
        if not SHORTEST_RUN_S <= duration_s <= LONGEST_RUN_S:
            raise BadInput(f"A run lasts from {SHORTEST_RUN_S:.0f} s to 24 h; {duration_s:g} s is outside that.")
        check_options(workload, options)
        cpus = choose_cpus(self.about.topology, workload, threads, kind)
        load = self.machine.load(Task(workload, cpus, options))
        if workload == "battery" and (why := self._no_drain()):
            raise BadInput(why)
        settings = self.in_force()
        head = replace(
            self._head(settings, kind, len(cpus) if load.scores else None),
            workload=workload,
            label=label,
            asked_s=duration_s,
            series=series,
            options=options,
        )
        beside = Bystanders(self.machine.files, self.about.topology)
        hindered = self._plugged_in if workload == "battery" else _never
        self.run = ActiveRun(head, load, sink, self.place, self.machine.clock.now_s(), beside, hindered)
        self._note("run", f"Run {self.run.id} started")
        return self.run

    def _head(self, settings: dict[str, Value], kind: str, threads: int | None) -> RunHead:
        """Return what is known of a run by the machine alone; the rest is filled in by who starts it."""
        identity = self.about.identity
        trial = self.status().trial
        return RunHead(
            machine=self.machine.word,
            identity=asdict(identity),
            workload="",
            label="",
            asked_s=0.0,
            settings=settings,
            tried=dict(trial.settings) if trial else {},
            conditions=Conditions(
                power_source=self._power_source(),
                platform_mode=str(settings.get("platform-mode", "")),
                kernel=identity.kernel,
                threads=threads,
                core_kind=kind,
            ),
            started_at=now_stamp(),
            columns=(
                *(sensor.name for sensor in self.about.sensors),
                *held_columns([name for name, _ in self.about.topology.kinds]),
            ),
            key=uuid.uuid4().hex,
        )

    def _no_drain(self) -> str:
        """Return why the battery's drain cannot be measured now, as a sentence; empty if it can."""
        place = self.place.get("battery.drain")
        if place is None:
            return "This machine has no battery whose drain could be measured."
        sample = self.tick().sample
        return self._plugged_in(sample, "; pull its plug, then start the run")

    def _plugged_in(self, sample: Sample, advice: str = "") -> str:
        place = self.place.get("charger")
        plugged = place is not None and sample.values[place]
        return f"The charger is plugged in, so the battery does not drain{advice}." if plugged else ""

    def _power_source(self) -> str:
        place = self.place.get("charger")
        sample = self._last or self.tick().sample
        value = sample.values[place] if place is not None else None
        return "" if value is None else ("charger" if value else "battery")

    def plug(self, *, charger: bool) -> None:
        """Plug a twin's charger in or out. Raises BadInput on a real machine."""
        if self.machine.plug is None:
            raise BadInput("Only a twin's charger can be plugged by a program.")
        if self.reach.closed:
            raise InUse(self.reach.closed)
        self.machine.plug(charger)

    def close(self) -> str:
        """Stop a run, put back a trial that does not outlive this process, and let the machine go; once.

        Returns:
            A sentence if something could not be put back, else nothing.
        """
        if self.series is not None:
            self.series.stop()
        if self.run is not None:
            self.run.stop("the program was closed")
        return self.reach.close()


def _never(_sample: Sample) -> str:
    return ""
