"""What a twin's graphics chips are made of: numbers only."""

from bisect import bisect_right
from dataclasses import dataclass, replace
from enum import StrEnum


class GraphicsDriver(StrEnum):
    """Under which driver a twin's chip shows itself, and with which table of clocks and voltages."""

    OFFSET_TABLE = "amdgpu"
    """amdgpu with a range of clocks and an offset of all voltages."""
    CLOCK_TABLE = "amdgpu within a processor"
    """amdgpu with a range of clocks alone."""
    CLOCK_FILES = "i915"
    LIBRARY = "nvidia"
    """Its vendor's own driver, set through a management library: limits, clocks and their offsets, no voltages."""


@dataclass(frozen=True, slots=True)
class GraphicsSpec:
    """A graphics chip.

    Attributes:
        place: its address on the bus.
        ids: vendor and device number.
        card: its number in the first boot.
        driver: under which it shows itself.
        drives_screen: whether the screen hangs on it. Such a chip never sleeps.
        clock_min_mhz, clock_max_mhz: range of its clocks in work, at stock.
        clock_top_mhz: the highest that can be asked for.
        curve_mhz, curve_v: stock voltage over clock, rising in both; below the first point nothing is gained.
        switching_w: watts in the heavy scene per V²·GHz.
        leakage_w: watts of leakage at 1 V and 60 °C; they double every ``leakage_doubling_c``.
        idle_w: watts while awake without work, its memory's included.
        memory_mhz: stock, lowest and highest clock of its memory; (0, 0, 0) without memory of its own.
        memory_w: watts of its memory in the heavy scene, at the stock clock.
        limit_w: stock, lowest and highest power limit; (0, 0, 0) without a limit of its own.
        to_sink: thermal resistance to the sink that it shares with the processor, in K/W.
        ceiling_c: temperature at which it throttles.
        frames_rate: frames a minute of the heavy scene at 1 GHz, but for what waits for memory.
        memory_part: of a heavy frame's time at 1 GHz, the part that waits for memory at its stock clock.
        edge_mv: offset at which the heavy scene's picture goes wrong once in ``graphics.EDGE_S``, at the highest clock
            of stock; hidden.
        light_further_mv: how much further the light scene holds.
        slope_mv: millivolts over which the rate of errors grows by a factor of e.
        reset_beyond_mv, freeze_beyond_mv: how far beyond the edge the driver resets the chip, and the machine freezes.
        memory_edge_mhz: clock of its memory at which pictures go wrong as often; hidden.
    """

    place: str
    ids: str
    card: int
    driver: GraphicsDriver
    drives_screen: bool
    clock_min_mhz: float
    clock_max_mhz: float
    clock_top_mhz: float
    curve_mhz: tuple[float, ...]
    curve_v: tuple[float, ...]
    switching_w: float
    leakage_w: float
    leakage_doubling_c: float
    idle_w: float
    memory_mhz: tuple[float, float, float]
    memory_w: float
    limit_w: tuple[float, float, float]
    to_sink: float
    ceiling_c: float
    frames_rate: float
    memory_part: float
    edge_mv: float = -116.0
    light_further_mv: float = 22.0
    slope_mv: float = 4.0
    reset_beyond_mv: float = 16.0
    freeze_beyond_mv: float = 34.0
    memory_edge_mhz: float = 1e9

    @property
    def built_in(self) -> bool:
        """Whether it sits in the processor, and so draws from its power limit."""
        return self.driver not in (GraphicsDriver.OFFSET_TABLE, GraphicsDriver.LIBRARY)

    def volts(self, clock_mhz: float) -> float:
        """Return the stock voltage at a clock, linear between the points of the curve and flat below the first."""
        xs, ys = self.curve_mhz, self.curve_v
        if clock_mhz <= xs[0]:
            return ys[0]
        i = min(bisect_right(xs, clock_mhz) - 1, len(xs) - 2)
        return ys[i] + (clock_mhz - xs[i]) / (xs[i + 1] - xs[i]) * (ys[i + 1] - ys[i])


def separate_chip() -> GraphicsSpec:
    """Return tern's second chip: on the processor's heat pipes, with memory of its own, asleep unless it is used."""
    return GraphicsSpec(
        place="0000:03:00.0", ids="1d7e:0310", card=1, driver=GraphicsDriver.OFFSET_TABLE, drives_screen=False,
        clock_min_mhz=500.0, clock_max_mhz=2300.0, clock_top_mhz=2500.0,
        curve_mhz=(1000.0, 1500.0, 2000.0, 2300.0, 2500.0), curve_v=(0.63, 0.72, 0.88, 1.035, 1.16),
        switching_w=11.5, leakage_w=6.3, leakage_doubling_c=40.0, idle_w=2.0,
        memory_mhz=(875.0, 600.0, 1075.0), memory_w=2.6, limit_w=(48.0, 20.0, 60.0), to_sink=0.36, ceiling_c=87.0,
        frames_rate=1500.0, memory_part=0.10, memory_edge_mhz=1010.0, edge_mv=-176.0,
    )  # fmt: skip


def managed_chip() -> GraphicsSpec:
    """Return a separate chip much like that one, but under its vendor's own driver."""
    return replace(
        separate_chip(), ids="1d7e:0330", driver=GraphicsDriver.LIBRARY, edge_mv=-168.0,
        memory_mhz=(6000.0, 4000.0, 7500.0), memory_edge_mhz=6900.0,
    )  # fmt: skip


def screen_chip(place: str = "0000:00:02.0") -> GraphicsSpec:
    """Return the small chip in tern's and plover's processors, on which the screen hangs."""
    return GraphicsSpec(
        place=place, ids="1d7e:0142", card=0, driver=GraphicsDriver.CLOCK_FILES, drives_screen=True,
        clock_min_mhz=300.0, clock_max_mhz=1250.0, clock_top_mhz=1250.0,
        curve_mhz=(400.0, 800.0, 1250.0), curve_v=(0.66, 0.76, 0.96), switching_w=5.6, leakage_w=0.5,
        leakage_doubling_c=40.0, idle_w=0.0, memory_mhz=(0.0, 0.0, 0.0), memory_w=0.0, limit_w=(0.0, 0.0, 0.0),
        to_sink=0.82, ceiling_c=100.0, frames_rate=420.0, memory_part=0.2,
    )  # fmt: skip


def wheelhouse_chip() -> GraphicsSpec:
    """Return the chip in skerry's processor, which shares its power limit."""
    return GraphicsSpec(
        place="0000:c1:00.0", ids="1d7e:0188", card=0, driver=GraphicsDriver.CLOCK_TABLE, drives_screen=True,
        clock_min_mhz=400.0, clock_max_mhz=2400.0, clock_top_mhz=2600.0,
        curve_mhz=(800.0, 1600.0, 2400.0, 2600.0), curve_v=(0.68, 0.82, 1.08, 1.18), switching_w=8.2, leakage_w=1.5,
        leakage_doubling_c=40.0, idle_w=0.0, memory_mhz=(0.0, 0.0, 0.0), memory_w=0.0, limit_w=(0.0, 0.0, 0.0),
        to_sink=0.34, ceiling_c=95.0, frames_rate=900.0, memory_part=0.25,
    )  # fmt: skip
