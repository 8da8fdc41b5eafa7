"""Round numbers along a scale."""

from math import ceil, floor, log10

ROUND = (1.0, 2.0, 5.0, 10.0)


def round_ticks(low: float, high: float, most: int) -> list[float]:
    """Return the multiples of a round step between two numbers, at most ``most`` of them; none for an empty span.

    A round step is 1, 2 or 5 times a power of ten.
    """
    if not high > low or most < 1:
        return []
    power = 10.0 ** floor(log10((high - low) / most))
    for step in (power * times for times in ROUND):
        first, last = ceil(low / step - 1e-9), floor(high / step + 1e-9)
        if last - first + 1 <= most:
            return [step * i for i in range(first, last + 1)]
    return []
