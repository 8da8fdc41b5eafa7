"""What a simulated chip draws at each clock, from tables over a grid of clocks.

Power of a core is ``switching · V² · f`` by its share of busy time, leakage grows with V³ and doubles every few
degrees, and the uncore draws its part.
"""

from upright_bolt.simulator.chip import ChipSpec
from upright_bolt.simulator.rails import Rails

GRID_MHZ = 25.0
UNCORE_POWER = 3.0
"""What the uncore draws at rest goes with this power of its rail's voltage: it is leakage as much as switching.

What it draws on top under load is memory's and wires', on rails that no offset moves.
"""


class PowerCurve:
    """The watts of a chip by clock, and the clock by watts.

    Args:
        chip: voltages by clock, leakage and uncore.
    """

    def __init__(self, chip: ChipSpec) -> None:
        self._chip = chip
        count = int((chip.turbo_table_mhz[0] - chip.clock_min_mhz) / GRID_MHZ) + 1
        self._grid = [chip.clock_min_mhz + i * GRID_MHZ for i in range(count)]
        self._stock_volts = [chip.volts(f) for f in self._grid]

    def set_voltages(self, found: Rails, agent: float, caps: list[float]) -> None:
        """Take over what was set.

        Args:
            found: voltages of the rails against stock.
            agent: part of its usual watts that the system agent draws.
            caps: highest clock of each core in MHz.
        """
        cache = found.cache_mv / 1000.0
        self._volts = [v + found.core_mv / 1000.0 for v in self._stock_volts]
        self._uncore = [agent * ((v + cache) / v) ** UNCORE_POWER for v in self._stock_volts]
        self._square = [v * v * f / 1000.0 for v, f in zip(self._volts, self._grid, strict=True)]
        self._caps = caps
        self._lowest_cap = min(caps)

    def load(self, weights: list[float], switching: float, die_c: float, resting: float) -> None:
        """Take up what does not depend on the clock; it holds for one step.

        Args:
            weights: how busy each core is, 0 to 1.
            switching: W per V² and GHz of one busy core.
            die_c: temperature of the die in °C.
            resting: part of the leakage that sleeping cores keep.
        """
        chip = self._chip
        total = sum(weights)
        busy = total / chip.cores
        doublings = (die_c - 60.0) / chip.leakage_doubling_c
        # Cores that sleep have their voltage gated, and leak little; shallow idle states keep them powered.
        gated = resting + (1.0 - resting) * busy
        self._weights = weights
        self._switching = switching
        self._switched = total * switching
        self._leaking: float = chip.leakage_w * 2.0**doublings * gated
        self._fixed_w = chip.uncore_busy_w * busy

    def watts(self, clock: float) -> float:
        """Return the watts at a clock in MHz."""
        i, part = self._place(clock)
        # The usual case, all cores alike, is one look at a table: this runs for every step of every search.
        if clock <= self._lowest_cap:
            square = self._square
            switched = (square[i] + part * (square[i + 1] - square[i])) * self._switched
        else:
            switched = self._capped_square(clock) * self._switching
        volts = self._volts[i] + part * (self._volts[i + 1] - self._volts[i])
        uncore = self._uncore[i] + part * (self._uncore[i + 1] - self._uncore[i])
        found: float = switched + volts * volts * volts * self._leaking + uncore * self._chip.uncore_w + self._fixed_w
        return found

    def _capped_square(self, clock: float) -> float:
        square = 0.0
        for cap, weight in zip(self._caps, self._weights, strict=True):
            square += self._at(self._square, min(clock, cap)) * weight
        return square

    def clock_for(self, watts: float, highest: float) -> float:
        """Return the clock whose power is ``watts``, by halving on the grid and linear between its points."""
        low, high = 0, max(1, min(len(self._grid) - 1, int((highest - self._grid[0]) / GRID_MHZ) + 1))
        below, above = self.watts(self._grid[low]), self.watts(self._grid[high])
        if below >= watts:
            return self._grid[0]
        while high - low > 1:
            middle = (low + high) // 2
            between = self.watts(self._grid[middle])
            if between > watts:
                high, above = middle, between
            else:
                low, below = middle, between
        part = (watts - below) / (above - below) if above > below else 0.0
        return min(highest, self._grid[low] + part * GRID_MHZ)

    def volts(self, clock: float) -> float:
        """Return the core voltage at a clock in MHz."""
        return self._at(self._volts, clock)

    def _place(self, clock: float) -> tuple[int, float]:
        """Return the point of the grid at or below a clock, and what part of the way to the next lies behind it."""
        position = (clock - self._grid[0]) / GRID_MHZ
        i = int(position)
        if i < 0:
            i = 0
        elif i > len(self._grid) - 2:
            i = len(self._grid) - 2
        return i, position - i

    def _at(self, table: list[float], clock: float) -> float:
        i, part = self._place(clock)
        return table[i] + part * (table[i + 1] - table[i])
