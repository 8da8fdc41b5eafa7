"""The twin's physics: power, limiter, clock and heat, in steps of ``STEP_S``.

The limiter keeps an exponential average of the watts over the window at or below the sustained limit
and the watts of each moment at or below the burst limit; the clock is the highest that all limits allow.
"""

import uuid
from math import exp
from typing import Protocol

from upright_bolt.errors import MachineFroze
from upright_bolt.simulator import rails, thermal
from upright_bolt.simulator.chip import MachineSpec
from upright_bolt.simulator.demand import Demand
from upright_bolt.simulator.graphics import GraphicsChips
from upright_bolt.simulator.noise import Noise
from upright_bolt.simulator.power_curve import GRID_MHZ, PowerCurve
from upright_bolt.simulator.state import SimulatedState, complete, fresh_state
from upright_bolt.simulator.surroundings import OTHERS_SHARE
from upright_bolt.simulator.voltage_faults import VoltageFaults

STEP_S = 0.1
REASON_HEAT, REASON_CURRENT, REASON_ELECTRICAL = 1 << 1, 1 << 7, 1 << 8
REASON_SUSTAINED, REASON_BURST, REASON_TURBO = 1 << 10, 1 << 11, 1 << 12
NO_LIMIT_W = 1e6
REST_PART = 0.25
"""Part of the leakage that is left while resting in the deepest state; each state switched off adds REST_LOST."""
REST_LOST = 0.2
HEAT_STEP_MHZ = 60.0
SLEEPING_W = 0.3
REACTION_S = 0.7
"""How long the firmware takes to rewrite its limits."""
HELD_POWER = 5.0
"""How fast the clock that a preference holds at rest falls from the highest, at 0, to the lowest, at 255."""
ONE_THREAD_SHARE = 0.62
"""Part of a core's work and watts that one busy thread takes when its sibling sleeps."""


class DemandSource(Protocol):
    """Work that asks for the processor by turns; asked before and after every step."""

    def before(self, physics: "Physics") -> float:
        """Set the demand of the moment and return for how many seconds it will stand at most."""
        ...

    def after(self, physics: "Physics", dt: float) -> None:
        """Take note of the work done in a step of ``dt`` seconds."""
        ...


class Physics:
    """Advances a ``SimulatedState`` in time. The demand may be changed between steps.

    Attributes:
        source: work that changes the demand within a step; None for steady demand.
        beside: work of graphics chips, likewise.
    """

    def __init__(self, spec: MachineSpec, state: SimulatedState) -> None:
        self.spec = spec
        self.state = state
        self.demand = Demand()
        self.source: DemandSource | None = None
        self.beside: list[DemandSource] = []
        self._faults = VoltageFaults(spec.chip)
        self._noise = Noise(state.noise)
        complete(state, spec)
        self.graphics = GraphicsChips(spec, state)
        self._take_surroundings()
        self._curve = PowerCurve(spec.chip)
        self.settings_changed()

    def settings_changed(self) -> None:
        """Take over limits, caps and preference after a control was written."""
        state, chip = self.state, self.spec.chip
        switches = ((state.limits_on, NO_LIMIT_W), (state.burst_on, NO_LIMIT_W), (state.limits_on, 28.0))
        self._limits = [
            # Each limit stands in two copies, and the processor obeys the lower of those that are switched on.
            min((limits[column] for limits, on in zip(state.limits, switch, strict=True) if on), default=without)
            for column, (switch, without) in enumerate(switches)
        ]
        # The board limit counts all that the machine draws, so screen and memory leave less of it for the processor.
        board_w = state.board_w - self.spec.rest_w if state.board_w else NO_LIMIT_W
        self._peak_w = min(state.peak_w or NO_LIMIT_W, board_w)
        self._table = [ratio * 100.0 for ratio in state.turbo_ratios]
        # Shallow idle states save next to nothing; it is the deep ones whose loss costs power at rest.
        deep_off = sum(not key.startswith(("POLL", "C1:")) for key in state.idle_off) / len(state.idle_s)
        self._rest = min(1.0, REST_PART + REST_LOST * deep_off)
        self._floor = chip.clock_min_mhz if state.clamp else chip.base_mhz
        highest = chip.base_mhz if state.no_turbo else max(self._table)
        self._caps = [
            min(highest, max(state.clock_high_mhz[2 * i], state.clock_high_mhz[2 * i + 1])) for i in range(chip.cores)
        ]
        self._lows = min(state.clock_low_mhz)
        self._rails = rails.rails_of(chip, state.offsets_mv, state.time_s)
        self._delivered = rails.delivered(chip, self._rails)
        self._curve.set_voltages(self._rails, rails.agent_watts_part(state.offsets_mv), self._caps)
        # Under the governor “performance”, intel_pstate ignores the preference that is set.
        eager = all(word == "performance" for word in state.governor)
        self._epp = 0.0 if eager else sum(state.epp) / len(state.epp)
        self._eager = eager

    def _take_surroundings(self) -> None:
        """Take over where room, others' work and case stand."""
        around, cooling = self.state.surroundings, self.spec.cooling
        self._room_c = cooling.ambient_c + around.room_c
        self._others = self._background = OTHERS_SHARE * exp(around.others)
        self._case_to_air = cooling.case_to_air * exp(around.case)

    def advance(self, seconds: float) -> None:
        """Let ``seconds`` pass."""
        until = self.state.time_s + seconds
        while until - self.state.time_s > 1e-9:
            # A source may ask for shorter steps, so that its tasks begin and end when they would.
            dt = min(STEP_S, until - self.state.time_s)
            sources = self.beside if self.source is None else [self.source, *self.beside]
            for source in sources:
                dt = min(dt, source.before(self))
            self._step(dt)
            for source in sources:
                source.after(self, dt)

    def _step(self, dt: float) -> None:
        state, noise = self.state, self._noise
        # The firmware acts before work and limiter, as the new limits hold for the whole step.
        state.time_s += dt
        if state.reset_due_s is not None and state.time_s >= state.reset_due_s:
            self.firmware_resets_limits()
        if state.time_s >= state.surroundings.due_s:
            state.surroundings.go_on(noise, self.spec.restless)
            self._take_surroundings()
        # Cubed: others mostly do little, and now and then much.
        self._background = background = self._others * (0.6 + 1.6 * noise.uniform() ** 3)
        state.activity_drift += (noise.gaussian() * 0.006 - state.activity_drift * 0.2) * min(1.0, dt / STEP_S)
        weights, shares, active = self._busy(background, dt)
        wanted = self._wanted_clock(active, max(shares), dt)
        switching = self.spec.chip.switching_w * self.demand.activity * (1.0 + state.activity_drift)
        # The parts that hold for the step come first: every look at the power below uses them.
        self._curve.load(weights, switching, self.state.die_c, self._rest)
        beside_w = self.graphics.step(state, min(self._limits[0], self._limits[1]), noise, dt)
        clock, watts = self._limited_clock(wanted, weights, dt)
        watts += self.graphics.inside_w
        self._account(clock, watts, weights, dt, beside_w)
        froze = self._faults.step(state, self._rails, self.demand, sum(weights) / len(weights), noise, dt)
        if froze or self.graphics.froze:
            self.restart()
            raise MachineFroze(f"{self.spec.name} froze and was restarted; its firmware's settings are in force again.")
        thermal.flow(state, self.spec.cooling, self._room_c, self._case_to_air, watts, beside_w, dt)
        thermal.turn_fan(state, self.spec.cooling, self.graphics.hottest_beside_c, dt)
        state.noise = noise.state

    def _busy(self, background: float, dt: float) -> tuple[list[float], list[float], int]:
        """Return each core's share of full watts, its busy share, and how many cores are awake."""
        state, demanded = self.state, self.demand.threads
        full = max(self.demand.share, background)
        busy_s, idle_s = state.busy_s, state.idle_s
        weights, shares = [], []
        active = 0
        for cpu in range(0, 2 * self.spec.chip.cores, 2):
            first = full if cpu in demanded else background
            second = full if cpu + 1 in demanded else background
            busy_s[cpu] += first * dt
            idle_s[cpu] += (1.0 - first) * dt
            busy_s[cpu + 1] += second * dt
            idle_s[cpu + 1] += (1.0 - second) * dt
            high, low = (first, second) if first > second else (second, first)
            weights.append(ONE_THREAD_SHARE * high + (1.0 - ONE_THREAD_SHARE) * low)
            shares.append(high)
            active += high > 0.3
        return weights, shares, max(active, 1)

    def _wanted_clock(self, active: int, share: float, dt: float) -> float:
        """Return the clock that work and preference ask for; it follows the work more slowly when thrifty."""
        state = self.state
        table = self._table[active - 1]
        thrift = self._epp / 255.0
        highest = min(max(self._caps), table)
        # Light work is where the preference shows; under full load all preferences ask for nearly the same clock.
        if share < 0.3 and not self._eager:
            held = (1.0 - thrift) ** HELD_POWER
            lift = held + (1.0 - held) * min(1.0, share * 6.0) * 0.4 * (1.0 - thrift)
            target = self._lows + (highest - self._lows) * lift
        else:
            target = highest - 90.0 * max(0.0, thrift - 0.5)
        ramp_s = 0.03 + 0.5 * thrift * thrift
        follow = 1.0 - exp(-dt / ramp_s)
        wanted: float = state.extra.get("wanted", state.clock_mhz) * (1.0 - follow) + target * follow
        state.extra["wanted"] = wanted
        return max(self._lows, min(wanted, highest))

    def _limited_clock(self, wanted: float, weights: list[float], dt: float) -> tuple[float, float]:
        """Return the highest clock that heat and watts allow, and its watts; note what held it back."""
        state = self.state
        sustained, burst, window = self._limits
        # The limiter keeps a moving average of the power below the sustained limit: what it may draw in this step is
        # what brings the average just there.
        share = 1.0 - exp(-dt / window)
        budget = state.average_w + (sustained - state.average_w) / share
        reasons = 0
        clock = wanted
        # Heat comes first, as the processor's own controller is faster than the limiter.
        if self._heat_cap(dt) < clock:
            clock = state.heat_cap_mhz
            reasons = REASON_HEAT
        most = min(burst, self._peak_w)
        allowed = max(min(budget, most) - self.graphics.inside_w, 0.0)
        curve = self._curve
        watts = curve.watts(clock)
        if watts > allowed:
            # Without clamping, the limiter may not go below the base clock.
            clock = max(curve.clock_for(allowed, clock), min(clock, self._floor))
            reasons = self._reason(budget, burst, sustained)
            watts = curve.watts(clock)
        if state.current_a:
            amps_w = state.current_a * curve.volts(clock)
            if watts > amps_w:
                clock = curve.clock_for(amps_w, clock)
                watts = curve.watts(clock)
                reasons = REASON_CURRENT
        # The turbo table goes by how many cores work, so one at its entry is held by it and by nothing else.
        table = self._table[sum(w > 0.3 for w in weights) - 1 if max(weights) > 0.3 else 0]
        if not reasons and clock >= table - GRID_MHZ:
            reasons = REASON_TURBO
        state.reasons = reasons
        # The log bits of the register stay set until someone clears them, as its status bits do not.
        state.log |= reasons
        return clock, watts

    def _reason(self, budget: float, burst: float, sustained: float) -> int:
        """Return the bit of the lowest limit; a burst limit that leaves no burst is the sustained one."""
        lowest = min(budget, burst, self._peak_w)
        # Where both limits are one, people set the sustained one; naming the burst limit would mislead them.
        if lowest == budget or (lowest == burst == sustained):
            return REASON_SUSTAINED
        return REASON_BURST if lowest == burst else REASON_ELECTRICAL

    def _heat_cap(self, dt: float) -> float:
        state, chip = self.state, self.spec.chip
        hottest = self.hottest_c()
        ceiling = chip.ceiling_c - state.ceiling_offset_c
        if hottest >= ceiling:
            start = min(state.heat_cap_mhz, state.clock_mhz + HEAT_STEP_MHZ)
            state.heat_cap_mhz = max(chip.clock_min_mhz, start - HEAT_STEP_MHZ * dt / STEP_S)
            if not state.throttling:
                state.throttle_events += 1
            state.throttling = True
        elif hottest < ceiling - 0.6:
            # It recovers more slowly than it throttles, or it would swing.
            state.heat_cap_mhz = min(chip.turbo_table_mhz[0], state.heat_cap_mhz + 0.25 * HEAT_STEP_MHZ * dt / STEP_S)
            state.throttling = hottest > ceiling - 2.0 and state.throttling
        if state.throttling:
            state.throttle_s += dt
        return state.heat_cap_mhz

    def pace(self) -> float:
        """Return what a busy core gets done, in GHz of clock less what waiting for memory costs."""
        ghz = self.state.clock_mhz / 1000.0
        return self._delivered * (1.0 - self._background) * ghz / (1.0 + self.spec.chip.memory_drag * ghz)

    def _account(self, clock: float, watts: float, weights: list[float], dt: float, beside_w: float) -> None:
        state, chip = self.state, self.spec.chip
        state.clock_mhz = clock
        state.volts = self._curve.volts(clock)
        state.package_w = watts
        state.average_w += (watts - state.average_w) * (1.0 - exp(-dt / self._limits[2]))
        state.energy_j += watts * dt
        if self.demand.threads:
            rate = 0.0
            for cap, weight in zip(self._caps, weights, strict=True):
                ghz = min(clock, cap) / 1000.0
                rate += weight * ghz / (1.0 + chip.memory_drag * ghz)
            state.units += self._delivered * chip.units_rate * rate * (1.0 - self._background) * dt / 60.0
        if state.charger:
            full = self.spec.battery_wh * 3600.0
            state.battery_j = min(full, state.battery_j + 30.0 * dt)
        else:
            state.battery_j = max(0.0, state.battery_j - (watts + beside_w + self.spec.rest_w) * dt)

    def restart(self) -> None:
        """Start the machine anew: another boot, firmware settings, nothing running."""
        old = self.state
        fresh = fresh_state(self.spec, self._noise.state)
        fresh.time_s, fresh.charger, fresh.battery_j = old.time_s, old.charger, old.battery_j
        fresh.boot_id = str(uuid.uuid5(uuid.UUID(old.boot_id), "next"))  # another one even if no time has passed
        fresh.surroundings = old.surroundings
        # A restart takes long enough for the die to cool to its sink, not for the sink to cool.
        fresh.sink_c, fresh.case_c, fresh.die_c = old.sink_c, old.case_c, old.sink_c
        # In place: files, registers and loads all hold on to this state.
        for name in SimulatedState.__dataclass_fields__:
            setattr(old, name, getattr(fresh, name))
        self.demand = Demand()
        self.source, self.beside = None, []
        self.graphics = GraphicsChips(self.spec, old)
        self.firmware_resets_limits()

    def sleep(self, seconds: float) -> None:
        """Let the machine sleep: it cools down, and registers and limits are the firmware's when it wakes."""
        state, spec = self.state, self.spec
        state.time_s += seconds
        state.slept_s += seconds
        state.die_c = state.sink_c = state.case_c = self._room_c
        state.average_w = state.package_w = 0.0
        if not state.charger:
            state.battery_j = max(0.0, state.battery_j - SLEEPING_W * seconds)
        # Registers lose their content in S3; firmware writes its own values on waking.
        state.offsets_mv = [0.0] * len(state.offsets_mv)
        state.turbo_ratios = [round(mhz / 100.0) for mhz in spec.chip.turbo_table_mhz]
        state.peak_w, state.current_a, state.board_w = spec.peak_w, spec.current_a, spec.board_w
        state.clamp, state.burst_clamp, state.ceiling_offset_c, state.hot_signal = True, False, 0, True
        state.limits_on, state.burst_on = [True, True], [True, True]
        self.firmware_resets_limits()

    def core_c(self, core: int) -> float:
        """Return the temperature of one core in °C."""
        per_core = self.state.package_w / self.spec.chip.cores
        return self.state.die_c + self.spec.chip.core_offset_c_per_w[core] * per_core

    def hottest_c(self) -> float:
        """Return the temperature of the hottest core in °C."""
        worst = max(self.spec.chip.core_offset_c_per_w)
        return self.state.die_c + worst * self.state.package_w / self.spec.chip.cores

    def plug(self, *, charger: bool) -> None:
        """Plug the charger in or out; the firmware puts its own limits in force within a second."""
        if charger != self.state.charger:
            self.state.charger = charger
            self.state.reset_due_s = self.state.time_s + REACTION_S

    def set_mode(self, mode: str) -> None:
        """Take over a platform mode; the firmware follows with its limits within a second."""
        if mode != self.state.mode:
            self.state.mode = mode
            self.state.reset_due_s = self.state.time_s + REACTION_S

    def firmware_resets_limits(self) -> None:
        """Put the firmware's limits for the present power source and mode in force, in both copies."""
        state = self.state
        by_mode = {"quiet": self.spec.quiet, "performance": self.spec.eager}
        wanted = by_mode.get(state.mode, self.spec.stock) if state.charger else self.spec.on_battery
        state.limits = [[wanted.sustained_w, wanted.burst_w, wanted.window_s] for _ in state.limits]
        state.reset_due_s = None
        self.settings_changed()
