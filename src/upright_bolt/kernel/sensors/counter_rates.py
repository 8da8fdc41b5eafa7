"""What counters (of energy) grow by in a second."""

from itertools import repeat
from operator import mul, sub

from upright_bolt.model.sample import Numbers


class CounterRates:
    """Makes rates of counts, side by side as they are in their sweep.

    Laid out for the case that every counter gives a number and none begins anew, as all that every sample costs.
    """

    def __init__(self) -> None:
        self._spans: list[int] = []
        self._scales: list[float] = []
        self._last: Numbers = []
        self._last_s = 0.0

    def add(self, span: int, scale: float) -> None:
        """Add a counter that begins anew after ``span`` and counts in units of ``scale``."""
        self._spans.append(span)
        self._scales.append(scale)

    def take(self, now_s: float, counts: Numbers) -> Numbers:
        """Return a rate per counter since the last call; none at the first. A counter begins anew once at most.

        Args:
            now_s: time in s.
            counts: of each counter, None where it gave none.
        """
        seconds, self._last_s = now_s - self._last_s, now_s
        last, self._last = self._last, counts
        if not last or seconds <= 0.0:
            return []
        per_s = 1.0 / seconds
        try:
            rates: Numbers = list(map(mul, map(mul, map(sub, counts, last), self._scales), repeat(per_s)))
        except TypeError:  # some are missing
            rates = []
        if rates and min(rates) >= 0.0:  # type: ignore[type-var,operator]
            return rates
        return [
            None if now is None or was is None else (now - was if now >= was else now - was + span) * scale * per_s
            for now, was, span, scale in zip(counts, last, self._spans, self._scales, strict=True)
        ]
