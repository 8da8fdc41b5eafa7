"""How a machine's cooling answers to watts, fitted to one run; from it, what it settles at and what it carries.

The model of ``analysis.cooling.model`` is fitted by least squares to measured temperature and fan speed, with measured
watts as given. A run of minutes hardly shows the slow part (the case), so every parameter has a prior: from the build
of such machines, or from earlier runs of the same one. Where the run says little, the prior's width shows in the
uncertainty. Intervals of 95 % come from draws around the fit (its Gauss-Newton covariance).
"""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

from upright_bolt.analysis.cooling.model import (
    CASE_OFF,
    FAN_A,
    FAN_B,
    FAN_C,
    POSITIVE,
    ROOM,
    STEP_S,
    Bodies,
    Floats,
    Measured,
    Prior,
    ahead,
    at_rest,
    follow,
    positive,
    vague,
    watts_for,
)

LEAST_S = 60.0
LEAST_RISE_C = 6.0
FITTED_S = 3600.0
"""Of a longer run its first hour is fitted: by then a cooling has shown its slowest part, and a fit to the hours after
it would take minutes, to learn how the room changes."""
REST_KEPT_S = 20.0
"""Of the readings before the load so many seconds tell where it begins."""
WHOLE_NOISE_C, CORES_NOISE_C, FINE_NOISE_C = 0.48, 0.2, 0.08
"""Standard deviation of a reading around the model: of a package sensor in whole degrees, of the mean of all cores'
sensors, and of a sensor that tells parts of a degree."""
FAN_NOISE_RPM = 180.0
"""The same of a fan's speed around its straight line: 80 rpm, which last for five seconds."""
NOISE_PARTS = 0.05, 4.0
"""The noise that a run itself shows lies between these multiples of the usual."""
MODEL_NOISE_C = 0.06
"""However fine a sensor is: room and case are never quite the same for minutes, and the model knows nothing of it."""
WANDERS_C, WANDERS_STILL_C, WANDERS_FROM_S = 0.25, 0.7, 400
"""How far room, case and what else runs differ from what they were during the run, in degrees of the sensor; more
without a fan, where it counts how the case stands. A shorter run leaves so much of the prior's width in the interval
that there is room for it (``make bench`` measures both)."""
LEAST_LEFT, LEAST_ALIKE = 30, 0.05
FAN_CATCHES_UP_S, FAN_STEADY_RPM = 12, 300.0
"""A fan whose speed differs by more from what it was so many seconds ago is still on its way."""
STEP_PART, STEP_SETTLES_S = 0.08, 5
DRAWS = 240
SETTLED_C = 1.0
LONGEST_S = 7200.0
STEPS = np.array([1e-4] * POSITIVE + [1e-3, 1e-3, 1.0, 1e-2, 1e-2])
"""Steps of the parameters for derivatives."""
FORGET = np.array([0.08, 0.15, 0.1, 0.05, 0.1, 0.08, 0.08, 0.08, 0.08, 3.0, 5.0, 120.0, 3.0, 3.0])
"""How far a machine may have moved from one run to the next: dust, how it stands, the room."""


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
        mean: the fitted parameters, shape ``(COUNT,)``; ``covariance`` around them.
        draws: parameter sets around the fit, shape ``(n, COUNT)``, the fit first.
        measured: what it was fitted to.
    """

    resistance_c_per_w: Interval
    taus_s: tuple[Interval, Interval]
    ambient_c: Interval
    settled_c: Interval
    still_needs_s: float
    mean: Floats
    covariance: Floats
    draws: Floats
    measured: Measured

    def carries(self, below_c: float) -> Interval | None:
        """Return the highest watts that stay below ``below_c`` for half an hour from rest; None if none do."""
        start = at_rest(self.draws, self.measured.rest_w, self.measured.rest_c)
        around = np.full(len(self.draws), below_c)
        if len(self.measured.power_w) >= WANDERS_FROM_S:
            wanders = WANDERS_C if self.measured.blows else WANDERS_STILL_C
            # A seed of its own: the same run has the same interval, however often it is asked.
            around[1:] += np.random.default_rng(1).normal(0.0, wanders, len(around) - 1)
        watts = watts_for(self.draws, start, around, blows=self.measured.blows)
        return None if np.isnan(watts[0]) else _interval(watts)

    def as_prior(self) -> Prior:
        """Return what it tells of a later run of the same machine."""
        # Widened first: yesterday's room and dust are not today's.
        precision: Floats = np.asarray(np.linalg.inv(self.covariance + np.diag(FORGET**2)), dtype=float)
        return Prior(self.mean, precision)


def fit(
    time_s: Floats,
    power_w: Floats,
    temp_c: Floats,
    fan_rpm: Floats | None,
    *,
    cores_c: NDArray[np.float64] | None = None,
    prior: Prior | None = None,
    size_w: float | None = None,
) -> Cooling | None:
    """Return the cooling that a run shows; None if it is too short, too flat in its first hour, or not measured.

    Args:
        time_s: sample times from load start, shape ``(n,)``, rising; those before it tell where it begins.
        power_w: package watts, shape ``(n,)``, NaN where not measured.
        temp_c: package temperature, the same.
        fan_rpm: fan speed, the same; None for a machine without one.
        cores_c: temperatures of single cores, shape ``(cores, n)``: their mean tells parts of a degree.
        prior: what is known of the machine; what is known of any if None.
        size_w: the sustained limit that its maker chose; None if unknown.
    """
    measured = on_grid(time_s, power_w, temp_c, fan_rpm, cores_c)
    if measured is None or len(measured.power_w) < LEAST_S:
        return None
    # The rest of a day adds little and costs a multiple; the model is followed over all of it below.
    begins = _first(measured, FITTED_S)
    # With next to no rise the noise would be fitted, and the prior would come out looking like a measurement.
    if float(begins.temp_c.max() - begins.rest_c) < LEAST_RISE_C:
        return None
    mean, covariance = fitted(begins, prior or vague(fan=begins.blows, size_w=size_w), refined=True)
    # A fixed seed: opening a run twice must not show two intervals.
    draws = np.random.default_rng(0).multivariate_normal(mean, covariance, DRAWS)
    # The first draw is the fit itself, so that every number and its interval come from one computation.
    draws[0] = mean
    return _cooling(measured, mean, covariance, draws)


def _first(measured: Measured, seconds: float) -> Measured:
    """Return the first so many seconds of a run."""
    n = round(seconds / STEP_S)
    return replace(measured, power_w=measured.power_w[:n], temp_c=measured.temp_c[:n], rpm=measured.rpm[:n])


def on_grid(
    time_s: Floats, power_w: Floats, temp_c: Floats, fan_rpm: Floats | None, cores_c: Floats | None = None
) -> Measured | None:
    """Return a run's readings on the model's grid; None if nothing was measured. Arguments as for ``fit``."""
    known = ~np.isnan(power_w) & ~np.isnan(temp_c)
    loaded = known & (time_s >= 0.0)
    if loaded.sum() < 2:
        return None
    temp, noise_c = _readings(power_w, temp_c, cores_c, known)
    before = known & (time_s < 0.0) & (time_s >= -REST_KEPT_S)
    begins = before if before.any() else loaded & (time_s <= time_s[loaded][0] + 0.25)
    grid = np.arange(0.0, float(time_s[loaded][-1]) + 1e-9, STEP_S) + STEP_S
    grid = grid[grid <= float(time_s[loaded][-1]) + 1e-9]
    if not len(grid):
        return None
    # Watts are averaged and temperatures interpolated: heat adds up over a step, while a temperature is of a moment.
    power = _mean_in(grid, time_s[known], power_w[known])
    blows = fan_rpm is not None and bool(np.nanmax(fan_rpm[known], initial=0.0) > 0)
    rpm = np.zeros_like(grid)
    if blows and fan_rpm is not None:
        rpm = np.interp(grid, time_s[known], np.nan_to_num(fan_rpm[known]))
    return Measured(
        power, np.interp(grid, time_s[loaded], temp[loaded]), rpm, float(power_w[begins].mean()),
        float(temp[begins].mean()), blows, noise_c,
    )  # fmt: skip


def _readings(power: Floats, temp: Floats, cores: Floats | None, known: NDArray[np.bool_]) -> tuple[Floats, float]:
    """Return the temperature to be explained, and its noise: the cores' mean, lifted to where the hottest one is.

    The package shows its hottest core in whole degrees. How far that lies above the mean grows with the watts; the
    factor is what makes the two the same over the run.
    """
    if cores is None or not len(cores) or np.isnan(cores[:, known]).any():
        whole = bool(np.all(np.mod(temp[known], 1.0) == 0.0))
        return temp, WHOLE_NOISE_C if whole else FINE_NOISE_C
    mean = cores.mean(axis=0)
    # A ratio of sums, not a regression: the package's whole degrees would bias a slope.
    factor = float((temp[known] - mean[known]).sum() / max(power[known].sum(), 1e-9))
    return mean + factor * power, CORES_NOISE_C


def _mean_in(grid: Floats, time_s: Floats, values: Floats) -> Floats:
    """Return the mean of a reading over each step of the grid, from readings that are means since the one before."""
    if time_s[0] > grid[0] - STEP_S:
        time_s, values = np.insert(time_s, 0, grid[0] - STEP_S), np.insert(values, 0, values[0])
    done = np.concatenate([[0.0], np.cumsum(values[1:] * np.diff(time_s))])
    at = np.interp(np.concatenate([[grid[0] - STEP_S], grid]), time_s, done)
    return np.asarray(np.diff(at) / STEP_S, dtype=float)


@dataclass(frozen=True, slots=True)
class Noise:
    """How far a reading of every second lies from the model, as if neighbours told nothing of each other.

    ``temp_c`` of the temperature, ``rpm`` of the fan's speed: standard deviations.
    """

    temp_c: float
    rpm: float


def fitted(measured: Measured, prior: Prior, *, refined: bool = False) -> tuple[Floats, Floats]:
    """Return the most likely parameters, shape ``(COUNT,)``, and their covariance.

    Args:
        measured: a run.
        prior: what is known without it.
        refined: whether to take the noise from what a first fit leaves unexplained, and to fit once more.
    """
    noise = Noise(measured.noise_c, FAN_NOISE_RPM)
    mean, covariance = _solved(measured, prior, noise, prior.mean)
    return _solved(measured, prior, _noise_left(measured, mean, noise), mean) if refined else (mean, covariance)


def _solved(measured: Measured, prior: Prior, noise: Noise, start: Floats) -> tuple[Floats, Floats]:
    # A prior is one more row of residuals for each parameter, scaled by a root of its precision.
    root = np.linalg.cholesky(prior.precision).T
    # Seconds after a jump weigh nothing instead of being cut out, so that the model's steps stay evenly long.
    temp_weight = np.where(_after_a_step(measured.power_w), 0.0, 1.0 / noise.temp_c)
    fan_weight = np.where(_fan_follows(measured), 1.0 / noise.rpm, 0.0)

    def rows(sets: Floats) -> Floats:
        temps, speeds = follow(sets, measured, at_rest(sets, measured.rest_w, measured.rest_c))
        found = [(temps - measured.temp_c) * temp_weight]
        if measured.blows:
            found.append((speeds - measured.rpm) * fan_weight)
        found.append((sets - prior.mean) @ root.T)
        return np.concatenate(found, axis=1)

    def jacobian(p: Floats) -> Floats:
        # All derivatives by one pass over time: sets of parameters run side by side in arrays.
        all_rows = rows(np.vstack([p, p + np.diag(STEPS)]))
        found: Floats = (all_rows[1:] - all_rows[0]).T / STEPS
        return found

    with np.errstate(over="ignore", invalid="ignore"):  # a step that leads too far is taken back
        found = least_squares(lambda p: rows(p[None, :])[0], start, jac=jacobian, x_scale="jac", max_nfev=40)
    covariance: Floats = np.asarray(np.linalg.inv(found.jac.T @ found.jac), dtype=float)
    return np.asarray(found.x, dtype=float), covariance


def _noise_left(measured: Measured, mean: Floats, guess: Noise) -> Noise:
    """Return the noise that a fit leaves, between parts and multiples of what was guessed.

    A temperature that is held is read as the same degree again and again, so what is left goes on for seconds: its
    deviation times the root of the seconds that its autocorrelation adds up to is what a reading each second is worth.
    """
    sets = mean[None, :]
    temps, speeds = follow(sets, measured, at_rest(sets, measured.rest_w, measured.rest_c))
    left_c = (temps[0] - measured.temp_c)[~_after_a_step(measured.power_w)]
    left_rpm = (speeds[0] - measured.rpm)[_fan_follows(measured)]
    return Noise(max(_worth(left_c, guess.temp_c), MODEL_NOISE_C), _worth(left_rpm, guess.rpm))


def _worth(left: Floats, guess: float) -> float:
    if left.size < LEAST_LEFT:
        return guess
    variance = float(np.mean(left**2))
    seconds, lag = 1.0, 1
    # Up to where neighbours no longer resemble each other: further lags would only add noise.
    while lag < left.size // 4 and (alike := float(np.mean(left[:-lag] * left[lag:]))) > LEAST_ALIKE * variance:
        seconds += 2.0 * alike / variance
        lag += 1
    return min(max(float(np.sqrt(variance * seconds)), guess * NOISE_PARTS[0]), guess * NOISE_PARTS[1])


def _fan_follows(measured: Measured) -> NDArray[np.bool_]:
    """Tell when a fan follows its straight line: under load, once it has caught up, and above its lowest speed.

    Below a temperature it stands, or stays at its lowest speed until it is cool enough to stop.
    """
    loaded = measured.power_w > 0.5 * float(np.percentile(measured.power_w, 90))
    moving = measured.rpm > 0.0
    # At its lowest speed a fan stays while the die cools, so its speed tells nothing of the temperature there.
    lowest = float(measured.rpm[moving].min()) if moving.any() else 0.0
    before = np.concatenate([np.zeros(FAN_CATCHES_UP_S), measured.rpm])[: len(measured.rpm)]
    steady = (before > 0.0) & (np.abs(measured.rpm - before) < FAN_STEADY_RPM)
    return np.asarray(moving & loaded & steady & (measured.rpm > 1.01 * lowest))


def _after_a_step(power_w: Floats) -> NDArray[np.bool_]:
    """Tell the seconds after a jump of the watts: there a sample's own moment counts for more than its reading."""
    step = np.abs(np.diff(power_w, prepend=0.0)) > STEP_PART * float(np.percentile(power_w, 90))
    return np.asarray(np.convolve(step, np.ones(STEP_SETTLES_S), mode="full")[: len(power_w)] > 0)


def _cooling(measured: Measured, mean: Floats, covariance: Floats, draws: Floats) -> Cooling:
    # The last quarter: what a run came to, without its burst.
    last_w = float(measured.power_w[-max(1, len(measured.power_w) // 4) :].mean())
    settled, conductance = _settled(draws, last_w, blows=measured.blows)
    room = draws[:, ROOM]
    return Cooling(
        resistance_c_per_w=_interval((settled - room) / last_w),
        taus_s=_taus(draws, conductance),
        ambient_c=_interval(room),
        settled_c=_interval(settled),
        still_needs_s=_still_needs(mean, measured, last_w, float(settled[0])),
        mean=mean,
        covariance=covariance,
        draws=draws,
        measured=measured,
    )


def _interval(draws: Floats) -> Interval:
    low, high = np.nanpercentile(draws, [2.5, 97.5])
    return Interval(float(draws[0]), float(min(low, draws[0])), float(max(high, draws[0])))


def _settled(draws: Floats, watts: float, *, blows: bool) -> tuple[Floats, Floats]:
    """Return the temperature at which ``watts`` settle, and the conductance from sink to air there, for each draw."""
    r0, die, _, _, still, blown, to_case, _, to_air = positive(draws)
    above = (die + r0) * watts
    room = draws[:, ROOM]
    a, b, c = draws[:, FAN_A], draws[:, FAN_B], draws[:, FAN_C]
    low, high = room.copy(), room + 400.0
    conductance = still
    # Forty halvings of 400 degrees leave less than a billionth of one.
    for _ in range(40):
        middle = (low + high) / 2.0
        speed = np.maximum(0.0, a + b * middle + c * above) / 1000.0 if blows else 0.0
        conductance = still + blown * speed
        leaves = (middle - room) * (conductance + 1.0 / (to_case + to_air))
        low, high = np.where(leaves < watts, middle, low), np.where(leaves < watts, high, middle)
    return (low + high) / 2.0 + above, conductance


def _taus(draws: Floats, conductance: Floats) -> tuple[Interval, Interval]:
    _, _, _, sink, _, _, to_case, case, to_air = positive(draws)
    a, b = (conductance + 1.0 / to_case) / sink, 1.0 / (to_case * sink)
    c, d = 1.0 / (to_case * case), (1.0 / to_case + 1.0 / to_air) / case
    # Eigenvalues of the two bodies' 2×2 system; their inverses are the time constants.
    half, root = (a + d) / 2.0, np.sqrt(((a - d) / 2.0) ** 2 + b * c)
    return _interval(1.0 / (half + root)), _interval(1.0 / (half - root))


def _still_needs(mean: Floats, measured: Measured, watts: float, end_c: float) -> float:
    """Return how long the run would still have to go on until within a degree of where its watts lead."""
    sets = mean[None, :]
    bodies = at_rest(sets, measured.rest_w, measured.rest_c)
    temps, _ = follow(sets, measured, bodies)
    if abs(float(temps[0, -1]) - end_c) <= SETTLED_C:
        return 0.0
    low, high = 0.0, LONGEST_S
    while high - low > 10.0:
        middle = (low + high) / 2.0
        # A copy: looking ahead moves what it is given.
        start = Bodies(bodies.die, bodies.sink, bodies.case)
        left = abs(float(ahead(sets, start, np.array([watts]), middle, blows=measured.blows)[0]) - end_c)
        low, high = (middle, high) if left > SETTLED_C else (low, middle)
    return high


def expected_watts(prior: Prior, rest_w: float, rest_c: float, below_c: float, *, fan: bool) -> float:
    """Return a first guess at what a cooling carries before anything of it was seen, in W."""
    sets = prior.mean[None, :].copy()
    # How far the case was off is of an earlier run's start, and tells nothing of this one.
    sets[:, CASE_OFF] = 0.0
    watts = watts_for(sets, at_rest(sets, rest_w, rest_c), below_c, blows=fan)
    return 15.0 if np.isnan(watts[0]) else float(watts[0])
