"""The whole state of a twin as plain data: saved between commands, resumed exactly."""

import uuid
from dataclasses import dataclass, field
from pathlib import Path

from upright_bolt.disk import Document, JsonCodec
from upright_bolt.errors import BoltError, CorruptData
from upright_bolt.simulator.chip import MachineSpec
from upright_bolt.simulator.graphics_state import GraphicsState, fresh_graphics
from upright_bolt.simulator.surroundings import Surroundings, drawn

VERSION = 2
IDLE_STATES = (("POLL", 0.0), ("C1", 0.08), ("C6", 0.32), ("C10", 0.6))
"""Idle states, each with its share of a resting processor's time while all are allowed."""


@dataclass(slots=True)
class SimulatedState:
    """Everything that changes on a twin.

    Per-processor lists have one entry per logical processor. ``limits`` holds both copies of the package
    limits, each ``[sustained_w, burst_w, window_s]``; the lower of both counts.
    """

    time_s: float
    boot_id: str
    noise: int
    die_c: float
    sink_c: float
    case_c: float
    rpm: float
    average_w: float
    package_w: float
    clock_mhz: float
    heat_cap_mhz: float
    activity_drift: float
    energy_j: float
    units: float
    busy_s: list[float]
    idle_s: list[float]
    throttle_s: float
    throttle_events: int
    throttling: bool
    charger: bool
    battery_j: float
    reset_due_s: float | None
    limits: list[list[float]]
    governor: list[str]
    epp: list[int]
    epp_before: list[int]
    clock_low_mhz: list[float]
    clock_high_mhz: list[float]
    no_turbo: bool
    reasons: int = 0
    volts: float = 0.65
    mode: str = "balanced"
    ceiling_offset_c: int = 0
    limits_on: list[bool] = field(default_factory=lambda: [True, True])
    burst_on: list[bool] = field(default_factory=lambda: [True, True])
    peak_w: float = 0.0
    current_a: float = 0.0
    board_w: float = 0.0
    clamp: bool = True
    burst_clamp: bool = False
    slept_s: float = 0.0
    turbo_ratios: list[int] = field(default_factory=list)
    idle_off: list[str] = field(default_factory=list)
    idle_counted: dict[str, list[float]] = field(default_factory=dict)
    idle_marks_s: list[float] = field(default_factory=list)
    hot_signal: bool = True
    log: int = 0
    offsets_mv: list[float] = field(default_factory=lambda: [0.0] * 5)
    programs: list[str] = field(default_factory=list)
    offline: list[int] = field(default_factory=list)
    faults_seen: list[list[float | str]] = field(default_factory=list)
    lid_closed: bool = False
    extra: dict[str, float] = field(default_factory=dict)
    surroundings: Surroundings = field(default_factory=Surroundings)
    graphics: list[GraphicsState] = field(default_factory=list)


def fresh_state(spec: MachineSpec, seed: int | None = None) -> SimulatedState:
    """Return a twin just booted and idle for a while, on its charger, at firmware settings."""
    used = spec.seed if seed is None else seed
    fresh = _idle_for_a_while(spec, used)
    complete(fresh, spec)
    return fresh


def complete(state: SimulatedState, spec: MachineSpec) -> None:
    """Fill what a state saved by an earlier version lacks with the firmware's values."""
    if not state.turbo_ratios:
        state.turbo_ratios = [round(mhz / 100.0) for mhz in spec.chip.turbo_table_mhz]
        state.peak_w, state.current_a, state.board_w = spec.peak_w, spec.current_a, spec.board_w
    # A state saved before this machine had its GPUs.
    if len(state.graphics) != len(spec.graphics):
        state.graphics = [fresh_graphics(chip) for chip in spec.graphics]
    if not state.idle_marks_s:
        state.idle_marks_s = [0.0] * len(state.idle_s)
        state.idle_counted = {name: [0.0] * len(state.idle_s) for name, _ in IDLE_STATES}


def _idle_for_a_while(spec: MachineSpec, used: int) -> SimulatedState:
    chip = spec.chip
    threads = chip.cores * 2
    stock = [spec.stock.sustained_w, spec.stock.burst_w, spec.stock.window_s]
    return SimulatedState(
        time_s=240.0,
        # From the seed, so that a machine made anew is the same to the last byte; the factor only spreads small seeds.
        boot_id=str(uuid.UUID(int=(used * 0x9E3779B97F4A7C15F39CC060) % (1 << 128), version=4)),
        noise=used,
        die_c=38.0,
        sink_c=36.5,
        case_c=29.0,
        rpm=0.0,
        average_w=3.0,
        package_w=3.0,
        clock_mhz=chip.clock_min_mhz,
        heat_cap_mhz=chip.turbo_table_mhz[0],
        activity_drift=0.0,
        energy_j=700.0,
        units=0.0,
        busy_s=[9.0] * threads,
        idle_s=[231.0] * threads,
        throttle_s=0.0,
        throttle_events=0,
        throttling=False,
        charger=True,
        # Not full, so that plugging in shows it charging.
        battery_j=spec.battery_wh * 3600 * 0.86,
        reset_due_s=None,
        limits=[list(stock), list(stock)],
        governor=["powersave"] * threads,
        epp=[128] * threads,
        epp_before=[128] * threads,
        clock_low_mhz=[chip.clock_min_mhz] * threads,
        clock_high_mhz=[chip.turbo_table_mhz[0]] * threads,
        no_turbo=False,
        surroundings=drawn(used, spec.restless, 240.0),
    )


def document(path: Path) -> Document[SimulatedState]:
    """Return the file in which a twin's state lasts."""
    return Document(path, "upright-bolt twin", VERSION, _STATE, durable=False)


_STATE: JsonCodec[SimulatedState] = JsonCodec(SimulatedState)


def load_state(path: Path, spec: MachineSpec) -> SimulatedState:
    """Return the saved state, or a fresh one if there is none.

    Raises:
        BoltError: the file is there but cannot be used.
    """
    try:
        state = document(path).load()
    except CorruptData as fault:
        words = str(fault).rstrip(".")
        raise BoltError(
            f"The saved state of {spec.name} cannot be used: {words}; delete it to start afresh."
        ) from fault
    if state is None:
        return fresh_state(spec)
    complete(state, spec)
    return state
