"""What a simulated machine is made of: chip, cooling, board. Numbers only, no behaviour but its curve."""

from bisect import bisect_right
from dataclasses import dataclass, replace
from enum import StrEnum

from upright_bolt.simulator.graphics_spec import GraphicsSpec, managed_chip, screen_chip, separate_chip, wheelhouse_chip


@dataclass(frozen=True, slots=True)
class ChipSpec:
    """A processor.

    Attributes:
        clock_min_mhz, base_mhz: lowest clock; clock without turbo.
        turbo_table_mhz: highest clock by number of active cores; index 0 is one core.
        curve_mhz, curve_v: stock voltage over clock, rising in both.
        switching_w: watts of one core, both threads busy, per V²·GHz (activity times capacitance).
        leakage_w: watts of leakage of the whole chip at 1 V and 60 °C.
        leakage_doubling_c: degrees over which leakage doubles.
        uncore_w: watts of everything that is not a core, idle; ``uncore_busy_w`` comes on top under full load.
        core_offset_c_per_w: how much warmer each core is than the die's mean, per W in it.
        core_edge_mv: offset of the cores at which a loaded core errs once in ``physics.EDGE_S``; hidden.
        cache_edge_mv: the same for the cache.
        freeze_beyond_mv: how far beyond an edge the machine freezes as often.
        slope_mv: millivolts over which the rate of errors grows by a factor of e.
        idle_nearer_mv: how much nearer to freezing a resting machine is than the weaker edge says; below zero: further.
        core_nearer_mv: how much nearer to its edge each core is than the weakest (zero or less); empty: all alike.
        delivery_mv: offset of the cores below which the power delivery throttles.
        tail_flatter: how many times flatter the slope is where errors are rarer than one in 2000 s.
        ageing_mv_per_day: how much nearer the edges come each day.
        memory_drag: part of the work that a higher clock does not speed up, per GHz.
        units_rate: work units per minute and core at 1 GHz without drag.
        ceiling_c: temperature at which it throttles.
        shared_rail: whether core and cache hang on one voltage rail, so that the weaker of their offsets counts.
    """

    name: str
    vendor: str
    cores: int
    clock_min_mhz: float
    base_mhz: float
    turbo_table_mhz: tuple[float, ...]
    curve_mhz: tuple[float, ...]
    curve_v: tuple[float, ...]
    switching_w: float
    leakage_w: float
    leakage_doubling_c: float
    uncore_w: float
    uncore_busy_w: float
    core_offset_c_per_w: tuple[float, ...]
    core_edge_mv: float
    cache_edge_mv: float
    freeze_beyond_mv: float
    memory_drag: float
    units_rate: float
    ceiling_c: float
    shared_rail: bool = True
    slope_mv: float = 3.5
    idle_nearer_mv: float = -24.0
    core_nearer_mv: tuple[float, ...] = ()
    delivery_mv: float = -140.0
    tail_flatter: float = 1.0
    ageing_mv_per_day: float = 0.0

    def volts(self, clock_mhz: float) -> float:
        """Return the stock voltage at a clock, linear between the points of the curve."""
        xs, ys = self.curve_mhz, self.curve_v
        i = min(max(bisect_right(xs, clock_mhz) - 1, 0), len(xs) - 2)
        share = (clock_mhz - xs[i]) / (xs[i + 1] - xs[i])
        return ys[i] + share * (ys[i + 1] - ys[i])


@dataclass(frozen=True, slots=True)
class CoolingSpec:
    """Heat from die to sink to case to air, with a fan on the sink.

    Capacities in J/K, resistances in K/W. The sink loses ``still_w_per_k`` to the air with the fan standing and
    ``fan_w_per_k_krpm`` more for each 1000 rpm. A fan with ``fan_step_c`` follows the temperature in steps of so much.
    """

    ambient_c: float
    die_j_per_k: float
    sink_j_per_k: float
    case_j_per_k: float
    die_to_sink: float
    sink_to_case: float
    case_to_air: float
    still_w_per_k: float
    fan_w_per_k_krpm: float
    fan_on_c: float
    fan_off_c: float
    fan_low_rpm: float
    fan_high_c: float
    fan_high_rpm: float
    fan_step_c: float = 0.0


class KernelInterfaces(StrEnum):
    """Which kernel interfaces a machine shows."""

    POWERCAP = "intel_pstate and powercap"
    ATTRIBUTES = "amd-pstate-epp and firmware attributes"


@dataclass(frozen=True, slots=True)
class PowerLimits:
    """Package limits: W, W, s."""

    sustained_w: float
    burst_w: float
    window_s: float


@dataclass(frozen=True, slots=True)
class MachineSpec:
    """A whole simulated machine.

    ``stock``, ``quiet`` and ``eager`` are what its firmware sets on the charger in mode balanced, quiet and
    performance; ``on_battery`` in any mode on battery. ``battery_wh`` 0 is a machine without one. A ``locked`` one
    keeps limits and voltages to itself. ``peak_w``, ``current_a``, ``board_w`` 0: it has no such limits.
    ``fan_high_rpm`` 0 is a machine without a fan. ``restless`` is how much room, others' work and case wander: 1 makes
    runs of one setting differ by about 0.25 %, 0 not at all. ``shared_w`` is what processor and separate graphics chip
    may draw together; 0 is no such limit.
    """

    name: str
    maker: str
    described: str
    chip: ChipSpec
    cooling: CoolingSpec
    stock: PowerLimits
    on_battery: PowerLimits
    quiet: PowerLimits
    eager: PowerLimits
    limit_range_w: tuple[float, float]
    battery_wh: float
    rest_w: float
    seed: int
    interfaces: KernelInterfaces = KernelInterfaces.POWERCAP
    locked: bool = False
    peak_w: float = 0.0
    current_a: float = 0.0
    board_w: float = 0.0
    restless: float = 1.0
    graphics: tuple[GraphicsSpec, ...] = ()
    shared_w: float = 0.0


def tern() -> MachineSpec:
    """Return the survey crew's thin laptop: a low sustained limit under a big burst."""
    chip = ChipSpec(
        name="Halyard Q6-4200T",
        vendor="HalyardWorks",
        cores=6,
        clock_min_mhz=800.0,
        base_mhz=2400.0,
        turbo_table_mhz=(4200.0, 4200.0, 4100.0, 4000.0, 3900.0, 3800.0),
        curve_mhz=(400.0, 800.0, 1600.0, 2400.0, 3000.0, 3600.0, 4200.0),
        curve_v=(0.65, 0.67, 0.75, 0.86, 0.955, 1.06, 1.20),
        switching_w=1.47,
        leakage_w=2.4,
        leakage_doubling_c=38.0,
        uncore_w=1.8,
        uncore_busy_w=2.2,
        core_offset_c_per_w=(0.55, 0.30, 0.42, 0.20, 0.36, 0.10),
        core_edge_mv=-112.0,
        cache_edge_mv=-91.0,
        freeze_beyond_mv=24.0,
        core_nearer_mv=(-3.0, 0.0, -7.0, -2.0, -9.0, -5.0),
        memory_drag=0.04,
        units_rate=92.0,
        ceiling_c=100.0,
    )
    cooling = CoolingSpec(
        ambient_c=22.0, die_j_per_k=2.6, sink_j_per_k=85.0, case_j_per_k=520.0, die_to_sink=0.82,
        sink_to_case=2.6, case_to_air=1.9, still_w_per_k=0.22, fan_w_per_k_krpm=0.26, fan_on_c=47.0,
        fan_off_c=42.0, fan_low_rpm=2100.0, fan_high_c=92.0, fan_high_rpm=4900.0,
    )  # fmt: skip
    return MachineSpec(
        name="tern",
        maker="Quayside Computing",
        described="simulated thin laptop",
        chip=chip,
        cooling=cooling,
        stock=PowerLimits(18.0, 45.0, 28.0),
        on_battery=PowerLimits(12.0, 20.0, 28.0),
        quiet=PowerLimits(13.0, 22.0, 10.0),
        eager=PowerLimits(28.0, 50.0, 40.0),
        limit_range_w=(6.0, 60.0),
        battery_wh=56.0,
        rest_w=4.2,
        seed=20260409,
        peak_w=96.0,
        current_a=84.0,
        board_w=90.0,
        graphics=(screen_chip(), separate_chip()),
        shared_w=71.5,
    )


def tern_two_rails() -> MachineSpec:
    """Return a later tern whose core and cache hang on rails of their own, so that each offset counts by itself."""
    spec = tern()
    return replace(
        spec,
        name="tern-two-rails",
        described="simulated thin laptop, core and cache on separate rails",
        chip=replace(spec.chip, name="Halyard Q6-4300T", shared_rail=False),
        graphics=(screen_chip(), managed_chip()),
        seed=20260427,
    )


def skerry() -> MachineSpec:
    """Return the crew's small PC in the wheelhouse: other interfaces, limits through firmware attributes."""
    chip = ChipSpec(
        name="Fathom R8-65G",
        vendor="FathomSemi",
        cores=8,
        clock_min_mhz=400.0,
        base_mhz=3300.0,
        turbo_table_mhz=(4700.0, 4700.0, 4600.0, 4500.0, 4400.0, 4400.0, 4300.0, 4300.0),
        curve_mhz=(400.0, 1200.0, 2400.0, 3300.0, 4000.0, 4700.0),
        curve_v=(0.65, 0.70, 0.82, 0.95, 1.10, 1.32),
        switching_w=1.45,
        leakage_w=2.0,
        leakage_doubling_c=40.0,
        uncore_w=3.4,
        uncore_busy_w=4.0,
        core_offset_c_per_w=(0.30, 0.22, 0.26, 0.35, 0.18, 0.24, 0.28, 0.15),
        core_edge_mv=-60.0,
        cache_edge_mv=-60.0,
        freeze_beyond_mv=20.0,
        memory_drag=0.05,
        units_rate=96.0,
        ceiling_c=95.0,
    )
    cooling = CoolingSpec(
        ambient_c=24.0, die_j_per_k=4.0, sink_j_per_k=320.0, case_j_per_k=900.0, die_to_sink=0.34, sink_to_case=4.0,
        case_to_air=1.6, still_w_per_k=0.5, fan_w_per_k_krpm=0.75, fan_on_c=30.0, fan_off_c=20.0, fan_low_rpm=1100.0,
        fan_high_c=85.0, fan_high_rpm=3400.0,
    )  # fmt: skip
    return MachineSpec(
        name="skerry", maker="Quayside Computing", described="simulated small PC", chip=chip, cooling=cooling,
        stock=PowerLimits(54.0, 65.0, 20.0), on_battery=PowerLimits(54.0, 65.0, 20.0),
        quiet=PowerLimits(35.0, 45.0, 20.0), eager=PowerLimits(65.0, 80.0, 20.0), limit_range_w=(15.0, 88.0),
        battery_wh=0.0, rest_w=9.0, seed=20260411, interfaces=KernelInterfaces.ATTRIBUTES,
        graphics=(wheelhouse_chip(),),
    )  # fmt: skip


def plover() -> MachineSpec:
    """Return the crew's fanless laptop: limits and voltages locked, only preference, turbo and clock caps work."""
    chip = ChipSpec(
        name="Halyard N4-900Y",
        vendor="HalyardWorks",
        cores=4,
        clock_min_mhz=400.0,
        base_mhz=1300.0,
        turbo_table_mhz=(3400.0, 3200.0, 2900.0, 2800.0),
        curve_mhz=(400.0, 800.0, 1300.0, 2000.0, 2800.0, 3400.0),
        curve_v=(0.58, 0.61, 0.67, 0.76, 0.92, 1.08),
        switching_w=1.15,
        leakage_w=0.8,
        leakage_doubling_c=40.0,
        uncore_w=0.5,
        uncore_busy_w=0.6,
        core_offset_c_per_w=(0.8, 0.5, 0.6, 0.4),
        core_edge_mv=-70.0,
        cache_edge_mv=-60.0,
        freeze_beyond_mv=20.0,
        memory_drag=0.05,
        units_rate=84.0,
        ceiling_c=95.0,
    )
    cooling = CoolingSpec(
        ambient_c=22.0, die_j_per_k=1.6, sink_j_per_k=60.0, case_j_per_k=420.0, die_to_sink=1.3, sink_to_case=1.4,
        case_to_air=3.4, still_w_per_k=0.03, fan_w_per_k_krpm=0.0, fan_on_c=999.0, fan_off_c=998.0, fan_low_rpm=0.0,
        fan_high_c=1000.0, fan_high_rpm=0.0,
    )  # fmt: skip
    limits = PowerLimits(7.0, 15.0, 28.0)
    return MachineSpec(
        name="plover", maker="Quayside Computing", described="simulated fanless laptop", chip=chip, cooling=cooling,
        stock=limits, on_battery=limits, quiet=limits, eager=limits, limit_range_w=(4.0, 15.0), battery_wh=41.0,
        rest_w=2.6, seed=20260419, locked=True, current_a=33.0, graphics=(screen_chip(),),
    )  # fmt: skip


TWINS = {"tern": tern, "tern-two-rails": tern_two_rails, "skerry": skerry, "plover": plover}
"""Twins by name."""
