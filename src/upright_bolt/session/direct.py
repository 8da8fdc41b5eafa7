"""The machine in reach of this process itself, through its ports."""

from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from upright_bolt.errors import InUse
from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import Facts
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.surfaces import Surfaces
from upright_bolt.kernel.survey import refreshed, survey
from upright_bolt.model.control import CATALOGUE, Control, ControlState, Value, parts_of
from upright_bolt.model.machine import About, Missing
from upright_bolt.model.settings import Settings
from upright_bolt.model.trial import ApplyReport, Drift, Status, Trial
from upright_bolt.session.boot import BootStore
from upright_bolt.session.journal import Journal
from upright_bolt.session.lock import MachineLock
from upright_bolt.session.machine import Machine
from upright_bolt.session.reach import nothing
from upright_bolt.session.sampler import Sample, Sampler
from upright_bolt.session.trials import Trials

HELD = "Another process of this program holds this machine; change its settings there."


class DirectReach:
    """Reach of a process that reads and writes the kernel's files itself.

    Args:
        machine: its ports and clock.
        folder: where its journal and memory lie.
        holder: who this process is, for sentences and records.
        lock: held already by this process; None if another process has the machine, which makes this read-only.
        notes: gaps that are known before looking.
    """

    fastest_s = 0.05

    def __init__(
        self,
        machine: Machine,
        folder: Path,
        holder: str,
        lock: MachineLock | None,
        notes: tuple[Missing, ...] = (),
    ) -> None:
        self.trouble = ""
        self.while_waiting: Callable[[], None] = nothing
        self.machine = machine
        self._notes = notes
        self._holder = holder
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

    @property
    def closed(self) -> str:
        """Why nothing can be changed, or nothing."""
        return HELD if self._lock is None else ""

    @property
    def sampler(self) -> Sampler:
        """The sampler, its files opened at first use."""
        if self._sampler is None:
            machine = self.machine
            self._sampler = Sampler(machine.files, machine.registers, self.surveyed, machine.clock)
        return self._sampler

    @property
    def about(self) -> About:
        """What does not change."""
        found = self.surveyed
        return About(
            identity=found.identity,
            topology=found.topology,
            missing=self._notes + found.missing,
            sensors=tuple(self.sampler.sensors),
            ceiling_c=found.ceiling_c,
            base_mhz=found.base_mhz,
            highest_mhz=found.highest_mhz,
            turbo_table_mhz=found.turbo_table_mhz,
        )

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
            state, reason = ControlState.READ_ONLY, "Its present value cannot be read, so it could not be put back."
        stock = self._memory.stock.get(name, in_force)
        low, high = facts.minimum, self._highest(facts, stock)
        return Control(declared, low, high, declared.step, facts.choices, stock, in_force, state, reason)

    def _highest(self, facts: Facts, stock: Value | None) -> float | None:
        if facts.maximum is not None or facts.minimum is None:
            return facts.maximum
        if isinstance(stock, str):
            return max((float(part) for part in parts_of(stock)), default=None)
        known: list[Value | None] = [stock]
        if facts.spans_limits:
            known += [self._memory.stock.get(n, self._drivers[n].read()) for n in ("sustained", "burst")]
        return max((v for v in known if isinstance(v, float)), default=None)

    def in_force(self) -> dict[str, Value]:
        """Return every control that can be read, with its value."""
        return {name: v for name, driver in self._drivers.items() if (v := driver.read()) is not None}

    def sample(self) -> Sample:
        """Read every sensor once."""
        return self.sampler.sample()

    def status(self) -> Status:
        """Return the trial, what was kept, and what no longer holds."""
        drift = []
        for name, expected in self.trials.expected(self._memory.kept).items():
            driver = self._drivers.get(name)
            got = driver.read() if driver else None
            if driver is None or got is None or not driver.same(expected, got):
                drift.append(Drift(name, expected, got))
        return Status(self.trials.current, tuple(drift), dict(self._memory.kept))

    def try_settings(self, settings: Settings, *, standing: bool, by: str = "", owner: str = "") -> ApplyReport:
        """Put settings in force as a trial.

        Args:
            settings: what is asked.
            standing: the trial outlives this process.
            by: who asked, in words; this process if empty.
            owner: whose trial it is, where several share this process (see the service).

        Raises:
            BadInput: nothing was asked for.
            InUse: another process holds the machine.
        """
        self._writable()
        if not self._memory.stock:
            self._memory.stock = self.in_force()
            self._boots.save(self._memory)
        report = self.trials.try_out(settings, by or self._holder, standing=standing, owner=owner)
        self._changed()
        return report

    def keep(self) -> Trial:
        """End the trial and leave its settings in force until a restart. Raises BadInput or InUse."""
        self._writable()
        trial = self.trials.keep()
        self._memory.kept.update(trial.settings)
        self._boots.save(self._memory)
        self.machine.save()
        return trial

    def put_back(self, why: str = "asked for") -> Trial:
        """Put back what was in force before the trial. Raises BadInput, InUse or Refused."""
        self._writable()
        trial = self.trials.put_back(why)
        self._changed()
        return trial

    def _changed(self) -> None:
        """Take over what a change of settings may have moved: the ceiling and the turbo table."""
        self.surveyed = refreshed(self.surveyed, self.machine.files, self.machine.registers)
        if self._sampler is not None:
            self._sampler.use(self.surveyed)
        self.machine.save()

    def _writable(self) -> None:
        if self._lock is None:
            raise InUse(HELD)

    def _restarted(self) -> bool:
        """Tell whether the machine has restarted under this process, as a frozen twin does."""
        return self._boot_name() != self._memory.boot_id

    def _boot_name(self) -> str:
        return Probe(self.machine.files, self.machine.registers).text(paths.BOOT_ID) or "unknown"

    def close(self) -> str:
        """Put back a trial that does not outlive this process, and let the machine go; once."""
        trouble = ""
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
