"""The physics of a twin's graphics chip: clock, watts, heat, frames, and what too little voltage does.

The same laws as the processor's: switching (V² f), leakage (V³, doubling with heat), the highest clock that all limits
allow. Heat goes to the sink that it shares with the processor; watts come out of a budget that it may share as well.
"""

from math import exp, log

from upright_bolt.simulator.chip import MachineSpec
from upright_bolt.simulator.graphics_spec import GraphicsDriver, GraphicsSpec
from upright_bolt.simulator.graphics_state import GraphicsDemand, GraphicsState
from upright_bolt.simulator.noise import Noise
from upright_bolt.simulator.rails import GRAPHICS
from upright_bolt.simulator.state import SimulatedState

EDGE_S = 30.0
"""At its edge a chip gets one frame in so many seconds wrong."""
SLEEPS_AFTER_S = 5.0
GRID_MHZ = 5.0
DIE_J_PER_K = 18.0
LEAST_VOLTS = 0.66
"""No offset takes the voltage below it: points down there are idle states."""
DRIFT_MHZ = 16.0
"""How much lower than asked the clock lies once the chip is hot."""
DRIFT_FROM_C, DRIFT_TO_C = 45.0, 80.0
HEAT_STEP_MHZ = 12.0
SLOWEST_PART = 0.15
"""A chip without work keeps so much of its leakage."""
MEMORY_SLOPE_PART = 0.00343
"""Of its memory's stock clock: over so many MHz the rate of its errors grows by a factor of e."""
ROOM_MV_PER_MHZ = 0.02
UNLIMITED_W = 1e6
AT_LOWEST = ("low", "profile_min_sclk")
AT_HIGHEST = ("high", "profile_peak")
MEMORY_AT_LOWEST = ("low", "profile_min_mclk")
"""Levels of amdgpu that hold the clock at its lowest, at its highest, and the memory's at its lowest."""
STANDARD, STANDARD_PART = "profile_standard", 0.6
"""A level that holds the clock, and where: a part of the highest, for measurements that do not swing."""
LOWEST_MEMORY_PART = 0.25
WAITING_PART = 0.15
"""Of its switching watts: drawn without work where the level holds the clock up."""
PART_WITHIN = 0.5
"""Part of the package limit that a chip within the processor gets whatever the cores want."""


class Gpu:
    """Advances one graphics chip.

    Attributes:
        spec, state: what it is, and where it stands.
        demand: what is asked of it; None for nothing.
        froze: whether the machine has frozen in the last step.
    """

    def __init__(self, spec: GraphicsSpec, state: GraphicsState) -> None:
        self.spec = spec
        self.state = state
        self.demand: GraphicsDemand | None = None
        self.froze = False

    def touch(self, now_s: float) -> None:
        """Note that something reaches for its registers: that wakes it, and keeps it awake."""
        state = self.state
        # Counted, so that a test can show that reading has left a sleeping GPU alone.
        if state.asleep:
            state.asleep = False
            state.woken += 1
        state.used_s = now_s

    @property
    def resting(self) -> bool:
        """Whether nothing of it changes as time passes: asleep, or without work where only the screen hangs on it."""
        idle = self.demand is None and self.spec.built_in and self.state.level not in AT_HIGHEST
        return self.state.asleep or idle

    def work(self, demand: GraphicsDemand | None, now_s: float) -> None:
        """Take up work, which wakes it without being counted; None for none."""
        self.demand, state = demand, self.state
        if demand is not None:
            state.asleep, state.used_s = False, now_s
        elif self.spec.built_in:
            state.busy = state.watts = 0.0
            self.rest()

    def rest(self) -> None:
        """Let it stand at the clock that it has without work, as it is set now."""
        if not self.state.asleep:
            self.state.clock_mhz = self._asked_clock()

    def wants_w(self) -> float:
        """Return the watts that it would draw if no power limit held it; 0 while it sleeps."""
        return 0.0 if self.state.asleep else self._power(self._asked_clock())

    @property
    def ceiling_c(self) -> float:
        """The temperature that its driver keeps it below."""
        return self.state.heat_target_c or self.spec.ceiling_c

    def step(self, now_s: float, dt: float, budget_w: float, sink_c: float, noise: Noise) -> float:
        """Let ``dt`` seconds pass with at most ``budget_w``, and return its watts."""
        state, spec = self.state, self.spec
        if state.asleep:
            state.die_c = sink_c
            state.watts = state.busy = state.clock_mhz = 0.0
            return 0.0
        demand = self.demand
        state.busy = demand.share if demand is not None else 0.0
        asked = self._asked_clock()
        clock = min(asked, state.heat_cap_mhz)
        state.held = "idle" if demand is None else "heat" if clock < asked else ""
        # Its own limit, and what the shared budget leaves; 0 is a GPU without a limit of its own.
        allowed = min(budget_w, state.limit_w or budget_w)
        if self._power(clock) > allowed:
            clock, state.held = self._clock_for(allowed, clock), "power"
        state.clock_mhz = clock
        state.watts = self._power(clock)
        if demand is not None:
            state.used_s = now_s
            # Only work shows an error: an unstable voltage at rest is found by nobody.
            self._err(now_s, dt, demand, noise)
        # A GPU that drives a screen never sleeps while the screen is on.
        elif not spec.drives_screen and now_s - state.used_s > SLEEPS_AFTER_S:
            state.asleep = True
        self._warm(sink_c, dt)
        return state.watts

    def frames_a_minute(self) -> float:
        """Return how fast it renders what is asked of it, in frames a minute."""
        demand, spec, state = self.demand, self.spec, self.state
        if demand is None or state.asleep or not state.clock_mhz:
            return 0.0
        heavy_min = (
            (1.0 - spec.memory_part) / (state.clock_mhz / 1000.0) + spec.memory_part / self._memory_speed
        ) / spec.frames_rate
        return demand.share / (demand.weight * heavy_min)

    def _asked_clock(self) -> float:
        state, spec = self.state, self.spec
        low, high = state.clocks_mhz
        # A locked clock is taken as it is; an offset moves the curve, and so what is reached without a lock.
        if not state.locked:
            high = min(spec.clock_top_mhz, high + state.clock_offset_mhz)
        if state.level in AT_LOWEST:
            return spec.clock_min_mhz
        if state.level == STANDARD:
            return min(high, STANDARD_PART * spec.clock_max_mhz)
        if self.demand is None and state.level not in AT_HIGHEST:
            return min(low, high)
        warm = min(1.0, max(0.0, (state.die_c - DRIFT_FROM_C) / (DRIFT_TO_C - DRIFT_FROM_C)))
        return max(spec.clock_min_mhz, low, high - DRIFT_MHZ * warm)

    @property
    def _memory_speed(self) -> float:
        """How fast its memory is against stock."""
        state, stock = self.state, self.spec.memory_mhz[0]
        if state.level in MEMORY_AT_LOWEST:
            return LOWEST_MEMORY_PART
        return state.memory_mhz / stock if state.memory_mhz else 1.0

    def volts(self, clock_mhz: float) -> float:
        """Return the voltage in force at a clock."""
        return max(LEAST_VOLTS, self.spec.volts(clock_mhz) + self._moved_mv(clock_mhz) / 1000.0)

    def _moved_mv(self, clock_mhz: float) -> float:
        """Return by how many mV the voltage of a clock differs from stock: by its offset, or as another clock's."""
        spec, state = self.spec, self.state
        # A clock offset moves the curve sideways: each clock then runs at the voltage that belonged to a lower one.
        shifted_v = spec.volts(clock_mhz - state.clock_offset_mhz) - spec.volts(clock_mhz)
        return state.offset_mv + 1000.0 * shifted_v

    def _power(self, clock: float) -> float:
        spec, state, demand = self.spec, self.state, self.demand
        volts = self.volts(clock)
        leak: float = spec.leakage_w * volts**3 * 2.0 ** ((state.die_c - 60.0) / spec.leakage_doubling_c)
        switching = spec.switching_w * volts * volts * clock / 1000.0
        if demand is None:
            waiting = WAITING_PART * switching if state.level in AT_HIGHEST else 0.0
            return spec.idle_w + waiting + (SLOWEST_PART * leak if not spec.built_in else 0.0)
        memory = spec.memory_w * demand.activity * self._memory_speed
        return spec.idle_w + switching * demand.activity * demand.share + leak + memory

    def _clock_for(self, watts: float, highest: float) -> float:
        """Return the highest clock of at most ``watts``; the lowest if none is."""
        low, high = self.spec.clock_min_mhz, highest
        # Below its lowest clock it cannot go, so a limit that is too low is exceeded.
        if self._power(low) >= watts:
            return low
        while high - low > GRID_MHZ:
            middle = (low + high) / 2.0
            low, high = (middle, high) if self._power(middle) <= watts else (low, middle)
        return low

    def _warm(self, sink_c: float, dt: float) -> None:
        state, spec = self.state, self.spec
        to_sink = (state.die_c - sink_c) / spec.to_sink
        state.die_c += (state.watts - to_sink) * dt / DIE_J_PER_K
        if state.die_c >= self.ceiling_c:
            state.heat_cap_mhz = max(spec.clock_min_mhz, min(state.heat_cap_mhz, state.clock_mhz) - HEAT_STEP_MHZ)
        elif state.die_c < self.ceiling_c - 1.0:
            # Four times slower up than down, or it would swing about its ceiling.
            state.heat_cap_mhz = min(spec.clock_top_mhz, state.heat_cap_mhz + HEAT_STEP_MHZ / 4.0)

    def beyond_mv(self, demand: GraphicsDemand) -> float:
        """Return how far beyond its edge the chip works, in mV; below zero within it.

        The margin belongs to a voltage at a clock: a chip that works at a lower one than its highest has more of it.
        """
        spec, state = self.spec, self.state
        edge = spec.edge_mv - spec.light_further_mv * (1.0 - demand.activity)
        # Makers set the margin at the highest clock; below it the same voltage is more than needed.
        room = ROOM_MV_PER_MHZ * max(0.0, spec.clock_max_mhz - state.clock_mhz)
        return edge - room - self._moved_mv(state.clock_mhz)

    def hazards(self, demand: GraphicsDemand) -> tuple[float, float, float]:
        """Return how often a second a frame is wrong, the driver resets the chip, and the machine freezes."""
        spec, state = self.spec, self.state
        beyond = self.beyond_mv(demand)
        wrong = _rate(beyond, spec.slope_mv)
        if state.memory_mhz:
            beyond_mhz = state.memory_mhz - spec.memory_edge_mhz
            wrong += _rate(beyond_mhz, MEMORY_SLOPE_PART * spec.memory_mhz[0]) * demand.activity
        return (
            wrong,
            _rate(beyond - spec.reset_beyond_mv, spec.slope_mv),
            _rate(beyond - spec.freeze_beyond_mv, spec.slope_mv),
        )

    def _err(self, now_s: float, dt: float, demand: GraphicsDemand, noise: Noise) -> None:
        wrong, reset, freeze = self.hazards(demand)
        # Saves three draws in nearly every step of a chip at stock.
        if wrong * dt < 1e-7:
            return
        state = self.state
        if noise.uniform() < 1.0 - exp(-wrong * dt * demand.share):
            state.wrong.append(now_s)
        if noise.uniform() < 1.0 - exp(-reset * dt * demand.share):
            self.reset()
        self.froze = noise.uniform() < 1.0 - exp(-freeze * dt * demand.share)

    def reset(self) -> None:
        """Let the driver reset the chip: everything that was set is gone, and so is the work."""
        spec, state = self.spec, self.state
        state.resets += 1
        # A driver's reset loads the firmware's tables again; nothing tells the program that set them.
        state.table_to_stock(spec)
        state.limit_w, state.level = spec.limit_w[0], "auto"
        self.demand = None


def _rate(beyond: float, slope: float) -> float:
    """Return errors a second; one in ``EDGE_S`` at the edge, e times as many a slope further."""
    return exp(max(-60.0, min(beyond / slope, log(1e4)))) / EDGE_S


class GraphicsChips:
    """All graphics chips of a twin, and what they draw.

    Attributes:
        chips: in the order of the twin's description.
        inside_w: watts of those within the processor.
    """

    def __init__(self, spec: MachineSpec, state: SimulatedState) -> None:
        self._shared_w = spec.shared_w
        self.chips = [Gpu(*pair) for pair in zip(spec.graphics, state.graphics, strict=True)]
        self.inside_w = 0.0

    @property
    def froze(self) -> bool:
        """Whether one of them has frozen the machine in the last step."""
        return any(chip.froze for chip in self.chips)

    @property
    def hottest_beside_c(self) -> float:
        """The hottest chip beside the processor that is awake; 0 °C if there is none."""
        awake = [chip.state.die_c for chip in self.chips if not chip.spec.built_in and not chip.resting]
        return max(awake, default=0.0)

    def step(self, state: SimulatedState, limit_w: float, noise: Noise, dt: float) -> float:
        """Let them go on for ``dt`` seconds, and return the watts of those beside the processor.

        Args:
            state: the twin's.
            limit_w: what the processor may draw now, chips within it included.
            noise: decides what goes wrong.
            dt: seconds.
        """
        inside_w = beside_w = 0.0
        for chip in self.chips:
            if chip.spec.driver is GraphicsDriver.CLOCK_FILES:  # its voltage is moved by the processor's mailbox
                chip.state.offset_mv = state.offsets_mv[GRAPHICS]
            # Skips a chip at rest: nearly all machines at nearly all steps have one.
            if chip.resting:
                chip.rest()
                continue
            if chip.spec.built_in:
                cores_w = state.package_w - self.inside_w
                # A GPU within the processor shares its power limit, and is never starved by the cores.
                granted = max(PART_WITHIN * limit_w, limit_w - cores_w)
                inside_w += chip.step(state.time_s, dt, granted, state.sink_c, noise)
            else:
                granted = max(0.0, self._shared_w - state.package_w) if self._shared_w else UNLIMITED_W
                beside_w += chip.step(state.time_s, dt, granted, state.sink_c, noise)
        self.inside_w = inside_w
        return beside_w
