"""The one table of controls: everything that is true of a control on every machine is declared here, and only here.

Number entries, validation, the command line, strips, order of writing, the panel, sweeps and the documentation all
read ``CATALOGUE``. To add a control, add a ``Declaration``; what a machine makes of it is its driver's matter
(``kernel/interfaces``).
"""

from collections.abc import Iterable
from difflib import get_close_matches

from upright_bolt.errors import NotFound
from upright_bolt.model import quantity as q
from upright_bolt.model.declaration import Declaration, Kind, PanelGroup
from upright_bolt.model.graphics_catalogue import OF_GRAPHICS_CHIPS
from upright_bolt.model.note import DiagnosticCode, Subject

_DECLARED = (
    Declaration(
        name="sustained",
        title="Sustained limit (PL1)",
        hint="Watts the processor may draw on average over the burst window.",
        quantity=q.POWER,
        step=1.0,
        panel=PanelGroup.DAILY,
        panel_order=10,
        write_order=110,
        interface=Subject.POWER_LIMITS,
        companion="burst",  # flat limits, which leave no burst
    ),
    Declaration(
        name="burst",
        title="Burst limit (PL2)",
        hint="Watts it may draw at once, until the average reaches the sustained limit.",
        quantity=q.POWER,
        step=1.0,
        panel=PanelGroup.DAILY,
        panel_order=20,
        write_order=120,
        interface=Subject.POWER_LIMITS,
        companion="sustained",
    ),
    Declaration(
        name="window",
        title="Burst window",
        hint="Time over which the sustained limit is averaged: how long a burst can last.",
        quantity=q.TIME,
        step=1.0,
        panel=PanelGroup.DAILY,
        panel_order=30,
        write_order=100,
        interface=Subject.POWER_LIMITS,
        absent=DiagnosticCode.WINDOW_HIDDEN,
    ),
    Declaration(
        name="peak",
        title="Peak limit (PL4)",
        hint="Watts that are never exceeded, not even for a moment: it spares a weak battery or charger.",
        quantity=q.POWER,
        step=1.0,
        panel=PanelGroup.RARE,
        panel_order=150,
        write_order=130,
        interface=Subject.POWER_LIMITS,
        absent=DiagnosticCode.NO_PEAK_LIMIT,
    ),
    Declaration(
        name="board",
        title="Board limit (psys)",
        hint="Watts of the whole board on average, screen and disks included, where the board counts them.",
        quantity=q.POWER,
        step=1.0,
        panel=PanelGroup.RARE,
        panel_order=160,
        write_order=140,
        interface=Subject.POWER_LIMITS,
        absent=DiagnosticCode.NO_BOARD_ZONE,
    ),
    Declaration(
        name="current",
        title="Current limit (IccMax)",
        hint="Amperes that the cores may draw at once.",
        quantity=q.CURRENT,
        step=1.0,
        panel=PanelGroup.RARE,
        panel_order=170,
        write_order=150,
        interface=Subject.CHIP_REGISTERS,
        absent=DiagnosticCode.NO_CURRENT_LIMIT,
        risky=True,
    ),
    Declaration(
        name="clamp",
        title="Clamping",
        hint="Whether the clock may fall below the base clock to hold the sustained limit.",
        quantity=q.SWITCH,
        kind=Kind.SWITCH,
        panel=PanelGroup.RARE,
        panel_order=200,
        write_order=90,
        interface=Subject.CHIP_REGISTERS,
        absent=DiagnosticCode.NO_CLAMP,
    ),
    Declaration(
        name="limiter",
        title="Limits enforced",
        hint="Whether the power limits hold at all. Off, only heat and the board hold the processor back.",
        quantity=q.SWITCH,
        kind=Kind.SWITCH,
        panel=PanelGroup.RARE,
        panel_order=210,
        write_order=80,
        interface=Subject.POWER_LIMITS,
        absent=DiagnosticCode.ALWAYS_LIMITED,
        risky=True,
        changes=("clamp",),
    ),
    Declaration(
        name="turbo",
        title="Turbo",
        hint="Clocks above the base clock. Off costs speed and saves much heat.",
        quantity=q.SWITCH,
        kind=Kind.SWITCH,
        panel=PanelGroup.DAILY,
        panel_order=40,
        write_order=30,
        interface=Subject.CLOCKS,
        changes=("clock-min", "clock-max"),  # their range ends at the base clock without turbo
    ),
    Declaration(
        name="epp",
        title="Energy preference (EPP)",
        hint="0 is eager, 255 is thrifty: how readily the clock rises with the work.",
        quantity=q.PREFERENCE,
        step=16.0,
        panel=PanelGroup.DAILY,
        panel_order=50,
        write_order=70,
        interface=Subject.CLOCKS,
        checked_with=("governor",),
    ),
    Declaration(
        name="governor",
        title="Governor",
        hint="The kernel's rule for choosing clocks.",
        quantity=q.CHOICE,
        kind=Kind.CHOICE,
        panel=PanelGroup.DAILY,
        panel_order=100,
        write_order=20,  # before the preference, which the kernel refuses under ``performance``
        interface=Subject.CLOCKS,
        changes=("epp",),
    ),
    Declaration(
        name="clock-min",
        title="Lowest clock",
        hint="The clock never falls below this while the processor is awake.",
        quantity=q.CLOCK,
        step=100.0,
        panel=PanelGroup.DAILY,
        panel_order=110,
        write_order=50,
        interface=Subject.CLOCKS,
        checked_with=("clock-max",),
    ),
    Declaration(
        name="clock-max",
        title="Highest clock",
        hint="The clock never rises above this.",
        quantity=q.CLOCK,
        step=100.0,
        panel=PanelGroup.DAILY,
        panel_order=60,
        write_order=60,  # after turbo, which moves its range
        interface=Subject.CLOCKS,
        checked_with=("clock-min", "turbo"),
    ),
    Declaration(
        name="turbo-table",
        title="Turbo table",
        hint="The highest clock by number of active cores, one core first.",
        quantity=q.CLOCK,
        kind=Kind.TABLE,
        step=100.0,
        panel=PanelGroup.RARE,
        panel_order=180,
        write_order=40,
        interface=Subject.CHIP_REGISTERS,
        absent=DiagnosticCode.NO_TURBO_TABLE,
    ),
    Declaration(
        name="idle-off",
        title="Idle states switched off",
        hint="Resting states that the processor may not use: quicker to wake, and more watts at rest.",
        quantity=q.CHOICE,
        kind=Kind.LIST,
        panel=PanelGroup.RARE,
        panel_order=190,
        write_order=160,
        interface=Subject.IDLE_STATES,
    ),
    Declaration(
        name="platform-mode",
        title="Platform mode",
        hint="The vendor's own mode: it moves fans, and may rewrite the power limits within a second.",
        quantity=q.CHOICE,
        kind=Kind.CHOICE,
        panel=PanelGroup.DAILY,
        panel_order=90,
        write_order=10,  # first, since it may rewrite limits
        interface=Subject.PLATFORM_MODE,
        changes=("sustained", "burst", "window"),
    ),
    Declaration(
        name="heat-ceiling",
        title="Heat ceiling",
        hint="The temperature at which the processor slows down. It can be lowered, never lifted.",
        quantity=q.TEMPERATURE,
        step=1.0,
        panel=PanelGroup.DAILY,
        panel_order=120,
        write_order=170,
        interface=Subject.HEAT_CEILING,
    ),
    Declaration(
        name="core-offset",
        title="Core voltage offset",
        hint="Less voltage for the cores: fewer watts, or more clock for them. On a rail shared with the cache the "
        "weaker of the two offsets counts; set both.",
        quantity=q.OFFSET,
        step=5.0,
        panel=PanelGroup.DAILY,
        panel_order=70,
        write_order=180,
        interface=Subject.VOLTAGE_OFFSETS,
        risky=True,
        unsafe_direction=-1.0,
        companion="cache-offset",  # one voltage rail on many chips
    ),
    Declaration(
        name="cache-offset",
        title="Cache voltage offset",
        hint="Less voltage for the cache; where it shares a rail with the cores, the weaker offset counts.",
        quantity=q.OFFSET,
        step=5.0,
        panel=PanelGroup.DAILY,
        panel_order=80,
        write_order=190,
        interface=Subject.VOLTAGE_OFFSETS,
        risky=True,
        unsafe_direction=-1.0,
        companion="core-offset",
    ),
    Declaration(
        name="gpu-offset",
        title="Graphics voltage offset",
        hint="Less voltage for the processor's own graphics.",
        quantity=q.OFFSET,
        step=5.0,
        panel=PanelGroup.DAILY,
        panel_order=130,
        write_order=200,
        interface=Subject.VOLTAGE_OFFSETS,
        risky=True,
        unsafe_direction=-1.0,
    ),
    Declaration(
        name="agent-offset",
        title="System agent voltage offset",
        hint="Less voltage for memory controller and links.",
        quantity=q.OFFSET,
        step=5.0,
        panel=PanelGroup.DAILY,
        panel_order=140,
        write_order=210,
        interface=Subject.VOLTAGE_OFFSETS,
        risky=True,
        unsafe_direction=-1.0,
    ),
    Declaration(
        name="hot-signal",
        title="External hot signal obeyed",
        hint="Whether the processor slows down when another part of the board is hot. Off, that part may burn.",
        quantity=q.SWITCH,
        kind=Kind.SWITCH,
        panel=PanelGroup.DELIBERATE,
        panel_order=220,
        write_order=220,
        interface=Subject.CHIP_REGISTERS,
        absent=DiagnosticCode.NO_HOT_SIGNAL,
        risky=True,
    ),
)
CATALOGUE: dict[str, Declaration] = {d.name: d for d in (*_DECLARED, *OF_GRAPHICS_CHIPS)}
"""Declarations by name, in the order in which they are listed for people."""
TOGETHER = ("core-offset", "cache-offset")
"""Controls that count only together on many machines, so that they are offered as one."""
FIRMWARE_LIMITS = ("sustained", "burst", "window")
"""Limits that firmware sets by itself: when the charger comes or goes, or the platform mode changes."""
PART_MARK = "."
"""Stands between a part and the name of its control: ``gpu1.power-limit``."""


def find_declaration(name: str) -> Declaration | None:
    """Return the declaration of a control by its full name; None if this version knows no such control."""
    part, _, own = name.rpartition(PART_MARK)
    found = CATALOGUE.get(own)
    return found if found is not None and found.of_part == bool(part) else None


def declaration_of(name: str) -> Declaration:
    """Return the declaration of a control by its full name: ``sustained``, or ``gpu1.power-limit`` for one of a part.

    Raises:
        NotFound: no such control; the nearest name is suggested.
    """
    if (found := find_declaration(name)) is not None:
        return found
    own = name.rpartition(PART_MARK)[2]
    if own in CATALOGUE and CATALOGUE[own].of_part:
        raise NotFound(f"“{name}” belongs to a part: write PART.{own}; “machine” names the parts.")
    near = get_close_matches(own, CATALOGUE, n=1)
    hint = f" Did you mean {near[0]}?" if near else ""
    raise NotFound(f"There is no control “{name}”.{hint} Controls: {', '.join(CATALOGUE)}.")


def in_order(names: Iterable[str]) -> list[str]:
    """Return full control names in the catalogue's order, those of parts by part; unknown names are left out."""
    order = {name: i for i, name in enumerate(CATALOGUE)}
    own = {name: name.rpartition(PART_MARK)[2] for name in dict.fromkeys(names)}
    return sorted((name for name in own if own[name] in order), key=lambda name: (order[own[name]], name))


def part_of(name: str) -> str:
    """Return the part that a control's full name carries; empty for a control of the whole machine."""
    return name.rpartition(PART_MARK)[0]


def beside(name: str, other: str) -> str:
    """Return the full name of control ``other`` of the same part as ``name``."""
    part = part_of(name)
    return f"{part}{PART_MARK}{other}" if part and CATALOGUE[other].of_part else other


def unsafe_direction_of(name: str) -> float:
    """Return on which side of stock a control fails in the end: −1 below, 1 above; 0 for none, and for unknown ones."""
    declared = find_declaration(name)
    return declared.unsafe_direction if declared is not None else 0.0


def title_of(name: str) -> str:
    """Return a control's title, with its part in front if it has one. Raises NotFound."""
    part = part_of(name)
    title = declaration_of(name).title
    return f"{part}: {title}" if part else title
