"""A session: one machine in use by one process. Everything the window and the command line do goes through here."""

from dataclasses import asdict, dataclass
from datetime import datetime
from pathlib import Path

from upright_bolt.errors import BadInput, InUse
from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import Facts
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.surfaces import Surfaces
from upright_bolt.kernel.survey import survey
from upright_bolt.model.control import CATALOGUE, Control, ControlState, Value
from upright_bolt.model.run import Conditions, RunEvent, RunHead
from upright_bolt.model.settings import Settings, show_settings
from upright_bolt.model.trial import ApplyReport, Drift, Status, Trial
from upright_bolt.session.boot import BootStore
from upright_bolt.session.journal import Journal
from upright_bolt.session.lock import MachineLock
from upright_bolt.session.machine import Machine
from upright_bolt.session.numbers import HELD_BY
from upright_bolt.session.running import ActiveRun, Phase, RunSink
from upright_bolt.session.sampler import Sample, Sampler
from upright_bolt.session.trials import Trials
from upright_bolt.session.watch import Watcher

SAMPLE_S = 0.5
LONGEST_RUN_S = 24 * 3600.0
SHORTEST_RUN_S = 5.0


@dataclass(frozen=True, slots=True)
class Tick:
    """One step of a session: the sample, and what happened since the last."""

    sample: Sample
    events: tuple[RunEvent, ...]


class Session:
    """One machine in use.

    Args:
        machine: its ports and clock.
        folder: where its journal and memory lie.
        holder: who this process is, for sentences and records.
        lock: held already by this process; None if another process has the machine, which makes the session
            read-only.

    Attributes:
        recovered: a sentence on what was done about a trial that an earlier process left; empty if none.
    """

    def __init__(self, machine: Machine, folder: Path, holder: str, lock: MachineLock | None) -> None:
        self.machine = machine
        self.holder = holder
        self._lock = lock
        self.surveyed = survey(machine.files, machine.registers, machine.word)
        self._drivers = self.surveyed.controls
        boot_id = self._boot_name()
        self._boots = BootStore(folder / "boot.json")
        self._memory = self._boots.load(boot_id)
        self.trials = Trials(
            self._drivers, Surfaces(machine.files, machine.registers), Journal(folder / "journal.jsonl"),
            self.controls, now_stamp, boot_id, self.surveyed.base_mhz,
        )  # fmt: skip
        self.recovered = self.trials.recover() if lock is not None else ""
        self._sampler: Sampler | None = None
        self._watcher: Watcher | None = None
        self._events: list[RunEvent] = []
        self._last: Sample | None = None
        self.run: ActiveRun | None = None

    @property
    def read_only(self) -> bool:
        """Whether another process holds the machine."""
        return self._lock is None

    @property
    def sampler(self) -> Sampler:
        """The sampler, its files opened at first use."""
        if self._sampler is None:
            self._sampler = Sampler(self.machine.files, self.machine.registers, self.surveyed, self.machine.clock)
            self._watcher = Watcher(self._sampler.place)
        return self._sampler

    def controls(self) -> dict[str, Control]:
        """Return every control of the catalogue as it stands on this machine."""
        return {name: self._control(name) for name in CATALOGUE}

    def _control(self, name: str) -> Control:
        declared = CATALOGUE[name]
        driver = self._drivers.get(name)
        if driver is None:
            why = self.surveyed.absent.get(name, "This machine does not offer it.")
            return Control(declared, None, None, declared.step, (), None, None, ControlState.ABSENT, why)
        facts = driver.facts()
        in_force = driver.read()
        state, reason = facts.state, facts.reason
        if in_force is None and state is ControlState.SETTABLE:
            state, reason = (
                ControlState.READ_ONLY,
                "Its present value cannot be read, so it could not be put back.",
            )
        stock = self._memory.stock.get(name, in_force)
        low, high = facts.minimum, self._highest(facts, stock)
        return Control(declared, low, high, declared.step, facts.choices, stock, in_force, state, reason)

    def _highest(self, facts: Facts, stock: Value | None) -> float | None:
        if facts.maximum is not None or facts.minimum is None:
            return facts.maximum
        known = [self._memory.stock.get(name, self._drivers[name].read()) for name in ("sustained", "burst")]
        return max((v for v in (*known, stock) if isinstance(v, float)), default=None)

    def tick(self) -> Tick:
        """Take a sample and let a run in progress go on."""
        sampler = self.sampler
        sample = self._last = sampler.sample()
        if self._watcher is not None:
            self._events += self._watcher.observe(sample)
        events, self._events = self._events, []
        if self.run is not None:
            self.run.tick(sample, events)
        return Tick(sample, tuple(events))

    def end_run(self) -> ActiveRun | None:
        """Return the run if it has ended, and make room for the next."""
        run = self.run
        if run is None or run.phase is not Phase.ENDED:
            return None
        self.run = None
        self._note("run", f"Run {run.id} ended")
        self.machine.save()
        return run

    def _note(self, kind: str, text: str) -> None:
        self._events.append(RunEvent(self.machine.clock.now_s(), kind, text))

    def _writable(self) -> None:
        if self.read_only:
            raise InUse("Another process of this program holds this machine; change its settings there.")

    def try_settings(self, settings: Settings, *, standing: bool) -> ApplyReport:
        """Put settings in force as a trial. Raises BadInput or InUse; a refusal is in the report."""
        self._writable()
        if not self._memory.stock:
            self._memory.stock = self.in_force()
            self._boots.save(self._memory)
        report = self.trials.try_out(settings, self.holder, standing=standing)
        self._changed("tried", f"Tried {show_settings(settings)}" if report.ok else "Trial refused")
        return report

    def keep(self) -> Trial:
        """End the trial and leave its settings in force until a restart. Raises BadInput or InUse."""
        self._writable()
        trial = self.trials.keep()
        self._memory.kept.update(trial.settings)
        self._boots.save(self._memory)
        self._changed("kept", f"Kept {show_settings(trial.settings)}")
        return trial

    def put_back(self, why: str = "asked for") -> Trial:
        """Put back what was in force before the trial. Raises BadInput, InUse or Refused."""
        self._writable()
        trial = self.trials.put_back(why)
        self._changed("put back", f"Put back {show_settings(trial.before_values)}")
        return trial

    def _changed(self, kind: str, text: str) -> None:
        if self._watcher is not None:
            self._watcher.forget_limits()
        self._note(kind, text)
        self.machine.save()

    def in_force(self) -> dict[str, Value]:
        """Return every control that can be read, with its value."""
        return {name: v for name, driver in self._drivers.items() if (v := driver.read()) is not None}

    def status(self) -> Status:
        """Return the trial, what was kept, and what no longer holds."""
        drift = []
        for name, expected in self.trials.expected(self._memory.kept).items():
            driver = self._drivers.get(name)
            got = driver.read() if driver else None
            if driver is None or got is None or not driver.same(expected, got):
                drift.append(Drift(name, expected, got))
        return Status(self.trials.current, tuple(drift), dict(self._memory.kept))

    def start_run(self, workload: str, duration_s: float, label: str, sink: RunSink) -> ActiveRun:
        """Begin a run; ``tick`` carries it on.

        Raises:
            BadInput: nothing can run here, no such workload, or a length out of range.
            InUse: another process holds the machine.
        """
        self._writable()
        if self.run is not None:
            raise BadInput("A run is in progress; stop it or wait for its end.")
        if not SHORTEST_RUN_S <= duration_s <= LONGEST_RUN_S:
            raise BadInput(f"A run lasts from {SHORTEST_RUN_S:.0f} s to 24 h; {duration_s:g} s is outside that.")
        load = self.machine.load(workload)
        sampler = self.sampler
        identity = self.surveyed.identity
        trial = self.trials.current
        in_force = self.in_force()
        head = RunHead(
            machine=self.machine.word,
            identity=asdict(identity),
            workload=workload,
            label=label,
            asked_s=duration_s,
            settings=in_force,
            tried=dict(trial.settings) if trial else {},
            conditions=Conditions(
                power_source=self._power_source(),
                platform_mode=str(in_force.get("platform-mode", "")),
                kernel=identity.kernel,
            ),
            started_at=now_stamp(),
            columns=(*(sensor.name for sensor in sampler.sensors), HELD_BY),
        )
        self.run = ActiveRun(head, load, sink, sampler.place, self.machine.clock.now_s())
        self._note("run", f"Run {self.run.id} started")
        return self.run

    def _power_source(self) -> str:
        place = self.sampler.place.get("charger")
        sample = self._last or self.tick().sample
        value = sample.values[place] if place is not None else None
        return "" if value is None else ("charger" if value else "battery")

    def plug(self, *, charger: bool) -> None:
        """Plug a twin's charger in or out. Raises BadInput on a real machine."""
        if self.machine.plug is None:
            raise BadInput("Only a twin's charger can be plugged by a program.")
        self._writable()
        self.machine.plug(charger)

    def _restarted(self) -> bool:
        """Tell whether the machine has restarted under this session, as a frozen twin does."""
        return self._boot_name() != self._memory.boot_id

    def _boot_name(self) -> str:
        return Probe(self.machine.files, self.machine.registers).text(paths.BOOT_ID) or "unknown"

    def close(self) -> str:
        """Stop a run, put back a trial that does not outlive this process, and let the machine go; once.

        Returns:
            A sentence if something could not be put back, else nothing.
        """
        trouble = ""
        if self.run is not None:
            self.run.stop("the program was closed")
        if self._lock is not None:
            trial = self.trials.current
            if self._restarted():
                self.trials.ended_by_restart()
            elif trial is not None and not trial.standing:
                try:
                    self.put_back("the program was closed")
                except Exception as fault:  # noqa: BLE001 - whatever it is, the rest must still be let go
                    trouble = str(fault)
            self.machine.save()
            self._lock.release()
            self._lock = None
        self.machine.files.close()
        self.machine.registers.close()
        return trouble


def now_stamp() -> str:
    """Return the present date and time with zone, to the second."""
    return datetime.now().astimezone().isoformat(timespec="seconds")
