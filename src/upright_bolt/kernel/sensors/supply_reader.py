"""Chargers and batteries as one source: plugged in or not, charge, drain in watts, hours left.

The numbers come from the sampler's sweep; only the word that tells a battery's direction is read here. A battery's own
numbers move once in a second or two, so they are computed that often; after a charger has come or gone, or a battery
says something new, with every sample, since the kernel keeps what the battery said last for a second. Until the battery
says that it discharges, its drain without a charger is not known. What the kernel keeps may be renewed between two
reads of one sample; a word that is new may therefore be newer than the numbers, and they tell no drain yet.
"""

from collections.abc import Callable
from dataclasses import dataclass

from upright_bolt.kernel.ports import Read
from upright_bolt.kernel.sensors.channels import BatteryFiles, Supplies
from upright_bolt.kernel.sensors.number_sweep import read_or_nothing
from upright_bolt.model.sample import Numbers
from upright_bolt.model.sensor import span_of

DRAINING = b"Discharging"
LEAST_DRAIN_W = 0.2
"""Below this a battery hardly drains; hours left would be a number without meaning."""
MICRO = 1e-6
EVERY_S = 2.0
UNSETTLED_S = 4.0
"""For so long after a charger has come or gone, or a battery has said something new, it may still tell what was."""

Sweep = Callable[[str, float], int | None]
"""Adds a file to the sweep, with its scale; returns its index there, or None if it cannot be opened."""


@dataclass(frozen=True, slots=True)
class _BatteryReading:
    """One battery: drain in W, what it holds now and when full in Wh, charge in %."""

    drain_w: float | None
    stored_wh: float | None
    full_wh: float | None
    capacity: float | None


class SupplyReader:
    """All supplies of a machine.

    Args:
        channel: which files there are.
        sweep: adds a file to the sampler's sweep.
        open_word: opens a file that holds a word.
        index: sensor name to its index in a sample.
    """

    def __init__(
        self, channel: Supplies, sweep: Sweep, open_word: Callable[[str], Read], index: dict[str, int]
    ) -> None:
        self._index = index
        self._chargers = span_of([slot for path in channel.chargers if (slot := sweep(path, 1.0)) is not None])
        self._batteries = [_Battery(battery, sweep) for battery in channel.batteries]
        self._words = [open_word(battery.status) for battery in channel.batteries]
        self._computed_s = self._changed_s = float("-inf")
        self._plugged: Numbers = []
        self._said: list[bytes] = []

    def take(self, now_s: float, decoded: Numbers, values: Numbers) -> None:
        """Fill what is known now into ``values``, which are kept from call to call.

        Args:
            now_s: time of the sample.
            decoded: the numbers of the sweep.
            values: a number per sensor.
        """
        chargers = decoded[self._chargers]
        # The charger's file is current at once; the battery's driver asks the battery at most once a second.
        if chargers != self._plugged:
            self._changed_s, self._plugged = now_s, chargers
        unsettled = now_s - self._changed_s < UNSETTLED_S
        if unsettled or now_s - self._computed_s >= EVERY_S - 1e-6:
            self._computed_s = now_s
            charger = max((state for state in chargers if state is not None), default=None)
            said, self._said = self._said, [read_or_nothing(read).strip() for read in self._words]
            if self._said != said:
                self._changed_s = now_s
            # A battery that newly says it drains may still show the watts it was charged with: its word counts from the
            # next reading on.
            begun = any(now == DRAINING and was not in (now, b"") for was, now in zip(said, self._said, strict=False))
            unknown = begun or (charger == 0.0 and DRAINING not in self._said)
            known = self._computed(decoded, charger, [b""] * len(self._said) if unknown else self._said)
            for name, index in self._index.items():
                values[index] = known[name]

    def _computed(self, decoded: Numbers, charger: float | None, words: list[bytes]) -> dict[str, float | None]:
        batteries = [battery.read(decoded, word) for battery, word in zip(self._batteries, words, strict=True)]
        drains = [b.drain_w for b in batteries if b.drain_w is not None]
        stored = [b.stored_wh for b in batteries if b.stored_wh is not None]
        drain = sum(drains) if drains else None
        draining = drain is not None and drain >= LEAST_DRAIN_W
        return {
            "charger": None if charger is None else float(charger > 0),
            "battery.drain": drain,
            "battery.hours": sum(stored) / drain if drain is not None and draining and stored else None,
            "battery.charge": _charge(batteries),
        }


def _charge(batteries: list[_BatteryReading]) -> float | None:
    """Return the charge in % of what all batteries hold together, or the mean of what each says of itself."""
    # Two batteries of different size: the mean of their percentages is not the charge of both together.
    if batteries and all(b.stored_wh is not None and b.full_wh for b in batteries):
        full = sum(b.full_wh or 0.0 for b in batteries)
        return min(100.0, 100.0 * sum(b.stored_wh or 0.0 for b in batteries) / full)
    said = [b.capacity for b in batteries if b.capacity is not None]
    return sum(said) / len(said) if said else None


class _Battery:
    def __init__(self, battery: BatteryFiles, sweep: Sweep) -> None:
        self._in_charge = battery.in_charge
        scales = {"capacity": 1.0, "power": MICRO, "current": MICRO, "voltage": MICRO, "stored": MICRO, "full": MICRO}
        self.slots = {
            name: slot
            for name, scale in scales.items()
            if (path := getattr(battery, name)) is not None and (slot := sweep(path, scale)) is not None
        }

    def read(self, decoded: Numbers, word: bytes) -> _BatteryReading:
        """Return its numbers; its word tells whether it drains: drivers differ in sign. None without a word."""
        now = {name: decoded[slot] for name, slot in self.slots.items()}
        volts, watts, amperes = now.get("voltage"), now.get("power"), now.get("current")
        if watts is None and amperes is not None and volts is not None:
            watts = amperes * volts
        stored, full = (_times(now.get(name), volts if self._in_charge else 1.0) for name in ("stored", "full"))
        # Some drivers show the drain as a negative number, others as a positive one, and some both: the word decides.
        if watts is not None:
            watts = (abs(watts) if word == DRAINING else 0.0) if word else None
        return _BatteryReading(watts, stored, full, now.get("capacity"))


def _times(number: float | None, factor: float | None) -> float | None:
    return None if number is None or factor is None else number * factor
