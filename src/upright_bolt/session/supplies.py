"""Chargers and batteries as one source: plugged in or not, charge, drain in watts, hours left."""

from upright_bolt.errors import FileFault
from upright_bolt.kernel.channels import BatteryFiles, Supplies
from upright_bolt.kernel.ports import KernelFiles, Read

DRAINING, CHARGING = b"Discharging", b"Charging"
LEAST_DRAIN_W = 0.2
"""Below this a battery hardly drains; hours left would be a number without meaning."""
TEXT_SIZE = 32


class Supply:
    """Reads all supplies of a machine.

    Args:
        files: the port.
        channel: which files there are.
        place: sensor name to its place in a sample.
    """

    def __init__(self, files: KernelFiles, channel: Supplies, place: dict[str, int]) -> None:
        self._place = place
        self._chargers = [_opened(files, path) for path in channel.chargers]
        self._batteries = [_Battery(files, battery) for battery in channel.batteries]

    def take(self, values: list[float | None]) -> None:
        """Fill what can be told now into ``values``."""
        told: dict[str, float | None] = {"charger": self._charger()}
        batteries = [battery.read() for battery in self._batteries]
        drains = [drain for drain, _, _ in batteries if drain is not None]
        told["battery.drain"] = drain = sum(drains) if drains else None
        stored = [wh for _, wh, _ in batteries if wh is not None]
        draining = drain is not None and drain >= LEAST_DRAIN_W
        told["battery.hours"] = sum(stored) / drain if drain is not None and draining and stored else None
        told["battery.charge"] = _charge(batteries)
        for name, place in self._place.items():
            values[place] = told[name]

    def _charger(self) -> float | None:
        states = [n for read in self._chargers if (n := _number(read)) is not None]
        return None if not states else float(any(states))


Told = tuple[float | None, float | None, tuple[float | None, float | None]]


def _charge(batteries: list[Told]) -> float | None:
    """Return the charge in % of what all batteries hold together, or the mean of what each says of itself."""
    wholes = [(wh, full) for _, wh, (_, full) in batteries]
    if wholes and all(wh is not None and full for wh, full in wholes):
        return min(100.0, 100.0 * sum(wh or 0.0 for wh, _ in wholes) / sum(full or 0.0 for _, full in wholes))
    said = [capacity for _, _, (capacity, _) in batteries if capacity is not None]
    return sum(said) / len(said) if said else None


class _Battery:
    def __init__(self, files: KernelFiles, battery: BatteryFiles) -> None:
        self._in_charge = battery.in_charge
        self._status = _opened(files, battery.status)
        names = ("capacity", "power", "current", "voltage", "stored", "full")
        self._reads = {name: _opened(files, path) for name in names if (path := getattr(battery, name)) is not None}

    def read(self) -> Told:
        """Return drain in W, what it holds in Wh, and of itself: charge in % and Wh when full."""
        now = {name: _number(read) for name, read in self._reads.items()}
        volts = _scaled(now.get("voltage"), 1e-6)
        watts = _scaled(now.get("power"), 1e-6)
        amperes = _scaled(now.get("current"), 1e-6)
        if watts is None and amperes is not None and volts is not None:
            watts = amperes * volts
        per_unit = volts if self._in_charge else 1.0
        stored, full = (_scaled(now.get(name), 1e-6 * per_unit) if per_unit else None for name in ("stored", "full"))
        return self._signed(watts), stored, (now.get("capacity"), full)

    def _signed(self, watts: float | None) -> float | None:
        """Return the drain: drivers differ in sign, the status does not."""
        if watts is None:
            return None
        status = _text(self._status)
        if status == DRAINING:
            return abs(watts)
        return -abs(watts) if status == CHARGING else 0.0


def _scaled(number: float | None, scale: float) -> float | None:
    return None if number is None else number * scale


def _opened(files: KernelFiles, path: str) -> Read:
    try:
        return files.opener(path, TEXT_SIZE)
    except FileFault:
        return bytes


def _text(read: Read) -> bytes:
    try:
        return read().strip()
    except OSError:
        return b""


def _number(read: Read) -> float | None:
    try:
        return float(int(read()))
    except (OSError, ValueError, OverflowError):
        return None
