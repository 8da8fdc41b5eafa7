"""Where a twin's heat goes: from die to sink to case to the room, with a fan on the sink."""

from upright_bolt.simulator.chip import CoolingSpec
from upright_bolt.simulator.state import SimulatedState

FAN_SLEW_RPM_S = 260.0
SENSED_PART = 0.35
"""The fan follows a sensor that lies so far from the sink to the die."""
SENSED_OF_CHIP = 0.8
"""The same of a graphics chip on the same sink; the fan follows the hotter of both."""


def flow(
    state: SimulatedState,
    cooling: CoolingSpec,
    room_c: float,
    case_to_air: float,
    watts: float,
    beside_w: float,
    dt: float,
) -> None:
    """Let heat flow for ``dt`` seconds into a room of ``room_c``.

    Args:
        state: the twin's.
        cooling: what it is cooled by.
        room_c: temperature of the room.
        case_to_air: in K/W.
        watts: of the processor, which go into its die.
        beside_w: of what else hangs on its sink.
        dt: seconds.
    """
    to_sink = (state.die_c - state.sink_c) / cooling.die_to_sink
    to_case = (state.sink_c - state.case_c) / cooling.sink_to_case
    conductance = cooling.still_w_per_k + cooling.fan_w_per_k_krpm * state.rpm / 1000.0
    to_air = (state.sink_c - room_c) * conductance
    from_case = (state.case_c - room_c) / case_to_air
    state.die_c += (watts - to_sink) * dt / cooling.die_j_per_k
    state.sink_c += (to_sink + beside_w - to_case - to_air) * dt / cooling.sink_j_per_k
    state.case_c += (to_case - from_case) * dt / cooling.case_j_per_k


def turn_fan(state: SimulatedState, cooling: CoolingSpec, chip_c: float, dt: float) -> None:
    """Let the fan follow its curve for ``dt`` seconds; ``chip_c`` is the hottest graphics chip beside the processor."""
    sensed = state.sink_c + max(SENSED_PART * (state.die_c - state.sink_c), SENSED_OF_CHIP * (chip_c - state.sink_c))
    # On and off lie apart, or a fan at its threshold would start and stop all the time.
    if sensed < (cooling.fan_off_c if state.rpm > 0 else cooling.fan_on_c):
        target = 0.0
    else:
        if cooling.fan_step_c:
            sensed = cooling.fan_step_c * int(sensed / cooling.fan_step_c)
        span = max(0.0, min(1.0, (sensed - cooling.fan_on_c) / (cooling.fan_high_c - cooling.fan_on_c)))
        target = cooling.fan_low_rpm + span * (cooling.fan_high_rpm - cooling.fan_low_rpm)
    most = FAN_SLEW_RPM_S * dt
    state.rpm += max(-most, min(most, target - state.rpm))
