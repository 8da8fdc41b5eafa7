"""A machine's way of shedding heat as a model of few numbers: die, sink and case in the air of the room, and a fan.

::

    T = D + r0·P                         what the sensors show; r0·P is the part between sensor and die, at once
    C_die · dD/dt = P − (D − S)/R_die
    C_sink · dS/dt = (D − S)/R_die − (S − A)·(still + blown·rpm/1000) − (S − C)/R_case
    C_case · dC/dt = (S − C)/R_case − (C − A)/R_air
    rpm = a + b·S + c·(T − S)            a fan follows a sensor somewhere between sink and die; never below zero

``P`` is measured, and so is the fan's speed while the run goes on; ahead of it the fan follows its own law. A parameter
set is a vector of length ``COUNT``: logarithms of what is positive, then room, case, and the fan's three numbers.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
STEP_S = 1.0
AHEAD_STEP_S = 5.0
HOLD_S = 1800.0
"""What a limit is expected to be held for: the half hour after which people call it proven."""

NAMES = ("die", "at_once", "die_capacity", "sink", "still", "blown", "to_case", "case", "to_air",
         "room", "case_off", "fan_a", "fan_b", "fan_c")  # fmt: skip
COUNT = len(NAMES)
POSITIVE = 9
ROOM, CASE_OFF, FAN_A, FAN_B, FAN_C = range(POSITIVE, COUNT)

_BLOWN = np.log([0.81, 0.074, 2.9, 120.0, 0.25, 0.25, 2.6, 560.0, 1.8])
_STILL = np.log([1.28, 0.0625, 2.1, 80.0, 0.03, 0.01, 1.5, 450.0, 3.2])
"""Centres for machines with a fan of 20 W, and without one of 8 W: those shed their heat through a thin case.

Not measured, but estimated from how such machines are built: heat capacities from masses of aluminium, 0.9 J/(g·K)
(120 J/K is a sink of 130 g, 560 J/K a case of 620 g); the way from case to room from 0.06 m² at 9 W/(m²·K), which is
free convection and radiation near room temperature (Incropera and DeWitt, Fundamentals of Heat and Mass Transfer,
section 1.2), hence 1.8 K/W; half of that area without a fan, since only one side is warm.
"""
_BLOWN_WIDTHS = np.array([0.5, 0.6, 0.5, 0.5, 0.22, 0.4, 0.15, 0.3, 0.17])
_STILL_WIDTHS = np.array([0.5, 0.6, 0.5, 0.5, 0.5, 0.5, 0.18, 0.3, 0.18])
"""Standard deviations of the logarithms, around what a machine of that size has: a factor of 1.5 where builds differ
much, of 1.3 where little."""
_BLOWN_SIZE_W, _STILL_SIZE_W, _SIZES = 20.0, 8.0, (0.4, 4.0)
_GROWS = np.array([-0.5, 0.0, 0.5, 1.0, 0.7, 0.7, 0.4, 0.5, -0.1])
"""Powers of the sustained limit with which die, sink, fan and case grow; a large sink stands freer of its case, and a
larger case has more surface."""
_MOST_AT_ONCE = 0.9
_ROOM_C, _ROOM_WIDTH_C = 23.0, 2.8
_CASE_WIDTH_C = 2.5
_FAN_A, _FAN_A_WIDTH = -600.0, 6000.0
_FAN_B, _FAN_B_WIDTH = 55.0, 40.0
_FAN_C, _FAN_C_WIDTH = 22.0, 16.0


@dataclass(frozen=True, slots=True)
class Prior:
    """What is known of a machine before a run: a mean and the inverse of the covariance (shape ``COUNT, COUNT``)."""

    mean: Floats
    precision: Floats


def vague(*, fan: bool, size_w: float | None = None) -> Prior:
    """Return what is known of any machine, or of any whose maker lets it draw ``size_w`` for long.

    What is built for more watts has more metal and a wider way from the die into it.
    """
    usual_w = _BLOWN_SIZE_W if fan else _STILL_SIZE_W
    size = min(max((size_w or usual_w) / usual_w, _SIZES[0]), _SIZES[1])
    built = (_BLOWN if fan else _STILL) + np.log(size) * _GROWS
    mean = np.concatenate([built, [_ROOM_C, 0.0, _FAN_A, _FAN_B, _FAN_C]])
    widths = np.concatenate(
        [
            _BLOWN_WIDTHS if fan else _STILL_WIDTHS,
            [_ROOM_WIDTH_C, _CASE_WIDTH_C, _FAN_A_WIDTH, _FAN_B_WIDTH, _FAN_C_WIDTH],
        ]
    )
    return Prior(mean, np.diag(1.0 / widths**2))


@dataclass(frozen=True, slots=True)
class Measured:
    """A run's readings on a grid of ``STEP_S``, from rest on; each of shape ``(n,)``.

    Attributes:
        power_w, temp_c: watts, and the temperature as the sensors show it.
        rpm: the fan's speed; zeros for a machine without one.
        rest_w, rest_c: watts and temperature at rest, before the first of them.
        blows: whether there is a fan.
        noise_c: standard deviation of one reading around the truth.
    """

    power_w: Floats
    temp_c: Floats
    rpm: Floats
    rest_w: float
    rest_c: float
    blows: bool
    noise_c: float


@dataclass(slots=True)
class Bodies:
    """Where the heat stands, for several parameter sets at once: each of shape ``(sets,)``."""

    die: Floats
    sink: Floats
    case: Floats


def positive(sets: Floats) -> Floats:
    """Return r0, R_die, C_die, C_sink, still, blown, R_case, C_case, R_air of sets ``(n, COUNT)``: shape ``(9, n)``.

    A run tells the sum of r0 and R_die well, and hardly how it is divided, so the sum and r0's part are parameters.
    """
    found = np.exp(sets[:, :POSITIVE]).T
    # Held below the whole: with nothing left for R_die, the die would have no time constant and the model no inverse.
    at_once = found[0] * np.minimum(found[1], _MOST_AT_ONCE)
    return np.vstack([at_once, found[0] - at_once, found[2:]])


def at_rest(sets: Floats, rest_w: float, rest_c: float) -> Bodies:
    """Return where the bodies stand at rest at ``rest_w``, for sets of shape ``(sets, COUNT)``."""
    r0, die, _, _, _, _, to_case, _, to_air = positive(sets)
    warm = die * rest_w
    # Backwards from what the sensor shows: at rest no heat is stored, so each way carries the same watts.
    sink = rest_c - warm - r0 * rest_w
    room = sets[:, ROOM]
    # The case lies between sink and room by their resistances, but rest is rarely long enough for it; hence CASE_OFF.
    case = room + (sink - room) * to_air / (to_air + to_case) + sets[:, CASE_OFF]
    return Bodies(sink + warm, sink, case)


def follow(sets: Floats, measured: Measured, bodies: Bodies) -> tuple[Floats, Floats]:
    """Return temperatures and what the fan law says, each of shape ``(sets, n)``; ``bodies`` move along to the end."""
    r0, die, capacity, sink_c, still, blown, to_case, case_c, to_air = positive(sets)
    room, a, b, c = sets[:, ROOM], sets[:, FAN_A], sets[:, FAN_B], sets[:, FAN_C]
    # Exact for the die: its time constant can be below a step, where the simple rule would swing.
    share = 1.0 - np.exp(-STEP_S / (die * capacity))
    power, rpm = measured.power_w, measured.rpm / 1000.0
    temps = np.empty((len(sets), len(power)))
    speeds = np.empty_like(temps)
    hot, sink, case = bodies.die, bodies.sink, bodies.case
    # A loop over time with all sets in one array: sets are many, so this is where NumPy helps.
    for i in range(len(power)):
        before = hot
        hot = hot + (sink + die * power[i] - hot) * share
        across = (sink - case) / to_case
        inwards = power[i] - (hot - before) * capacity / STEP_S  # what does not warm the die goes on
        sink = sink + (inwards - (sink - room) * (still + blown * rpm[i]) - across) * (STEP_S / sink_c)
        case = case + (across - (case - room) / to_air) * (STEP_S / case_c)
        shown = hot + r0 * power[i]
        temps[:, i] = shown
        speeds[:, i] = a + b * sink + c * (shown - sink)
    bodies.die, bodies.sink, bodies.case = hot, sink, case
    return temps, speeds


def ahead(sets: Floats, bodies: Bodies, watts: Floats, seconds: float, *, blows: bool) -> Floats:
    """Return the temperature after ``seconds`` at ``watts`` (one for each set), the fan following its law.

    The die, whose memory is seconds, is taken to be settled: steps are ``AHEAD_STEP_S`` long.
    """
    r0, die, _, sink_c, still, blown, to_case, case_c, to_air = positive(sets)
    room, a, b, c = sets[:, ROOM], sets[:, FAN_A], sets[:, FAN_B], sets[:, FAN_C]
    # Above the sink, since the die has settled.
    above = (die + r0) * watts
    sink, case = bodies.sink, bodies.case
    for _ in range(round(seconds / AHEAD_STEP_S)):
        speed = np.maximum(0.0, a + b * sink + c * above) / 1000.0 if blows else 0.0
        across = (sink - case) / to_case
        sink = sink + (watts - (sink - room) * (still + blown * speed) - across) * (AHEAD_STEP_S / sink_c)
        case = case + (across - (case - room) / to_air) * (AHEAD_STEP_S / case_c)
    return np.asarray(sink + above)


def watts_for(sets: Floats, start: Bodies, below_c: float | Floats, *, blows: bool, seconds: float = HOLD_S) -> Floats:
    """Return the watts that bring each set to ``below_c``, one or each its own, after ``seconds``; NaN where none do.

    By the secant rule: the temperature is nearly a straight line over the watts.
    """
    # Any two different starts do; these bracket what laptops sustain.
    low = np.full(len(sets), 5.0)
    high = np.full(len(sets), 25.0)
    at_low = ahead(sets, start, low, seconds, blows=blows) - below_c
    at_high = ahead(sets, start, high, seconds, blows=blows) - below_c
    for _ in range(8):
        # At least 0.05 K/W: where two points coincide there is no slope, and the step would go anywhere.
        slope = np.maximum((at_high - at_low) / np.where(high == low, 1.0, high - low), 0.05)
        low, at_low = high, at_high
        high = np.clip(high - at_high / slope, 0.2, 400.0)
        if np.all(np.abs(high - low) < 1e-3):
            break
        at_high = ahead(sets, start, high, seconds, blows=blows) - below_c
    return np.where((high > 0.5) & (high < 399.0), high, np.nan)
