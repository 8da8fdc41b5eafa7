"""Repeatable noise whose whole state is one integer, so that a twin can be saved and resumed exactly."""

_MASK = (1 << 64) - 1


class Noise:
    """A seeded stream of numbers (splitmix64, Steele, Lea & Flood 2014)."""

    def __init__(self, state: int) -> None:
        self.state = state & _MASK

    def uniform(self) -> float:
        """Return the next number, evenly spread in [0, 1)."""
        self.state = (self.state + 0x9E3779B97F4A7C15) & _MASK
        z = self.state
        z = ((z ^ (z >> 30)) * 0xBF58476D1CE4E5B9) & _MASK
        z = ((z ^ (z >> 27)) * 0x94D049BB133111EB) & _MASK
        return (z >> 11) / float(1 << 53)

    def gaussian(self) -> float:
        """Return a number of mean 0 and standard deviation 1: the sum of four even ones, scaled."""
        total = self.uniform() + self.uniform() + self.uniform() + self.uniform()
        return (total - 2.0) * 1.7320508
