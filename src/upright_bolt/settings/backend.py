"""The backend: one machine surveyed, read, sampled and written through its ports. It decides nothing."""

import errno
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from contextlib import suppress
from dataclasses import replace

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import CanBeCapped, Capped, ControlDriver, Recalls
from upright_bolt.kernel.gpu.memory import GpuMemory
from upright_bolt.kernel.identity import read_boot_id
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.ports import SLEEPS, OverlaidFiles
from upright_bolt.kernel.sensors.channels import Supplies
from upright_bolt.kernel.survey import refreshed, survey
from upright_bolt.model.catalogue import CATALOGUE, beside, declaration_of, part_of, unsafe_direction_of
from upright_bolt.model.control import ControlState, Value
from upright_bolt.model.machine import About
from upright_bolt.model.note import Diagnostic, Subject
from upright_bolt.model.sample import Sample
from upright_bolt.settings.presence import Presence
from upright_bolt.settings.sensor_sampler import Sensing

FIRST_LOOK_S = 0.002
"""Time to the second look at a value that has just been written; each later one waits twice as long."""
RESTORE_ROUNDS = 4
"""Files depend on each other (lowest below highest, preference under a governor): each round may free another."""
OFFLINE = (errno.EBUSY, errno.ENOENT, errno.ENODEV, errno.ENXIO)
"""What the kernel says of the files of a processor that is offline."""
LIMITER = "limiter"
"""The control that says whether power limits hold at all."""


def _nothing() -> None:
    """Do nothing."""


def _capped_files(drivers: Mapping[str, ControlDriver]) -> dict[str, Capped]:
    capped = [driver for driver in drivers.values() if isinstance(driver, CanBeCapped)]
    return {path: file for driver in capped for path, file in driver.capped_files().items()}


class Backend:
    """One machine within reach of this process.

    Args:
        ports: its files, registers and clock.
        gaps: what is known to be missing before looking.

    Attributes:
        drivers: by full control name, in the order in which they are written.
        absent: why, for every control of the whole machine that it lacks.
        pending_restores: texts by kernel file that could not be reverted yet, since their processor is offline or
            their GPU sleeps.
        on_processors: called when processors have come or gone.
    """

    def __init__(self, ports: MachinePorts, gaps: tuple[Diagnostic, ...] = ()) -> None:
        self._ports = ports
        self._gaps = gaps
        self._memories: dict[str, GpuMemory] = {}
        found = survey(ports.files, ports.registers, ports.spec, self._memories)
        self._sensing = Sensing(ports, found)
        self._about: About | None = None
        self._surveys = 0
        self._registers = found.registers
        self._files = found.files
        self._presence = Presence(ports.files)
        self._presence.note()
        self.pending_restores: dict[str, str] = {}
        self.on_processors: Callable[[], None] = _nothing
        self.drivers: Mapping[str, ControlDriver] = found.controls
        self._capped = _capped_files(found.controls)
        self._sensing.limits = replace(found.limits, enforced=self._enforced())
        self.absent: Mapping[str, Diagnostic] = found.absent

    @property
    def beyond(self) -> Diagnostic | None:
        """Why what others with more rights do here cannot be seen; None if it can."""
        return next((gap for gap in self._gaps if gap.about == Subject.ROOT_SERVICE), None)

    @property
    def base_mhz(self) -> float | None:
        """The base clock; None if unknown."""
        return self._sensing.surveyed.base_mhz

    @property
    def about(self) -> About:
        """What does not change; another object once graphics chips have come or gone."""
        if self._about is None:
            found, limits = self._sensing.surveyed, self._sensing.limits
            self._about = About(
                identity=found.identity,
                topology=found.topology,
                gaps=self._gaps + found.gaps,
                sensors=self._sensing.sensors,
                ceiling_c=limits.ceiling_c,
                base_mhz=found.base_mhz,
                highest_mhz=limits.highest_mhz,
                turbo_table_mhz=limits.turbo_table_mhz,
                chips=found.chips,
                survey=self._surveys,
            )
        return self._about

    def asleep_s(self) -> float:
        """Return for how long the machine has slept in this boot."""
        return self._ports.clock.asleep_s()

    def boot_id(self) -> str:
        """Return the name of the present boot."""
        return read_boot_id(self._ports.files) or "unknown"

    def sample(self) -> Sample:
        """Read every sensor once."""
        return self._sensing.sample()

    def power_source(self) -> str:
        """Return "charger" or "battery"; empty if the machine does not say."""
        for channel in self._sensing.surveyed.channels:
            if isinstance(channel, Supplies):
                states = [n for path in channel.chargers if (n := self._number(path)) is not None]
                return ("charger" if max(states) else "battery") if states else ""
        return ""

    def _number(self, path: str) -> int | None:
        try:
            return int(self._files.read(path))
        except (FileFault, ValueError):
            return None

    def names(self) -> tuple[str, ...]:
        """Return the full name of every control: those of the catalogue, and those of parts that are there."""
        of_parts = [name for name in self.drivers if name not in CATALOGUE]
        return (*(name for name, declared in CATALOGUE.items() if not declared.of_part), *sorted(of_parts, key=part_of))

    def values(self, names: Iterable[str] | None = None) -> dict[str, Value]:
        """Return what is in force of ``names``, or of every control; what cannot be read is left out."""
        wanted = self.drivers if names is None else [name for name in names if name in self.drivers]
        return {name: value for name in wanted if (value := self.drivers[name].read()) is not None}

    def text(self, path: str) -> str:
        """Return a file's text, stripped. Raises FileFault."""
        return self._files.read(path).decode("ascii", "replace").strip()

    def holds(self, path: str, text: str) -> bool:
        """Tell whether a file holds a text, as far as a cap of the firmware's lets it."""
        try:
            held = self.text(path)
        except FileFault:
            return False
        capped = self._capped.get(path)
        return held == text or (capped is not None and capped.holds(text, held))

    def shows(self, path: str, text: str) -> bool:
        """Tell whether a file shows a text."""
        try:
            return self.text(path) == text
        except FileFault:
            return False

    def write(self, path: str, text: str) -> None:
        """Write a file. Raises FileFault."""
        self._files.write(path, text.encode())

    def _looks(self) -> Iterator[None]:
        """Yield at once, and again after growing waits, for as long as this machine may take to show a value."""
        clock = self._ports.clock
        # Firmware and drivers take values over in their own time: a read at once may still show the value before.
        until, step = clock.now_s() + self._ports.settle_s, FIRST_LOOK_S
        yield
        while (now := clock.now_s()) < until:
            clock.wait_until(min(until, now + step))
            step *= 2.0
            yield

    def read_back(self, name: str, asked: Value) -> Value | None:
        """Return what a control reads after a write, as soon as it is what was asked; else what it reads in the end."""
        driver = self.drivers[name]
        got: Value | None = None
        for _ in self._looks():
            got = driver.read()
            # Only an equal value ends the wait early. A different one may still be on its way.
            if got is not None and driver.same(asked, got):
                break
        return got

    def touched_by(self, names: Iterable[str]) -> list[str]:
        """Return ``names`` and every control of this machine that it may change along with them, in writing order."""
        # A platform mode may move the power limits, turbo the highest clock: what moves along has to be reverted as
        # well.
        touched = set(names)
        for name in tuple(touched):
            touched.update(beside(name, other) for other in declaration_of(name).changes)
        return [name for name in self.drivers if name in touched]

    def snapshot(self, names: Iterable[str], ours: Mapping[str, Value] | None = None) -> dict[str, str]:
        """Return the text to put back to every file that setting ``names`` may change.

        It is what the file shows, unless a cap of the firmware's hides what was chosen: then it is what this program
        has put there, or the machine's highest.

        Args:
            names: controls that will be set.
            ours: what this program has put in force and keeps there.

        Raises:
            FileFault: a file cannot be read, so it could not be put back.
        """
        texts = self.texts(self.touched_by(names))
        # While firmware caps a clock, its file shows the cap. Putting that back later would freeze the cap in for good.
        hidden = self._hidden(texts)
        if hidden and ours:
            planned = [
                w for name, value in ours.items() if name in self.drivers for w in self.drivers[name].plan(value)
            ]
            hidden |= {write.path: write.text for write in planned if write.path in hidden}
        return texts | hidden

    def _hidden(self, texts: Mapping[str, str]) -> dict[str, str]:
        """Return what has to be put back to those files that show a cap in place of what was chosen."""
        chosen = {path: self._capped[path].chosen(text) for path, text in texts.items() if path in self._capped}
        return {path: text for path, text in chosen.items() if text != texts[path]}

    def chosen(self, name: str) -> Value | None:
        """Return what was chosen of a control that can be capped, or what it reads; None if it cannot be read."""
        driver = self.drivers[name]
        return driver.chosen() if isinstance(driver, CanBeCapped) else driver.read()

    def texts(self, names: Iterable[str]) -> dict[str, str]:
        """Return the present text of every file of the named controls. Raises FileFault."""
        return {path: self.text(path) for name in names for path in self.drivers[name].files}

    def drivers_over(self, texts: Mapping[str, str]) -> Mapping[str, ControlDriver]:
        """Return drivers that read ``texts`` where those name their files, else the machine; they cannot write."""
        over = OverlaidFiles(self._files, {path: text.encode() for path, text in texts.items()})
        return survey(over, self._ports.registers, self._ports.spec).controls

    def look_at_processors(self) -> None:
        """Take over which processors are there now, if those have changed, and tell if what was gone is there again."""
        if self.processors_moved:
            self.processors_changed()
        elif self.pending_restores and not all(self.is_gone(path) for path in self.pending_restores):
            self.on_processors()

    @property
    def processors_moved(self) -> bool:
        """Whether processors or graphics chips have come or gone that have not been taken over yet."""
        return self._presence.has_changed()

    def offline(self) -> frozenset[int]:
        """Return the processors that are there and offline, and those whose clocks cannot be read yet."""
        return self._presence.offline()

    def offline_files(self, name: str, files: Iterable[str]) -> list[str]:
        """Return which of some files a control will have again once their processor is back."""
        driver = self.drivers[name]
        # The driver knows no files of a processor that is offline. They are those of its other processors with another
        # number.
        alike = {paths.without_numbers(path) for path in driver.files if path.startswith(paths.CPU)}
        known = [path for path in files if paths.without_numbers(path) in alike and path not in driver.files]
        return [path for path in known if self.is_gone(path)]

    def why_closed(self, files: Collection[str]) -> Diagnostic | None:
        """Return why files cannot be written, as far as one of their controls tells."""
        concerned = [driver for driver in self.drivers.values() if not set(files).isdisjoint(driver.files)]
        facts = [driver.facts() for driver in concerned]
        return next((each.note for each in facts if each.state is not ControlState.SETTABLE and each.note), None)

    @property
    def declared(self) -> set[str]:
        """The files of all controls that there are now."""
        return {path for driver in self.drivers.values() for path in driver.files}

    def processors_changed(self) -> None:
        """Take over which processors and graphics chips are there now, and tell if what was gone is there again."""
        self.survey_anew()
        self.on_processors()

    def survey_anew(self) -> None:
        """Take over the files of controls, which come and go with processors and graphics chips.

        Sensors keep their places; those of a new chip come after them.
        """
        self._presence.note()
        found = survey(self._ports.files, self._ports.registers, self._ports.spec, self._memories)
        self.drivers, self.absent, self._files = found.controls, found.absent, found.files
        self._capped = _capped_files(found.controls)
        if self._sensing.update_machine(found):
            self._about, self._surveys = None, self._surveys + 1

    def watch_chips(self, *, closely: bool) -> None:
        """Read graphics chips at every sample while a run works on one, though it may do nothing at the moment."""
        for memory in self._memories.values():
            memory.autosuspend.worked = closely

    def is_gone(self, path: str) -> bool:
        """Tell whether a file belongs to a processor that is offline, or to a chip that sleeps or was unplugged."""
        try:
            self.text(path)
        except FileFault as fault:
            offline = path.startswith(paths.CPU) and fault.errno in OFFLINE
            return offline or fault.errno == SLEEPS or self._unplugged(path)
        return False

    def _unplugged(self, path: str) -> bool:
        """Tell whether the device that a file belongs to is not there any more."""
        for base in paths.OF_GRAPHICS:
            if path.startswith(base):
                device = path.removeprefix(base).partition("/")[0]
                return not self._ports.files.exists(f"{base}{device}")
        return False

    def files_of(self, name: str) -> tuple[str, ...]:
        """Return the files of a control; none if it has gone with its processors."""
        driver = self.drivers.get(name)
        return () if driver is None else tuple(driver.files)

    def is_asleep(self, name: str) -> bool:
        """Tell whether a control belongs to a chip that sleeps: what it holds shows only once that wakes."""
        driver = self.drivers.get(name)
        return driver is not None and driver.asleep()

    def restore(self, before: Mapping[str, str]) -> tuple[str, ...]:
        """Write the files' earlier texts, and return the files that do not hold them in the end.

        Every file is written in the first round, whatever it reads: a value asked for before may still be on its way
        into force. What goes further from stock comes last: together, offsets are never deeper than before or after. A
        write that fails may pass in a later round. What belongs to an offline processor stays pending, as the kernel
        keeps what was set there and applies it again once the processor is back. So does what belongs to a GPU that
        sleeps, since nothing is written there without waking it.
        """
        gone = {path: text for path, text in before.items() if self.is_gone(path)}
        self.pending_restores = {
            path: text for path, text in self.pending_restores.items() if path not in before
        } | gone
        before = {path: text for path, text in before.items() if path not in gone}
        left = sorted(before, key=lambda path: self._goes_deeper(path, before[path]))
        for _ in range(RESTORE_ROUNDS):
            for path in left:
                try:
                    self.write(path, before[path])
                except FileFault:
                    continue
            for _ in self._looks():
                left = [path for path, text in before.items() if not self.holds(path, text)]
                if not left:
                    return ()
        return tuple(left)

    def _goes_deeper(self, path: str, text: str) -> bool:
        """Tell whether a text takes a control that can fail further from stock."""
        unsafe_direction = next(
            (unsafe_direction_of(name) for name, driver in self.drivers.items() if path in driver.files), 0.0
        )
        if not unsafe_direction:
            return False
        with suppress(FileFault, ValueError):
            return unsafe_direction * (float(text) - float(self.text(path))) > 0.0
        return False

    def _enforced(self) -> bool:
        limiter = self.drivers.get(LIMITER)
        return limiter is None or limiter.read() != "off"

    def remember(self, settings: Mapping[str, Value]) -> None:
        """Tell drivers of what the machine does not tell what was put in force earlier in this boot."""
        for name, value in settings.items():
            driver = self.drivers.get(name)
            if isinstance(driver, Recalls):
                driver.recall(value)

    def refresh(self, changed: Collection[str] = ()) -> None:
        """Take over what a change of settings may have moved, and let a twin keep its state.

        Args:
            changed: controls that were changed; whether limits are enforced is read again if that was.
        """
        sensing, files = self._sensing, self._ports.files
        limits = refreshed(sensing.limits, sensing.surveyed.topology, files, self._registers)
        sensing.limits = replace(limits, enforced=self._enforced()) if LIMITER in changed else limits
        self._ports.save()

    def close(self) -> None:
        """Let the machine go."""
        self._ports.files.close()
        self._ports.registers.close()
