"""How a run finds out what a cooling carries: it holds the machine near a temperature by moving its limit.

Held near the target, the run spends its minutes where the answer lies, and a rest at its end shows how sink and case
let go. First a guess for ``FIRST_S``; then every ``EVERY_S`` the model is fitted anew and the limit set that brings it
to ``NEAR_C`` below the target within ``WITHIN_S``. After ``STEADY_FROM_S`` the steps are ``SLOW_S`` long and go to and
fro between two temperatures, since one that is held sticks to its degree and tells little.
"""

from dataclasses import dataclass

import numpy as np

from upright_bolt.analysis.cooling.fit import LEAST_RISE_C, expected_watts, fitted, on_grid
from upright_bolt.analysis.cooling.model import Floats, Prior, ahead, at_rest, follow, vague
from upright_bolt.model.work import Options, hold_s

FIRST_S, EVERY_S, WITHIN_S = 30.0, 20.0, 30.0
STEADY_FROM_S, SLOW_S = 180.0, 60.0
NEAR_C = 1.0
SLOW_NEAR_C = (2.0, 0.3)
GUESS_PART = 0.9
"""Of what is expected of a machine before anything of it was seen: a first step too hot is worse than one too cool."""
ABOVE_STOCK = 1.25
"""Makers set the sustained limit to what the cooling carries with some room to spare."""
MOST_STEP = 2.0
OVER_C = 1.0
"""So far above the target the limit comes down at once."""


@dataclass(frozen=True, slots=True)
class Readings:
    """What was measured so far; see ``thermal.fit``."""

    time_s: Floats
    power_w: Floats
    temp_c: Floats
    rpm: Floats | None
    cores_c: Floats | None


class HoldPlan:
    """Chooses the limit of a run that holds a machine near a temperature.

    Args:
        below_c: the temperature to stay below.
        lowest_w, highest_w: between what the limit may be set.
        stock_w: the maker's own sustained limit; None if unknown.
        sure: whether it holds for six minutes instead of three.
        prior: what earlier runs of the machine tell; None for nothing.

    Attributes:
        hold_s: how long it holds; ``HOLD_REST_S`` of rest follow.
        stock_w, prior: as given.
        limit_w: the limit asked for last; None before the first.
    """

    def __init__(
        self,
        below_c: float,
        lowest_w: float,
        highest_w: float,
        *,
        stock_w: float | None = None,
        sure: bool = False,
        prior: Prior | None = None,
    ) -> None:
        self.below_c = below_c
        self.stock_w = stock_w
        self.hold_s = hold_s(Options(sure=sure))
        self.limit_w: float | None = None
        self._span_w = lowest_w, highest_w
        self.prior = prior
        self._due_s = 0.0
        self._slow = 0

    def first(self, rest_w: float, rest_c: float, *, fan: bool) -> float:
        """Return the first limit, from watts and temperature at rest."""
        if self.prior is None and self.stock_w is not None:
            guess = ABOVE_STOCK * self.stock_w
        else:
            part = 1.0 if self.prior is not None else GUESS_PART
            guess = part * expected_watts(self._known(fan=fan), rest_w, rest_c, self.below_c, fan=fan)
        self.limit_w = self._within(guess)
        self._due_s = FIRST_S
        return self.limit_w

    def next(self, now_s: float, temp_c: float, readings: Readings) -> float | None:
        """Return a new limit if it is time for one, or the machine is too hot.

        Args:
            now_s: time under load.
            temp_c: the newest reading.
            readings: all so far, the newest last.
        """
        too_hot = temp_c > self.below_c + OVER_C and now_s < self._due_s - EVERY_S / 2.0
        if (now_s < self._due_s and not too_hot) or now_s >= self.hold_s or self.limit_w is None:
            return None
        near_c = NEAR_C
        if now_s >= STEADY_FROM_S:
            near_c = SLOW_NEAR_C[self._slow % 2]
            self._slow += 1
        self._due_s = now_s + (SLOW_S if now_s >= STEADY_FROM_S else EVERY_S)
        wanted = self._wanted(readings, self.below_c - (2.0 * NEAR_C if too_hot else near_c))
        if wanted is None:
            return None
        before = self.limit_w
        self.limit_w = self._within(min(max(wanted, before / MOST_STEP), before * MOST_STEP))
        return self.limit_w

    def _known(self, *, fan: bool) -> Prior:
        """Return what is known before the run."""
        return self.prior or vague(fan=fan, size_w=self.stock_w)

    def _within(self, watts: float) -> float:
        return min(max(watts, self._span_w[0]), self._span_w[1])

    def _wanted(self, readings: Readings, target_c: float) -> float | None:
        """Return the watts that bring the fitted machine to a temperature within ``WITHIN_S``."""
        measured = on_grid(readings.time_s, readings.power_w, readings.temp_c, readings.rpm, readings.cores_c)
        if measured is None or self.limit_w is None:
            return None
        if float(measured.temp_c.max()) - measured.rest_c < LEAST_RISE_C:
            return self.limit_w * MOST_STEP
        mean, _ = fitted(measured, self._known(fan=measured.blows))
        sets = mean[None, :]
        bodies = at_rest(sets, measured.rest_w, measured.rest_c)
        follow(sets, measured, bodies)
        at = [float(ahead(sets, bodies, np.array([w]), WITHIN_S, blows=measured.blows)[0]) for w in (10.0, 20.0)]
        return 10.0 + (target_c - at[0]) * 10.0 / max(at[1] - at[0], 0.1)
