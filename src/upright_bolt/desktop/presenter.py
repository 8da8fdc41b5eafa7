"""What the window shows of one machine, and what a person can ask of it. Knows no widget and no Qt."""

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime

from upright_bolt.analysis.compare import Compared, compare, finding
from upright_bolt.analysis.numbers import values_of
from upright_bolt.desktop.core_cards import CoreNow
from upright_bolt.desktop.engine import CALM_S, Door, Engine, Snapshot
from upright_bolt.desktop.history import History
from upright_bolt.desktop.holding import holding_words
from upright_bolt.desktop.records import Records
from upright_bolt.errors import BadInput
from upright_bolt.model.control import Control, Value
from upright_bolt.model.machine import About, Identity
from upright_bolt.model.quantity import COUNT, TIME
from upright_bolt.model.run import RunEnd, RunRecord, RunState
from upright_bolt.model.sensor import Sensor
from upright_bolt.model.settings import show_settings
from upright_bolt.model.sheet import sheet
from upright_bolt.model.trial import ApplyReport, Status
from upright_bolt.model.work import Options, Work, split_command
from upright_bolt.session.running import RunProgress
from upright_bolt.session.sampler import Sample
from upright_bolt.session.session import SAMPLE_S, Session
from upright_bolt.store.runs import RunStore


@dataclass(frozen=True, slots=True)
class Outline:
    """What does not change about the machine while the window is open."""

    word: str
    described: str
    about: About
    sensors: tuple[Sensor, ...]
    place: dict[str, int]
    cores: tuple[tuple[str, tuple[int, ...]], ...]
    ceiling_c: float | None
    highest_mhz: float | None
    no_load: str
    has_pace: bool
    can_plug: bool
    recovered: str

    @property
    def identity(self) -> Identity:
        """Who the machine is."""
        return self.about.identity


def outline_of(session: Session) -> Outline:
    """Read the outline; call it before the engine has the session."""
    about, machine = session.about, session.machine
    by_core: dict[tuple[int, int], list[int]] = {}
    for cpu, core in about.topology.core_of.items():
        by_core.setdefault(core, []).append(cpu)
    if not by_core:
        by_core = {(0, cpu): [cpu] for cpu in about.topology.cpus}
    return Outline(
        word=machine.word,
        described=machine.described,
        about=about,
        sensors=about.sensors,
        place=session.place,
        cores=tuple((str(core[1]), tuple(cpus)) for core, cpus in sorted(by_core.items())),
        ceiling_c=about.ceiling_c,
        highest_mhz=about.highest_mhz,
        no_load=machine.no_load,
        has_pace=machine.set_pace is not None,
        can_plug=machine.plug is not None,
        recovered=session.recovered,
    )


class Presenter:
    """The state behind the window.

    Attributes:
        draft: settings being edited, not in force.
        outcome: a sentence on what became of the last thing asked.
        runs: all runs, newest first.
        baseline_id: the run that others are compared with; None for none.
        last_run: the run that ended last in this window.
    """

    def __init__(
        self, outline: Outline, engine: Engine, door: Door, store: RunStore, controls: dict[str, Control]
    ) -> None:
        self.outline = outline
        self._engine = engine
        self._door = door
        self._store = store
        self.controls = controls
        self.status = Status(None)
        self.history = History(outline.place)
        self.draft: dict[str, Value] = {}
        self.outcome = outline.recovered
        self.progress: RunProgress | None = None
        self.runs: list[RunRecord] = []
        self.baseline_id: int | None = None
        self._baseline_chosen = False
        self.last_run: RunRecord | None = None
        self.sample: Sample | None = None
        self._calm = False
        self._listeners: list[Callable[[], None]] = []
        self._run_listeners: list[Callable[[], None]] = []
        self.records = Records(engine, door, store, self._say, self.load_runs)
        engine.snapshot.connect(self._take)
        engine.failed.connect(self._say)

    def on_change(self, listener: Callable[[], None]) -> None:
        """Call ``listener`` after every snapshot and every answer."""
        self._listeners.append(listener)

    def on_runs(self, listener: Callable[[], None]) -> None:
        """Call ``listener`` when the list of runs has changed."""
        self._run_listeners.append(listener)

    def let_go(self) -> None:
        """Tell nobody anything any more: what the engine has still sent finds no widgets."""
        self._listeners.clear()
        self._run_listeners.clear()

    def set_calm(self, *, calm: bool) -> None:
        """Sample more rarely and draw nothing while nobody looks; catch up once somebody does."""
        self._engine.period_s = CALM_S if calm else SAMPLE_S
        self._calm = calm
        if not calm:
            self._changed()

    def _changed(self) -> None:
        if self._calm:
            return
        for listener in self._listeners:
            listener()

    def _take(self, snapshot: Snapshot) -> None:
        self.history.add(snapshot.samples, snapshot.events)
        if snapshot.samples:
            self.sample = snapshot.samples[-1]
        self.progress = snapshot.progress
        if snapshot.controls is not None:
            self.controls = snapshot.controls
        if snapshot.status is not None:
            self.status = snapshot.status
        self.records.take_series(snapshot.series, snapshot.ended_series)
        if snapshot.ended_run is not None:
            self._run_ended(snapshot.ended_run)
        if snapshot.trouble:
            self.outcome = f"✕ {snapshot.trouble}"
        self._changed()

    def _say(self, sentence: str) -> None:
        self.outcome = sentence
        self._changed()

    # settings

    def draft_value(self, name: str, value: Value | None) -> None:
        """Draft a value of one control, or drop its draft."""
        if value is None or value == self.controls[name].in_force:
            self.draft.pop(name, None)
        else:
            self.draft[name] = value
        self._changed()

    def drop_draft(self) -> None:
        """Drop the whole draft."""
        self.draft = {}
        self._changed()

    def try_draft(self) -> None:
        """Put the draft in force as a trial of this window."""
        settings = dict(self.draft)
        self._engine.ask(lambda session: session.try_settings(settings, standing=False), self._tried, self._say)

    def _tried(self, report: ApplyReport) -> None:
        if report.ok:
            self.draft = {}
            nearest = [row.why for row in report.rows if row.why]
            self._say(" ".join(["In force as a trial, read back from the machine.", *nearest]))
        else:
            self._say("✕ " + report.sentence())

    def try_deliberate(self, name: str, value: Value) -> None:
        """Try one control by itself, after the person has confirmed it."""
        self._engine.ask(lambda session: session.try_settings({name: value}, standing=False), self._tried, self._say)

    def sheet(self) -> str:
        """Return the machine's sheet as text."""
        return sheet(self.outline.about, self.controls, self.status)

    def keep(self) -> None:
        """Keep what is being tried."""
        kept = "Kept until the machine restarts: "
        self._engine.ask(
            lambda session: session.keep(),
            lambda trial: self._say(kept + show_settings(trial.settings) + "."),
            self._say,
        )

    def put_back(self) -> None:
        """End the trial and put back what was in force before."""
        back = "Put back: "
        self._engine.ask(
            lambda session: session.put_back(),
            lambda trial: self._say(back + show_settings(trial.before_values) + "."),
            self._say,
        )

    # the machine

    def plug(self) -> None:
        """Plug a twin's charger in, or out."""
        charger = not self.on_charger
        self._engine.ask(lambda session: session.plug(charger=charger), lambda _: None, self._say)

    def set_pace(self, pace: float) -> None:
        """Let a twin's time run ``pace`` times as fast as real time."""

        def change(session: Session) -> None:
            if session.machine.set_pace is not None:
                session.machine.set_pace(pace)

        self._engine.ask(change, lambda _: None, self._say)

    @property
    def on_charger(self) -> bool | None:
        """Whether the charger is plugged in; None if the machine does not say."""
        place = self.outline.place.get("charger")
        value = self.sample.values[place] if self.sample is not None and place is not None else None
        return None if value is None else bool(value)

    def trial_age_s(self) -> float:
        """Return for how long the trial has been running: on the machine's own clock if it began in this window."""
        trial = self.status.trial
        if trial is None:
            return 0.0
        begun = [event.time_s for event in self.history.events if event.kind == "tried"]
        if begun and self.sample is not None and not trial.standing:
            return max(0.0, self.sample.time_s - begun[-1])
        return max(0.0, (datetime.now().astimezone() - datetime.fromisoformat(trial.since)).total_seconds())

    def cores_now(self) -> tuple[CoreNow, ...]:
        """Return every core's numbers of the moment."""
        if self.sample is None:
            return ()
        values, place = self.sample.values, self.outline.place

        def value(name: str) -> float | None:
            return values[place[name]] if name in place else None

        def mean(names: list[str]) -> float | None:
            known = [v for name in names if (v := value(name)) is not None]
            return sum(known) / len(known) if known else None

        return tuple(
            CoreNow(
                name,
                mean([f"clock.cpu{cpu}" for cpu in cpus]),
                mean([f"busy.cpu{cpu}" for cpu in cpus]),
                value(f"temperature.core{name}"),
            )
            for name, cpus in self.outline.cores
        )

    def holding_now(self) -> str:
        """Return what holds the clock back now, with what speaks for it."""
        if self.sample is None:
            return ""
        return holding_words(self.sample, self.outline.about, self.controls, self.history.held_since_s())

    # runs

    def start_run(
        self,
        workload: str,
        length: str,
        label: str,
        *,
        threads: str = "",
        command: str = "",
        pattern: str = "",
        times: int = 1,
    ) -> None:
        """Start a run, or several one after another; what was typed wrongly is said."""
        try:
            duration_s = TIME.parse(length, "Length")
            count = int(COUNT.parse(threads, "Threads")) if threads.strip() else None
            options = Options(split_command(command), pattern) if workload == "command" else Options()
        except BadInput as fault:
            self._say(f"✕ {fault}")
            return
        work = Work(workload, duration_s, count, options=options)
        if times > 1:
            self.records.start_repeats(work, label, times)
            return
        self._engine.ask(
            lambda session: session.start(work, label, self._store),
            lambda run: self._say(f"Run {run.id} has started."),
            lambda sentence: self._say(f"✕ {sentence}"),
        )

    def stop_run(self) -> None:
        """Stop the run in progress and keep what is there."""

        def stop(session: Session) -> None:
            if session.run is not None:
                session.run.stop()

        self._engine.ask(stop, lambda _: None, self._say)

    def _run_ended(self, run_id: int) -> None:
        def show(runs: list[RunRecord]) -> None:
            self.last_run = next((run for run in runs if run.id == run_id), None)
            self._take_runs(runs)
            if self.last_run is not None:
                end = self.last_run.end
                how = end.state.value + (f": {end.why}" if end.why else "")
                if end.state is not RunState.RUNNING and not self.last_run.head.series:
                    self._say(f"Run {run_id} is kept ({how}).")

        self._door.run(self._store.all, show, self._say)

    def load_runs(self) -> None:
        """Read the list of runs anew."""
        self._door.run(self._store.all, self._take_runs, self._say)

    def _take_runs(self, runs: list[RunRecord]) -> None:
        self.runs = runs
        if not self._baseline_chosen or all(run.id != self.baseline_id for run in runs):
            self.baseline_id = self._newest_at_stock(self.last_run.head.workload if self.last_run else "steady")
        for listener in self._run_listeners:
            listener()
        self._changed()

    def _newest_at_stock(self, workload: str) -> int | None:
        mine = [
            run
            for run in self.runs
            if run.head.machine == self.outline.word
            and run.head.workload == workload
            and run.end.state is RunState.FINISHED
        ]
        stock = {name: control.stock for name, control in self.controls.items() if control.stock is not None}
        alike = [run for run in mine if all(run.head.settings.get(name) == value for name, value in stock.items())]
        return alike[0].id if alike else None

    def set_baseline(self, run_id: int | None) -> None:
        """Choose what runs are compared with."""
        self.baseline_id = run_id
        self._baseline_chosen = True
        self._changed()

    @property
    def baseline(self) -> RunRecord | None:
        """The baseline run."""
        return next((run for run in self.runs if run.id == self.baseline_id), None)

    def against_baseline(self) -> tuple[Compared | None, str]:
        """Return the run in progress, or the last one, beside the baseline, and the finding in words."""
        run = self._shown_run()
        baseline = self.baseline
        if run is None:
            return None, ""
        if baseline is None or baseline.id == run.id:
            return Compared(run, values_of(run)), ""
        row = compare([run], baseline, self.runs)[0]
        words = " ".join([finding(row, baseline), *(("Unlike:", *row.unlike) if row.unlike else ())])
        return row, "" if self.progress is not None else words

    def _shown_run(self) -> RunRecord | None:
        progress = self.progress
        if progress is None or (self.last_run is not None and self.last_run.id == progress.run_id):
            return self.last_run
        end = RunEnd(RunState.RUNNING, "", progress.elapsed_s, progress.score, progress.numbers)
        return RunRecord(progress.run_id, progress.head, end)

    def telemetry(self, run_ids: list[int], on_result: Callable[[object], None]) -> None:
        """Read the telemetry of runs in the background."""
        self._door.run(lambda: {run_id: self._store.telemetry(run_id) for run_id in run_ids}, on_result, self._say)

    def reckon(self, work: Callable[[], object], on_result: Callable[[object], None]) -> None:
        """Work something out in the background."""
        self._door.run(work, on_result, self._say)

    def delete_run(self, run_id: int) -> None:
        """Delete a run."""

        def work() -> list[RunRecord]:
            self._store.delete(run_id)
            return self._store.all()

        self._door.run(work, self._take_runs, self._say)
