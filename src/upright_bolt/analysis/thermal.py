"""How a machine's cooling answers to watts, fitted to one run; from it, what it settles at and what it carries.

A network of three bodies (die, sink, case) in the air of the room, with a fan on the sink::

    T  = S + R_die · P*              P* is P delayed by the die's time constant
    C_sink · dS/dt = P − (S − A)·(g0 + g1·fan) − (S − C)/R_case
    C_case · dC/dt = (S − C)/R_case − (C − A)/R_air

fitted by least squares to the measured temperature, with measured watts and fan speed as given. A run of minutes hardly
shows the slow part (the case), so every parameter has a prior from the build of laptops and small PCs; where the run
says little, the prior's width shows in the uncertainty. Intervals of 95 % come from draws around the fit (its
Gauss–Newton covariance). Beyond the temperatures seen, the fan is taken to follow its own straight line.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

Floats = NDArray[np.float64]
STEP_S = 1.0
LEAST_S = 60.0
LEAST_RISE_C = 6.0
SENSOR_C = 0.6
"""Scatter of a reading around the model: sensors read whole degrees, and cores differ from moment to moment."""
DRAWS = 300
NARROW_C = 3.0
ORDINARY_RPM_PER_C = 55.0
"""A fan curve's slope where the run is too even to tell it."""
SETTLED_C = 1.0
LONGEST_S = 7200.0
HOLD_S = 1800.0
"""What a limit is expected to be held for: the half hour after which people call it proven."""

NAMES = ("die", "die_tau", "sink", "still", "blown", "to_case", "case", "to_air")
_BLOWN = np.log(np.array([0.8, 2.5, 120.0, 0.25, 0.25, 2.6, 560.0, 1.8]))
_STILL = np.log(np.array([1.2, 2.5, 80.0, 0.03, 0.01, 1.5, 450.0, 3.2]))
"""Centres for machines with a fan, and without one: those shed their heat through a thin case.

Not measured, but estimated from how such machines are built: heat capacities from masses of aluminium, 0.9 J/(g·K)
(120 J/K is a sink of 130 g, 560 J/K a case of 620 g); the way from case to room from 0.06 m² at 9 W/(m²·K), which is
free convection and radiation near room temperature (Incropera and DeWitt, Fundamentals of Heat and Mass Transfer,
section 1.2), hence 1.8 K/W; half of that area without a fan, since only one side is warm.
"""
_WIDTH = np.array([0.8, 0.7, 0.9, 0.7, 0.9, 0.35, 0.5, 0.35])
"""Standard deviations of the logarithms: a factor of two to 2.5 where builds differ much, of 1.4 where little."""
_AIR_C, _AIR_WIDTH_C = 23.0, 4.0
_CASE_WIDTH_C = 5.0
_WIDTHS = np.append(_WIDTH, [_AIR_WIDTH_C, _CASE_WIDTH_C])


@dataclass(frozen=True, slots=True)
class Interval:
    """A number with its interval of 95 %."""

    value: float
    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Cooling:
    """A fitted cooling.

    Attributes:
        resistance_c_per_w: degrees above the room per watt once settled, at the run's own watts.
        taus_s: the time constants of sink and case at the run's last fan speed, the shorter first.
        ambient_c: the room, or what stands for it.
        settled_c: temperature that the run's last watts lead to.
        still_needs_s: seconds from the end of the run until within a degree of that; 0 if there already.
        draws: parameter sets around the fit, shape (n, 10): the logarithms of ``NAMES``, room, case at the start.
        fan: rpm at 0 °C and rpm per degree; zeros for a machine without a fan.
        start_c: the temperature that the run began at.
    """

    resistance_c_per_w: Interval
    taus_s: tuple[Interval, Interval]
    ambient_c: Interval
    settled_c: Interval
    still_needs_s: float
    draws: Floats
    fan: tuple[float, float]
    start_c: float

    def carries(self, below_c: float) -> Interval | None:
        """Return the highest watts that stay below ``below_c`` for half an hour; None if not even the room does."""
        watts = _watts_for(self.draws, self.fan, self.start_c, below_c)
        if np.isnan(watts[0]):
            return None
        return _interval(watts)


def fit(time_s: Floats, power_w: Floats, temp_c: Floats, fan_rpm: Floats | None) -> Cooling | None:
    """Return the cooling that a run shows; None if it is too short, too flat, or not measured.

    Args:
        time_s: sample times from load start, shape (n,), rising; samples before it are left out.
        power_w: package watts, shape (n,), NaN where not measured.
        temp_c: package temperature, the same.
        fan_rpm: fan speed, the same; None for a machine without one.
    """
    known = (time_s >= 0) & ~np.isnan(power_w) & ~np.isnan(temp_c)
    if known.sum() < LEAST_S or float(time_s[known][-1]) < LEAST_S:
        return None
    grid = np.arange(0.0, float(time_s[known][-1]) + 1e-9, STEP_S)
    power, temp = (np.interp(grid, time_s[known], column[known]) for column in (power_w, temp_c))
    if float(temp.max() - temp[0]) < LEAST_RISE_C:
        return None
    blows = fan_rpm is not None and bool(np.nanmax(fan_rpm[known], initial=0.0) > 0)
    fan = np.interp(grid, time_s[known], np.nan_to_num(fan_rpm[known])) if blows and fan_rpm is not None else 0.0 * grid
    prior = np.append(_BLOWN if blows else _STILL, [_AIR_C, 0.6 * temp[0] + 0.4 * _AIR_C])
    found = least_squares(
        lambda p: _rest(p, prior, power, temp, fan), prior, jac=lambda p: _jacobian(p, power, temp, fan)
    )
    spread = np.linalg.inv(found.jac.T @ found.jac)
    draws = np.random.default_rng(0).multivariate_normal(found.x, spread, DRAWS)
    draws[0] = found.x
    line = _fan_line(temp, fan)
    last = float(power[-max(1, len(power) // 4) :].mean())
    settled = _settled(draws, line, last)
    ambient = draws[:, 8]
    return Cooling(
        resistance_c_per_w=_interval((settled - ambient) / last),
        taus_s=_taus(draws, line, settled),
        ambient_c=_interval(ambient),
        settled_c=_interval(settled),
        still_needs_s=_still_needs(found.x, power, fan, line, last, float(settled[0])),
        draws=draws,
        fan=line,
        start_c=float(temp[0]),
    )


def _interval(draws: Floats) -> Interval:
    low, high = np.nanpercentile(draws, [2.5, 97.5])
    return Interval(float(draws[0]), float(min(low, draws[0])), float(max(high, draws[0])))


def _simulate(params: Floats, power: Floats, fan: Floats, first_c: float) -> Floats:
    """Return temperatures, shape (sets, n), for parameter sets of shape (sets, 10)."""
    die, tau, sink, still, blown, to_case, case, to_air = np.exp(params[:, :8]).T
    air, body = params[:, 8], params[:, 9].copy()
    resting = float(power[:3].min())
    delayed = np.full(len(params), resting)
    body_s = first_c - die * resting
    out = np.empty((len(params), len(power)))
    share = 1.0 - np.exp(-STEP_S / tau)
    for i in range(len(power)):
        delayed += (power[i] - delayed) * share
        out[:, i] = body_s + die * delayed
        to_air_now = (body_s - air) * (still + blown * fan[i] / 1000.0)
        across = (body_s - body) / to_case
        body_s = body_s + (power[i] - to_air_now - across) * STEP_S / sink
        body = body + (across - (body - air) / to_air) * STEP_S / case
    return out


def _rest(p: Floats, prior: Floats, power: Floats, temp: Floats, fan: Floats) -> Floats:
    model = _simulate(p[None, :], power, fan, float(temp[0]))[0]
    return np.concatenate([(model - temp) / SENSOR_C / np.sqrt(2.0), (p - prior) / _WIDTHS])


def _jacobian(p: Floats, power: Floats, temp: Floats, fan: Floats) -> Floats:
    """Return the derivatives of ``_rest``, all parameter sets simulated side by side."""
    steps = np.append(np.full(8, 1e-4), [1e-3, 1e-3])
    sets = np.vstack([p, p + np.diag(steps)])
    models = _simulate(sets, power, fan, float(temp[0]))
    data = (models[1:] - models[0]).T / steps / SENSOR_C / np.sqrt(2.0)
    return np.vstack([data, np.diag(1.0 / _WIDTHS)])


def _fan_line(temp: Floats, fan: Floats) -> tuple[float, float]:
    """Return the fan's straight line over temperature, from the later half of the run, where it has caught up."""
    half = len(temp) // 2
    running = fan[half:] > 0
    if not running.any():
        return 0.0, 0.0
    t, rpm = temp[half:][running], fan[half:][running]
    varied = float(np.ptp(t)) >= NARROW_C
    slope = max(0.0, float(np.polyfit(t, rpm, 1)[0])) if varied else ORDINARY_RPM_PER_C
    return float(rpm.mean() - slope * t.mean()), slope


def _settled(draws: Floats, line: tuple[float, float], watts: float) -> Floats:
    """Return the temperature at which ``watts`` settle, for each draw."""
    low, high = draws[:, 8].copy(), draws[:, 8] + 400.0
    for _ in range(50):
        middle = (low + high) / 2.0
        hotter = _heat_at(draws, line, middle) < watts
        low, high = np.where(hotter, middle, low), np.where(hotter, high, middle)
    return (low + high) / 2.0


def _heat_at(draws: Floats, line: tuple[float, float], temp_c: Floats) -> Floats:
    """Return the watts that leave the machine when the package is settled at ``temp_c``."""
    die, _, _, still, blown, to_case, _, to_air = np.exp(draws[:, :8]).T
    fan = np.maximum(0.0, line[0] + line[1] * temp_c) / 1000.0
    conductance = still + blown * fan + 1.0 / (to_case + to_air)
    return np.asarray((temp_c - draws[:, 8]) / (die + 1.0 / conductance))


def _watts_for(draws: Floats, line: tuple[float, float], start_c: float, below_c: float) -> Floats:
    """Return the watts that bring the package to ``below_c`` after ``HOLD_S`` from a cool start, for each draw.

    The two slow bodies are a linear system once the fan stands at its speed for ``below_c``; what it reaches grows in
    proportion to the watts, so one solution for one watt is enough.
    """
    die, _, sink, still, blown, to_case, case, to_air = np.exp(draws[:, :8]).T
    air = draws[:, 8]
    fan = max(0.0, line[0] + line[1] * below_c) / 1000.0
    blow = still + blown * fan
    settled_sink = 1.0 / (blow + 1.0 / (to_case + to_air))
    settled = np.stack([settled_sink, settled_sink * to_air / (to_case + to_air)])
    first = np.stack([start_c - air, 0.6 * (start_c - air)])
    fade = _fading((blow + 1.0 / to_case) / sink, 1.0 / (to_case * sink), 1.0 / (to_case * case),
                   (1.0 / to_case + 1.0 / to_air) / case)  # fmt: skip
    per_watt = die + settled[0] - (fade[0] * settled[0] + fade[1] * settled[1])
    left_over = fade[0] * first[0] + fade[1] * first[1]
    watts = (below_c - air - left_over) / per_watt
    return np.asarray(np.where(watts > 0, watts, np.nan))


def _fading(a: Floats, b: Floats, c: Floats, d: Floats) -> tuple[Floats, Floats]:
    """Return the first row of exp(−M·HOLD_S) for M = [[a, −b], [−c, d]], for each draw."""
    half, root = (a + d) / 2.0, np.sqrt(((a - d) / 2.0) ** 2 + b * c)
    fast, slow = half + root, half - root
    at_fast, at_slow = np.exp(-fast * HOLD_S), np.exp(-slow * HOLD_S)
    whole = fast - slow
    own = ((a - slow) * at_fast + (fast - a) * at_slow) / whole
    other = b * (at_slow - at_fast) / whole
    return own, other


def _taus(draws: Floats, line: tuple[float, float], settled: Floats) -> tuple[Interval, Interval]:
    _, _, sink, still, blown, to_case, case, to_air = np.exp(draws[:, :8]).T
    fan = np.maximum(0.0, line[0] + line[1] * settled) / 1000.0
    a, b = (still + blown * fan + 1.0 / to_case) / sink, 1.0 / (to_case * sink)
    c, d = 1.0 / (to_case * case), (1.0 / to_case + 1.0 / to_air) / case
    half, root = (a + d) / 2.0, np.sqrt(((a - d) / 2.0) ** 2 + b * c)
    return _interval(1.0 / (half + root)), _interval(1.0 / (half - root))


def _still_needs(p: Floats, power: Floats, fan: Floats, line: tuple[float, float], watts: float, end_c: float) -> float:
    """Return how long the run would still have to go on until within a degree of where its watts lead."""
    ahead = np.full(int(LONGEST_S / STEP_S), watts)
    speed = max(0.0, line[0] + line[1] * end_c)
    whole = _simulate(p[None, :], np.append(power, ahead), np.append(fan, np.full(len(ahead), speed)), float(p[9]))[0]
    late = np.flatnonzero(np.abs(whole[len(power) - 1 :] - end_c) > SETTLED_C)
    return float(late[-1] * STEP_S) if late.size else 0.0
