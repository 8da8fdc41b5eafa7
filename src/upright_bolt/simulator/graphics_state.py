"""What changes on a twin's graphics chips, as plain data, and what is asked of them."""

from dataclasses import dataclass, field

from upright_bolt.simulator.graphics_spec import GraphicsSpec


@dataclass(slots=True)
class GraphicsState:
    """Everything that changes on one graphics chip.

    Attributes:
        asleep: whether it sleeps.
        woken: how often something outside of a load has woken it; counted for tests.
        used_s: when it was last used or touched, on the twin's clock.
        die_c, watts, clock_mhz, busy: as they are now; share of time that it works, 0 to 1.
        heat_cap_mhz: the highest clock that its heat allows now.
        clocks_mhz: range that is set.
        memory_mhz: clock of its memory that is set.
        offset_mv: of all voltages, as set.
        clock_offset_mhz: by so much the clock of every voltage is raised, as set.
        locked: whether the range of clocks was locked, and so is kept whatever the offset.
        heat_target_c: temperature that its driver aims at, as set; 0 for the chip's own.
        held: what held its clock in the last moment: ``idle``, ``power``, ``heat``; empty for the top of its range.
        limit_w: power limit that is set; 0 without one.
        level: who chooses its clocks.
        asked: commands to its table that are not in force yet.
        resets: how often its driver has reset it.
        wrong: moments at which a frame was wrong that has not been taken up by a load yet.
    """

    asleep: bool
    woken: int = 0
    used_s: float = 0.0
    die_c: float = 36.0
    watts: float = 0.0
    clock_mhz: float = 0.0
    busy: float = 0.0
    heat_cap_mhz: float = 0.0
    clocks_mhz: list[float] = field(default_factory=lambda: [0.0, 0.0])
    boost_mhz: float = 0.0
    memory_mhz: float = 0.0
    offset_mv: float = 0.0
    clock_offset_mhz: float = 0.0
    locked: bool = False
    heat_target_c: float = 0.0
    held: str = ""
    limit_w: float = 0.0
    level: str = "auto"
    asked: list[str] = field(default_factory=list)
    resets: int = 0
    wrong: list[float] = field(default_factory=list)

    def table_to_stock(self, spec: GraphicsSpec) -> None:
        """Put clocks and voltage where its driver has them at first, and forget what is not in force yet."""
        self.asked = []
        self.clocks_mhz = [spec.clock_min_mhz, spec.clock_max_mhz]
        self.memory_mhz, self.offset_mv = spec.memory_mhz[0], 0.0
        self.clock_offset_mhz, self.locked, self.heat_target_c = 0.0, False, 0.0


def fresh_graphics(spec: GraphicsSpec) -> GraphicsState:
    """Return a chip as it is after a start."""
    fresh = GraphicsState(
        asleep=not spec.drives_screen,
        heat_cap_mhz=spec.clock_top_mhz,
        clock_mhz=spec.clock_min_mhz,
        boost_mhz=spec.clock_max_mhz,
        limit_w=spec.limit_w[0],
    )
    fresh.table_to_stock(spec)
    return fresh


@dataclass(slots=True)
class GraphicsDemand:
    """Work for one graphics chip.

    Attributes:
        weight: part of a heavy frame's work in a frame.
        activity: watts that it draws against the heavy scene.
        share: how much of the time it keeps the chip busy, 0 to 1.
    """

    weight: float = 1.0
    activity: float = 1.0
    share: float = 1.0
