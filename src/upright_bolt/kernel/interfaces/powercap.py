"""Power limits and energy: ``/sys/class/powercap``.

The package limits often stand there twice (``intel-rapl:N`` and ``intel-rapl-mmio:N``); the lower of both counts,
so a limit is written to both and read as the lowest. Zones are found by ``name``, constraints by
``constraint_K_name``. Limits are kept in steps of 1/8 W and windows as 2^Y·(1+Z/4) of a unit: what is read back
is near, not equal. A firmware lock shows as EACCES, or as a write that succeeds and changes nothing.

The kernel's own page: Documentation/power/powercap/powercap.
"""

import errno
from dataclasses import dataclass

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths, registers
from upright_bolt.kernel.driver import Facts, Found, Surroundings, Write, facts_of, write_fault
from upright_bolt.kernel.file_control import FileControl, Number, lowest, refused_as
from upright_bolt.kernel.interfaces import firmware
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.sensors.channels import Counter, LowestOf
from upright_bolt.model.catalogue import declaration_of
from upright_bolt.model.control import ControlState, Value
from upright_bolt.model.note import Diagnostic, DiagnosticCode, Subject, note
from upright_bolt.model.quantity import POWER
from upright_bolt.model.sensor import Sensor, SensorKind

RANK = 20
POWER_STEP_W = 0.1251
"""A step of 1/8 W, the unit of the package limit register (RAPL power unit): the kernel cuts down to it."""
SPANS = {"sustained": ("sustained", "burst"), "burst": ("burst", "sustained")}
"""Limits whose stock values lie in the range of a limit, its own first."""
# The kernel cuts down to the step below, never up; the upper bound only forgives rounding of microwatts.
WATTS = Number(lambda asked, held: asked - POWER_STEP_W < held <= asked + POWER_STEP_W / 2.0, per_unit=1e6)
WINDOW_SLACK = 0.21
"""Windows are cut down to the next 2^Y·(1+Z/4): at most a fifth below what was asked."""
SECONDS = Number(lambda asked, held: asked * (1 - WINDOW_SLACK) <= held <= asked * 1.001, per_unit=1e6)
LIMIT_REFUSED = refused_as({errno.EACCES: DiagnosticCode.LIMIT_REFUSED})
FLOOR_W = 3.0
WINDOW_RANGE_S = (1.0, 64.0)


@dataclass(frozen=True, slots=True)
class Zone:
    """A powercap zone that limits the whole package, with its constraints by name."""

    path: str
    constraints: dict[str, int]

    def file(self, constraint: str, name: str) -> str | None:
        """Return a file of the named constraint, or None if the zone has no such constraint."""
        k = self.constraints.get(constraint)
        return None if k is None else f"{self.path}/constraint_{k}_{name}"


class LimitControl(FileControl):
    """A package power limit in W.

    Args:
        probe: reads the files.
        zones: the copies of the package's zone.
        name: the control.
        constraint: the kernel's name of the limit.
    """

    def __init__(self, probe: Probe, zones: list[Zone], name: str, constraint: str) -> None:
        files = _files(probe, zones, constraint, "power_limit_uw")
        self._zones = zones
        self._constraint = constraint
        super().__init__(probe, name, files, WATTS, self._range, pick=lowest, copies=True, refused=LIMIT_REFUSED)

    def _range(self) -> Facts:
        state, why = _state(self._probe, self.name, self._constraint, self.files)
        # The kernel's own max_power_uw is often the processor's design power, far below what it takes; so the
        # register's range counts as well where it can be read.
        low, high = registers.power_range_w(self._probe)
        declared = [
            n / 1e6
            for zone in self._zones
            if (path := zone.file(self._constraint, "max_power_uw")) and (n := self._probe.number(path))
        ]
        highest = max([*declared, *([high] if high else [])], default=None)
        if low is not None and low > min(self._around(), default=low):
            low = None  # a minimum above what is in force says nothing
        return Facts(state, why, minimum=low or FLOOR_W, maximum=highest, spans=SPANS.get(self.name, (self.name,)))

    def explain_ignored_write(self) -> Diagnostic | None:
        """Ask the register: the kernel keeps to itself that a write of it failed.

        What the register holds is written to it, which changes nothing, and fails where every write does.
        """
        value = self._probe.register(0, registers.PACKAGE_LIMIT)
        if value is None or self._probe.registers.copied:
            return None
        try:
            self._probe.registers.write(0, registers.PACKAGE_LIMIT, value)
        except FileFault as fault:
            return note(DiagnosticCode.LIMIT_REGISTER_REFUSES, self.name) if fault.errno == errno.EIO else None
        return None

    def _around(self) -> list[float]:
        """Return this limit, and the sustained and burst limits in force, in W, over all copies."""
        files = [zone.file(name, "power_limit_uw") for zone in self._zones for name in ("long_term", "short_term")]
        every = [*self.files, *(path for path in files if path)]
        return [n / 1e6 for path in every if (n := self._probe.number(path)) is not None]


def _window(probe: Probe, zones: list[Zone]) -> FileControl:
    """Return the time over which the sustained limit is averaged, in s."""
    low, high = WINDOW_RANGE_S
    files = _files(probe, zones, "long_term", "time_window_us")

    def allowed() -> Facts:
        state, why = _state(probe, "window", "long_term", files)
        return Facts(state, why, minimum=low, maximum=high)

    return FileControl(probe, "window", files, SECONDS, allowed, pick=lowest, copies=True, refused=LIMIT_REFUSED)


def _files(probe: Probe, zones: list[Zone], constraint: str, file: str) -> tuple[str, ...]:
    """Return a constraint's file in every copy that has it."""
    candidates = [zone.file(constraint, file) for zone in zones]
    return tuple(path for path in candidates if path and probe.files.exists(path))


def _state(probe: Probe, name: str, constraint: str, files: tuple[str, ...]) -> tuple[ControlState, Diagnostic | None]:
    """Return whether a limit is there and unlocked, and what a person should know of it."""
    if not files:
        return ControlState.ABSENT, note(DiagnosticCode.NO_SUCH_CONSTRAINT, name, constraint=constraint)
    if registers.limits_locked(probe):
        return ControlState.LOCKED, note(DiagnosticCode.LIMITS_LOCKED)
    return ControlState.SETTABLE, _fight(name, {path: n for path in files if (n := probe.number(path)) is not None})


def _fight(name: str, known: dict[str, int]) -> Diagnostic | None:
    """Return a note if copies of the limit differ: what they hold, and which of them counts."""
    if len(set(known.values())) < 2:
        return None
    # The processor obeys both copies, so whichever is lower limits it, whoever wrote it.
    smallest = min(known, key=lambda path: known[path])
    values = tuple(f"{number / 1e6:g}" for number in known.values())
    return note(DiagnosticCode.COPIES_DIFFER, name, values=values, zone=smallest.split("/")[-2])


class Limiter:
    """Whether the package limits are enforced at all: ``enabled`` of every copy.

    The kernel writes the switches of both limits, for enforcing and for clamping, with that one file, and shows that of
    the sustained limit alone. So the switches themselves are read, and put back after it, where the register is open.
    """

    name = "limiter"

    def __init__(self, probe: Probe, zones: list[Zone]) -> None:
        self._probe = probe
        self._enabled = tuple(
            path for zone in zones if zone.constraints and probe.files.exists(path := f"{zone.path}/enabled")
        )
        coupled = not probe.registers.copied and bool(probe.register(0, registers.PACKAGE_LIMIT))
        open_to_us = coupled and registers.why_unwritable(probe, "") is None
        self._switches = paths.LIMIT_SWITCHES if open_to_us else ()
        self.files: tuple[str, ...] = (*self._enabled, *self._switches) if self._enabled else ()

    def facts(self) -> Facts:
        choices = ("on", "off")
        if registers.limits_locked(self._probe):
            return Facts(ControlState.LOCKED, note(DiagnosticCode.LIMITS_LOCKED), choices=choices)
        partly = len(set(self._enforced())) > 1
        why = note(DiagnosticCode.LIMITER_PARTLY, self.name) if partly else None
        return facts_of(self._probe.files, self._enabled, Facts(ControlState.SETTABLE, why, choices=choices))

    def _held(self) -> list[int | None]:
        return [self._probe.number(path) for path in self._enabled]

    def _enforced(self) -> list[bool]:
        """Return of each limit whether it is enforced, as far as the register tells."""
        numbers = [self._probe.number(path) for path in self._switches]
        return [bool(number & 1) for number in numbers if number is not None]

    def read(self) -> Value | None:
        held = self._held()
        return None if None in held else ("on" if any(held) or any(self._enforced()) else "off")

    def plan(self, value: Value) -> list[Write]:
        # The register's own switches are not written here: the kernel derives them from this file. They are read, and
        # reverted, see the class.
        return [Write(path, "1" if value == "on" else "0") for path in self._enabled]

    def same(self, asked: Value, got: Value) -> bool:  # noqa: ARG002 - every copy is looked at
        wanted = asked == "on"
        return all(number == int(wanted) for number in self._held()) and (wanted or not any(self._enforced()))

    def refusal(self, fault: FileFault) -> Diagnostic:
        return write_fault(fault, self.name)

    def asleep(self) -> bool:
        return False


def find(probe: Probe, machine: Surroundings) -> Found:
    """Return the package limits and the energy counter; firmware attributes may offer the limits instead."""
    found, elsewhere = Found(), firmware.present(probe)
    zones = _zones(probe, "package")
    if zones and not any(zone.constraints for zone in zones):
        _add_energy(probe, found, zones)
        if not elsewhere:
            probe.note(Subject.POWER_LIMITS, DiagnosticCode.ENERGY_ONLY)
        return found
    if not zones and elsewhere:
        probe.note(Subject.PACKAGE_POWER, DiagnosticCode.NO_ENERGY_COUNTER)
        return found
    if not zones:
        code = DiagnosticCode.VIRTUAL_POWER if machine.identity.virtual else DiagnosticCode.NO_PACKAGE_ZONE
        probe.note(Subject.POWER_LIMITS, code, folder=paths.POWERCAP)
        return found
    package = [
        LimitControl(probe, zones, "sustained", "long_term"),
        LimitControl(probe, zones, "burst", "short_term"),
        _window(probe, zones),
    ]
    peak = LimitControl(probe, zones, "peak", "peak_power")
    package += [peak] if peak.files else []
    found.controls.extend(package)
    enabled = Limiter(probe, zones)
    if enabled.files:
        found.controls.append(enabled)
    for control in package:
        _add_limit(found, control)
    _add_energy(probe, found, zones)
    _add_board(probe, found)
    return found


def _add_limit(found: Found, control: FileControl) -> None:
    if control.files:
        declared = declaration_of(control.name)
        sensor = Sensor(f"limit.{control.name}", declared.quantity, declared.title, SensorKind.LIMIT)
        found.channels.append(LowestOf(sensor, control.files, 1e-6))


def _add_board(probe: Probe, found: Found) -> None:
    """Add the zone of the whole board, where there is one."""
    zones = _zones(probe, "psys")
    if not zones:
        return
    board = LimitControl(probe, zones, "board", "long_term")
    if board.files:
        found.controls.append(board)
        _add_limit(found, board)
    path = f"{zones[0].path}/energy_uj"
    span = probe.number(f"{zones[0].path}/max_energy_range_uj")
    if span and probe.files.exists(path) and probe.number(path) is not None:
        sensor = Sensor("power.board", POWER, "Board power", SensorKind.POWER)
        found.channels.append(Counter(sensor, path, span))


def _zones(probe: Probe, beginning: str) -> list[Zone]:
    zones = []
    for name in probe.files.names(paths.POWERCAP):
        path = f"{paths.POWERCAP}/{name}"
        if not name.startswith("intel-rapl") or not (probe.text(f"{path}/name") or "").startswith(beginning):
            continue
        constraints = {}
        # The kernel numbers at most three constraints (long term, short term, peak power), in no promised order.
        for k in range(3):
            word = probe.text(f"{path}/constraint_{k}_name")
            if word:
                constraints[word] = k
        zones.append(Zone(path, constraints))
    return zones


def _add_energy(probe: Probe, found: Found, zones: list[Zone]) -> None:
    for zone in zones:
        path = f"{zone.path}/energy_uj"
        if not probe.files.exists(path):
            continue
        # Since 2020 energy_uj is readable by root alone (CVE-2020-8694), so it may be there and not tell anything.
        # Without its range a wrap could not be told from a reset.
        span = probe.number(f"{zone.path}/max_energy_range_uj")
        if probe.number(path) is not None and span:
            sensor = Sensor("power.package", POWER, "Package power", SensorKind.POWER)
            found.channels.append(Counter(sensor, path, span))
            return
    probe.note(Subject.PACKAGE_POWER, DiagnosticCode.ENERGY_UNREADABLE)
