"""Graphics chips under amdgpu: power limit, performance level, and the overdrive table in its several shapes.

Nothing is read of a sleeping chip: whether files are there is asked of the folder alone, and all else goes past
``SleepGuard``. Traps handled here: the table takes commands and prints something else (``overdrive``); it takes them at
level ``manual`` only, so whatever is set there puts that level in force; the driver makes the table only if it was
loaded with overdrive allowed; one point of a voltage curve lifted alone leaves everything below it slow, so the highest
voltage cuts all points that lie above it.

The kernel's own pages: Documentation/gpu/amdgpu/thermal and gpu/amdgpu/module-parameters.
"""

from collections.abc import Callable
from dataclasses import replace

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import ControlDriver, Facts, Found, Surroundings, Write, facts_of, write_fault
from upright_bolt.kernel.file_control import Number, Word, within
from upright_bolt.kernel.gpu import overdrive
from upright_bolt.kernel.gpu.controls import absent_on_gpu, name_on, number_on_gpu, on_gpu
from upright_bolt.kernel.gpu.gpus import Card
from upright_bolt.kernel.gpu.overdrive import Overdrive
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.control import ControlState, Value
from upright_bolt.model.note import Diagnostic, DiagnosticCode, note

RANK = 86
DRIVER = "amdgpu"
LEVELS = ("auto", "low", "high", "manual", "profile_standard", "profile_min_sclk", "profile_min_mclk", "profile_peak")
ANY_LEVEL = Facts(ControlState.SETTABLE, choices=LEVELS)
WATTS = Number(within(1.0), per_unit=1e6)
OVERDRIVE_BIT = 0x4000
"""Of the driver's parameter ``ppfeaturemask``: whether it makes an overdrive table."""
USUAL_FEATURES = 0xFFF7BFFF
"""What the parameter is unless somebody sets it (drivers/gpu/drm/amd/amdgpu/amdgpu_drv.c)."""
LOWEST_OFFSET_MV = -250
"""Where the driver names no range for its voltage offset."""

Pick = Callable[[Overdrive], str | None]
"""Returns the name of the table's point that a control stands for; None if the table has none."""


class _TableControl:
    """Something in the overdrive table; subclasses say what.

    Whether the chip has it cannot be told from the folder, so it is told from the table once the chip is awake.

    Args:
        probe: reads the machine's files.
        card: the chip.
        own: the control's name without its part.
    """

    def __init__(self, probe: Probe, card: Card, own: str) -> None:
        folder = card.device
        self.name = name_on(card, own)
        self.files: tuple[str, ...] = (f"{folder}/{overdrive.TABLE}", f"{folder}/{overdrive.LEVEL}")
        self._probe = probe
        self._card = card
        self._raw = f"{folder}/{overdrive.FILE}"

    def asleep(self) -> bool:
        """Tell whether its chip sleeps."""
        return self._card.asleep(self._probe.files)

    def _table(self) -> Overdrive:
        """Return the table without its ranges, as it can be put back."""
        try:
            return overdrive.from_words(self._probe.files.read(self.files[0]).decode("ascii", "replace"))
        except (FileFault, ValueError):
            return Overdrive()

    def _ranges(self) -> dict[str, tuple[int, int]]:
        try:
            return overdrive.parsed(self._probe.files.read(self._raw).decode("ascii", "replace")).ranges
        except FileFault:
            return {}

    def facts(self) -> Facts:
        """Return that it sleeps, or what the table allows."""
        if self.asleep():
            return Facts(ControlState.ASLEEP, note(DiagnosticCode.WAKE_TO_SET))
        table = replace(self._table(), ranges=self._ranges())
        bounds = self._range(table)
        if self._value(table) is None or bounds is None:
            return Facts(ControlState.ABSENT, note(DiagnosticCode.NOT_IN_TABLE))
        return facts_of(
            self._probe.files,
            self.files[:1],
            Facts(ControlState.SETTABLE, minimum=bounds[0], maximum=bounds[1]),
        )

    def read(self) -> Value | None:
        """Return what the table holds."""
        return self._value(self._table())

    def plan(self, value: Value) -> list[Write]:
        """Return the words to set; the table's own file puts the level in force that they need."""
        return [Write(self.files[0], " ".join(self._words(self._table(), float(value))))]

    def same(self, asked: Value, got: Value) -> bool:
        """Tell whether both are the same within the table's whole numbers."""
        return abs(float(asked) - float(got)) <= self._grain

    def refusal(self, fault: FileFault) -> Diagnostic:
        """Return why a write failed."""
        return write_fault(fault, self.name)

    _grain = 1.0

    def _value(self, table: Overdrive) -> float | None:
        raise NotImplementedError

    def _range(self, table: Overdrive) -> tuple[float, float] | None:
        raise NotImplementedError

    def _words(self, table: Overdrive, value: float) -> list[str]:
        raise NotImplementedError


class ClockPoint(_TableControl):
    """The clock of one point, in MHz; where a point has a voltage as well, that stays.

    Args:
        probe, card, own: as for every control of a chip.
        pick: says which point.
        within: the driver's word for its range.
    """

    def __init__(self, probe: Probe, card: Card, own: str, pick: Pick, within: str) -> None:
        super().__init__(probe, card, own)
        self._pick = pick
        self._within = within

    def _value(self, table: Overdrive) -> float | None:
        name = self._pick(table)
        return None if name is None else float(table.points[name][0])

    def _range(self, table: Overdrive) -> tuple[float, float] | None:
        found = table.ranges.get(self._within)
        return None if found is None else (float(found[0]), float(found[1]))

    def _words(self, table: Overdrive, value: float) -> list[str]:
        name = self._pick(table)
        if name is None:
            return []
        return [overdrive.word(name, round(value), table.points[name][1])]


class OffsetOfAll(_TableControl):
    """One offset for all voltages, in mV."""

    def _value(self, table: Overdrive) -> float | None:
        return None if table.offset_mv is None else float(table.offset_mv)

    def _range(self, table: Overdrive) -> tuple[float, float] | None:
        low, _ = table.ranges.get("VDDGFX_OFFSET", (LOWEST_OFFSET_MV, 0))
        return float(low), 0.0

    def _words(self, table: Overdrive, value: float) -> list[str]:  # noqa: ARG002 - the form of all of them
        return [f"vo={round(value)}"]


class HighestVoltage(_TableControl):
    """The voltage that no point of the curve exceeds, in V.

    Lowered, it cuts every point above it, so the curve goes on flat from where it reaches it. Raised, it moves the last
    point alone, as far as the driver allows: what was cut comes back with "put back", not by raising.
    """

    _grain = 0.001

    def _value(self, table: Overdrive) -> float | None:
        held = [mv for name in table.curve if (mv := table.points[name][1]) is not None]
        return max(held) / 1000.0 if held else None

    def _range(self, table: Overdrive) -> tuple[float, float] | None:
        if not table.curve:
            return None
        last = len(table.curve) - 1
        found = table.ranges.get("VDDC") or table.ranges.get(f"VDDC_CURVE_VOLT[{last}]")
        return None if found is None else (found[0] / 1000.0, found[1] / 1000.0)

    def _words(self, table: Overdrive, value: float) -> list[str]:
        asked = round(value * 1000.0)
        words = []
        for name in table.curve:
            mhz, mv = table.points[name]
            after = asked if name == table.curve[-1] else min(mv or 0, asked)
            if after != mv:
                words.append(overdrive.word(name, mhz, after))
        last = table.curve[-1]
        return words or [overdrive.word(last, table.points[last][0], asked)]


def _last(letter: str) -> Pick:
    return lambda table: next(reversed(table.of(letter)), None)


def _lowest_clock(table: Overdrive) -> str | None:
    """Return the lower end of a range of clocks; where every point is a state of its own there is no such end."""
    points = table.of("s")
    return points[0] if len(points) == 2 and table.points[points[0]][1] is None else None


def _table_controls(probe: Probe, card: Card) -> list[ControlDriver]:
    return [
        ClockPoint(probe, card, "lowest-clock", _lowest_clock, "SCLK"),
        ClockPoint(probe, card, "highest-clock", _last("s"), "SCLK"),
        ClockPoint(probe, card, "memory-clock", _last("m"), "MCLK"),
        OffsetOfAll(probe, card, "voltage-offset"),
        HighestVoltage(probe, card, "highest-voltage"),
    ]


def _without_table(probe: Probe, card: Card) -> list[ControlDriver]:
    mask = (probe.text(paths.AMDGPU_FEATURES) or "").lower()
    known = int(mask, 16) if mask.removeprefix("0x").isalnum() and mask.startswith("0x") else None
    # The person gets the whole mask to type: the parameter replaces all bits, so the others have to be right too.
    wanted = (known or USUAL_FEATURES) | OVERDRIVE_BIT
    why = note(DiagnosticCode.NO_OVERDRIVE, wanted=f"{wanted:#x}", now=mask or "unknown")
    if known is not None and known & OVERDRIVE_BIT:
        why = note(DiagnosticCode.NO_OVERDRIVE_HERE)
    names = ("highest-clock", "memory-clock", "voltage-offset")
    return [absent_on_gpu(probe, card, name, why) for name in names]


def find(probe: Probe, machine: Surroundings) -> Found:
    """Return the controls of every chip that this driver has."""
    found = Found()
    for card in machine.cards:
        exists = probe.files.exists
        level, cap = f"{card.device}/{overdrive.LEVEL}", f"{card.sensors}/power1_cap"
        # Another driver may offer the same files; what counts is what is there.
        if card.chip.driver != DRIVER and not exists(level):
            continue
        if card.sensors and exists(cap):
            bounds = (f"{cap}_min" if exists(f"{cap}_min") else "", f"{cap}_max")
            found.controls.append(number_on_gpu(probe, card, "power-limit", (cap,), bounds, WATTS))
        if exists(level):
            found.controls.append(on_gpu(probe, card, "level", (level,), Word(), lambda: ANY_LEVEL))
        there = exists(f"{card.device}/{overdrive.FILE}")
        found.controls += _table_controls(probe, card) if there else _without_table(probe, card)
    return found
