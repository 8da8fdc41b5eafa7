"""Clocks and voltages of a graphics chip that were seen together under load, and what follows from them.

The vendor's curve gives each clock its voltage, with a margin. People ask for a clock at the voltage of a lower one:
the whole curve is moved and cut flat at the clock that is wanted. What is moved is worked out from pairs that this very
chip has shown, between the outermost of them; nothing is guessed beyond. Dynamic power ~ activity · C · V² · f.
"""

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from math import floor

import numpy as np
from numpy.typing import NDArray

from upright_bolt.analysis.limits.gpu_limits import HIGHEST_CLOCK
from upright_bolt.errors import BadInput, Refused
from upright_bolt.model.catalogue import PART_MARK
from upright_bolt.model.control import Control, ControlState, Value
from upright_bolt.model.run import RunRecord, RunState
from upright_bolt.model.workloads import workload

Floats = NDArray[np.float64]
GRID_MHZ = 25.0
"""Pairs are gathered in steps of so many MHz: a clock drifts by 10 to 20 MHz with temperature."""
FROM_S = 3.0
"""So long after the load start the clock has come to where it stays."""
BUSY_PERCENT = 80.0
LEAST_SAMPLES = 4
QUIET_PART = 2.0 / 3.0
"""Watts of the flat and quiet draft, in parts of those at stock."""
ROOM_MHZ = 25.0
"""The clock reached lies so much below the one asked for at most, so the one held lies so much above."""
FIRST_STEP_V, FIRST_STEP_MHZ = 0.05, 100.0
"""How much less voltage the first draft for the same speed asks for: two steps of 25 mV, as people make
them, or of 50 MHz where the driver tells no voltage."""
LADDER_STEPS = 4
MOVERS = ("voltage-offset", "clock-offset", "highest-voltage")


@dataclass(frozen=True, slots=True)
class Pair:
    """A clock seen under load.

    Attributes:
        clock_mhz: its mean.
        volts: median of its voltage; None where the driver tells none.
        watts: mean of the heavy scene's watts; None where that was not run there.
        frames_a_minute: of the heavy scene, as fast as it went; None likewise.
        seconds: how long it was seen.
    """

    clock_mhz: float
    volts: float | None
    watts: float | None
    frames_a_minute: float | None
    seconds: float


@dataclass(frozen=True, slots=True)
class Curve:
    """What a chip has shown.

    Attributes:
        stock: pairs at its own voltages, the lowest clock first.
        moved: pairs with its curve moved, by how: offset in mV, or in MHz where the chip has that.
    """

    stock: tuple[Pair, ...]
    moved: Mapping[float, tuple[Pair, ...]]

    def volts_at(self, clock_mhz: float) -> float | None:
        """Return the stock voltage at a clock, between the outermost that were seen; None beyond them."""
        return _between([(pair.clock_mhz, pair.volts) for pair in self.stock], clock_mhz)

    def watts_at(self, clock_mhz: float) -> float | None:
        """Return the heavy scene's watts at a clock at stock; None beyond what was seen."""
        return _between([(pair.clock_mhz, pair.watts) for pair in self.stock if pair.watts], clock_mhz)

    def frames_at(self, clock_mhz: float) -> float | None:
        """Return the heavy scene's frames a minute at a clock at stock; None beyond what was seen."""
        known = [(pair.clock_mhz, pair.frames_a_minute) for pair in self.stock if pair.frames_a_minute]
        return _between(known, clock_mhz)

    def watts_part(self, clock_mhz: float) -> float | None:
        """Return which part of the watts at stock the heavy scene takes at a clock; None beyond what was seen."""
        watts, top = self.watts_at(clock_mhz), self.top
        return watts / top.watts if watts and top is not None and top.watts else None

    def frames_part(self, clock_mhz: float) -> float | None:
        """Return which part of the frames at stock the heavy scene comes to at a clock; None beyond what was seen."""
        frames, top = self.frames_at(clock_mhz), self.top
        return frames / top.frames_a_minute if frames and top is not None and top.frames_a_minute else None

    @property
    def top(self) -> Pair | None:
        """The highest clock that the heavy scene has reached at stock; None if it was not run there."""
        return next((pair for pair in reversed(self.stock) if pair.watts), None)


@dataclass(frozen=True, slots=True)
class Asked:
    """A change worked out from what was seen.

    Attributes:
        settings: what it sets.
        clock_mhz: the clock at which it is cut flat.
        volts: the voltage there; None if it leaves voltages alone.
        watts_part, frames_part: of those at stock, as far as can be told before it is tried; None where not.
    """

    settings: dict[str, Value]
    clock_mhz: float
    volts: float | None = None
    watts_part: float | None = None
    frames_part: float | None = None


def _between(known: Sequence[tuple[float, float | None]], at: float) -> float | None:
    points = [(x, y) for x, y in known if y is not None]
    # Half a step of the grid beyond its ends, since clocks were rounded to it; no further, as curves bend steeply.
    if not points or not points[0][0] - GRID_MHZ / 2 <= at <= points[-1][0] + GRID_MHZ / 2:
        return None
    return float(np.interp(at, [x for x, _ in points], [y for _, y in points]))


def tells(run: RunRecord, machine: str, part: str) -> bool:
    """Tell whether a run tells of a chip's curve: it worked there as fast as it could, and came to its end."""
    head = run.head
    return (
        head.machine == machine
        and workload(head.workload).on_gpu
        and head.options.chip == part
        and not head.options.pace_fps
        and run.end.state in (RunState.FINISHED, RunState.STOPPED)
        and f"{part}.clock" in head.columns
    )


def curve_of(part: str, runs: Iterable[tuple[RunRecord, Floats, Mapping[str, Floats]]]) -> Curve:
    """Return what runs have shown of a chip.

    Args:
        part: the chip.
        runs: each with its telemetry: times from load start in s, and columns by sensor (NaN where not measured).
    """
    seen: defaultdict[float, defaultdict[float, list[tuple[float, float, float, float, float]]]] = defaultdict(
        lambda: defaultdict(list)
    )
    for run, time_s, columns in runs:
        moved = _moved_by(run.head.settings, part)
        for bucket, row in _rows(run, part, time_s, columns):
            seen[moved][bucket].append(row)
    curves = {moved: _pairs(buckets) for moved, buckets in seen.items()}
    return Curve(curves.pop(0.0, ()), curves)


def _moved_by(settings: Mapping[str, Value], part: str) -> float:
    for own in ("voltage-offset", "clock-offset"):
        value = settings.get(f"{part}{PART_MARK}{own}")
        if isinstance(value, float | int) and value:
            return float(value)
    return 0.0


def _rows(
    run: RunRecord, part: str, time_s: Floats, columns: Mapping[str, Floats]
) -> list[tuple[float, tuple[float, float, float, float, float]]]:
    """Return clock, voltage, watts, frames a minute (NaN where unknown) and seconds of each clock that a run kept."""
    clock = columns[f"{part}.clock"]
    nothing = np.full_like(time_s, np.nan)
    volts = columns.get(f"{part}.voltage", nothing)
    watts, busy = columns.get(f"{part}.power", nothing), columns.get(f"{part}.busy", nothing)
    good = (time_s > FROM_S) & (time_s <= run.end.duration_s) & (clock > 0.0)
    good &= np.isnan(busy) | (busy >= BUSY_PERCENT)
    if not good.any():
        return []
    heavy = run.head.options.weight == "heavy"
    step = float(np.median(np.diff(time_s))) if len(time_s) > 1 else 0.0
    buckets = np.round(clock[good] / GRID_MHZ)
    found = []
    for bucket in np.unique(buckets):
        here = buckets == bucket
        count = int(here.sum())
        if count < LEAST_SAMPLES:
            continue
        # A score is of a whole run, so it goes to a clock only if most of the run was spent there.
        mostly = heavy and count > 0.5 * len(buckets)
        score = run.end.score if mostly and run.end.score is not None else np.nan
        power = float(np.nanmean(watts[good][here])) if heavy and not np.isnan(watts[good][here]).all() else np.nan
        row = (float(clock[good][here].mean()), float(np.median(volts[good][here])), power, score, count * step)
        found.append((float(bucket), row))
    return found


def _pairs(buckets: Mapping[float, list[tuple[float, float, float, float, float]]]) -> tuple[Pair, ...]:
    return tuple(_pair(np.array(rows)) for _, rows in sorted(buckets.items()))


def _pair(rows: Floats) -> Pair:
    seconds = rows[:, 4]
    clock, volts, watts, frames = (_mean(rows[:, i], seconds) for i in range(4))
    return Pair(clock or 0.0, volts, watts, frames, float(seconds.sum()))


def _mean(values: Floats, weights: Floats) -> float | None:
    known = ~np.isnan(values)
    return float(np.average(values[known], weights=weights[known])) if known.any() else None


def same_clock(curve: Curve, controls: Mapping[str, Control], part: str, clock_mhz: float, as_mhz: float) -> Asked:
    """Return what holds a clock at the stock voltage of a lower one: the curve moved, and cut flat at the clock.

    Args:
        curve: what the chip has shown.
        controls: the machine's.
        part: the chip.
        clock_mhz: the clock that is wanted.
        as_mhz: the clock whose voltage it is to have.

    Raises:
        BadInput: one of the clocks was not seen, or the second is not the lower one.
        Refused: the chip has nothing that moves its curve.
    """
    if not as_mhz < clock_mhz:
        raise BadInput(f"as: {as_mhz:.0f} MHz is not below {clock_mhz:.0f} MHz: name a lower clock with less voltage.")
    own = mover_of(controls, part)
    for mhz in (clock_mhz, as_mhz):
        _check_seen(curve, mhz)
    # Differences of measured voltages: absolute ones differ from chip to chip.
    volts, lower = curve.volts_at(clock_mhz), curve.volts_at(as_mhz)
    moved: Value
    if own == "clock-offset":
        moved = float(round(clock_mhz - as_mhz))
    elif volts is None or lower is None:
        raise Refused(f"{part}'s driver tells no voltage, so nothing can be worked out from it.")
    else:
        moved = round(lower, 3) if own == "highest-voltage" else -float(round(1000.0 * (volts - lower)))
    settings: dict[str, Value] = {f"{part}{PART_MARK}{own}": moved}
    if can_set(controls, part, HIGHEST_CLOCK):
        settings[f"{part}{PART_MARK}{HIGHEST_CLOCK}"] = float(round(clock_mhz))
    watts_part = curve.watts_part(clock_mhz)
    # Switching goes with V²; leakage falls faster still, so this promises rather too little.
    less = (lower / volts) ** 2 if volts and lower else None
    watts_part = None if less is None or watts_part is None else less * watts_part
    return Asked(settings, clock_mhz, lower, watts_part, curve.frames_part(clock_mhz))


def mover_of(controls: Mapping[str, Control], part: str) -> str:
    """Return the control that moves a chip's curve, without its part. Raises Refused if it has none."""
    own = next((own for own in MOVERS if can_set(controls, part, own)), "")
    if not own:
        raise Refused(f"{part} has no offset and no highest voltage that could be set, so its curve cannot be moved.")
    return own


@dataclass(frozen=True, slots=True)
class ClockLadder:
    """Clocks to be measured before a chip's curve can be told: a control, from, to and step in MHz."""

    control: str
    first: float
    last: float
    step: float

    @property
    def count(self) -> int:
        """How many clocks those are."""
        return 1 + floor((self.first - self.last) / self.step + 1e-9)

    @property
    def command(self) -> str:
        """Return what measures them on the command line."""
        part = self.control.partition(PART_MARK)[0]
        rungs = f"{self.first:.0f}MHz..{self.last:.0f}MHz/{self.step:.0f}MHz"
        return f"sweep {self.control}={rungs} graphics --on {part}"


def clocks_to_measure(controls: Mapping[str, Control], part: str, curve: Curve) -> ClockLadder | None:
    """Return a ladder from a chip's highest clock at stock to half of it; None if it cannot be set or is not known.

    While a chip sleeps its controls tell no clock, but what it has shown does.
    """
    name = f"{part}{PART_MARK}{HIGHEST_CLOCK}"
    control = controls.get(name)
    if control is None or not can_set(controls, part, HIGHEST_CLOCK):
        return None
    # Without a stock value: what may be set, and of a chip that sleeps, what it has shown.
    highest = control.stock if isinstance(control.stock, float) else control.maximum
    if highest is None and curve.top is not None:
        highest = round(curve.top.clock_mhz / GRID_MHZ) * GRID_MHZ
    if highest is None:
        return None
    stride = max(control.step, GRID_MHZ, round(highest / 2.0 / LADDER_STEPS / GRID_MHZ) * GRID_MHZ)
    lowest = max(highest - LADDER_STEPS * stride, control.minimum or 0.0)
    return ClockLadder(name, highest, lowest, stride)


def _check_seen(curve: Curve, clock_mhz: float) -> None:
    seen = [pair.clock_mhz for pair in curve.stock]
    if not seen or not min(seen) - GRID_MHZ / 2 <= clock_mhz <= max(seen) + GRID_MHZ / 2:
        span = f"only {min(seen):.0f} to {max(seen):.0f} MHz were seen" if seen else "no clock was seen yet"
        raise BadInput(f"{clock_mhz:.0f} MHz was not seen under load at this chip's own voltages; {span}.")


def can_set(controls: Mapping[str, Control], part: str, own: str) -> bool:
    """Tell whether a control of a chip can be set, or could be once it is awake."""
    control = controls.get(f"{part}{PART_MARK}{own}")
    return control is not None and control.state in (ControlState.SETTABLE, ControlState.ASLEEP)


def flat_and_quiet(curve: Curve, controls: Mapping[str, Control], part: str) -> Asked | None:
    """Return the highest clock at which the heavy scene took two thirds of its watts at stock; None if not seen."""
    top = curve.top
    if top is None or not top.watts or not can_set(controls, part, HIGHEST_CLOCK):
        return None
    wanted = QUIET_PART * top.watts
    measured = [(pair.clock_mhz, pair.watts) for pair in curve.stock if pair.watts]
    for (low, low_w), (high, high_w) in pairwise(measured):
        if low_w <= wanted <= high_w:
            exact = low + (wanted - low_w) / (high_w - low_w) * (high - low) if high_w > low_w else low
            # Downwards, so that the watts stay below what was wanted.
            clock = GRID_MHZ * floor(exact / GRID_MHZ)
            settings: dict[str, Value] = {f"{part}{PART_MARK}{HIGHEST_CLOCK}": clock}
            return Asked(settings, clock, None, curve.watts_part(clock), curve.frames_part(clock))
    return None


def same_speed(curve: Curve, controls: Mapping[str, Control], part: str) -> Asked | None:
    """Return the clock reached at stock at the voltage seen some steps lower; None if no such clock was seen."""
    top = curve.top
    if top is None:
        return None
    as_mhz = _lower_clock(curve, top)
    if as_mhz is None:
        return None
    # A proposal, not an answer to what a person typed: what cannot be worked out is not proposed.
    try:
        found = same_clock(curve, controls, part, top.clock_mhz, as_mhz)
    except (BadInput, Refused):
        return None
    held = f"{part}{PART_MARK}{HIGHEST_CLOCK}"
    if held in found.settings:
        found.settings[held] = GRID_MHZ * floor((top.clock_mhz + ROOM_MHZ) / GRID_MHZ)
    return found


def _lower_clock(curve: Curve, top: Pair) -> float | None:
    """Return the clock whose voltage the first draft for the same speed asks for; None if none that low was seen."""
    if top.volts is None:
        wanted = top.clock_mhz - FIRST_STEP_MHZ
        return wanted if curve.stock[0].clock_mhz <= wanted else None
    rising = [(pair.volts, pair.clock_mhz) for pair in curve.stock if pair.volts is not None]
    below = [volts for volts, _ in rising if volts < top.volts]
    if not below:
        return None
    wanted = max(below[0], top.volts - FIRST_STEP_V)
    return float(np.interp(wanted, np.maximum.accumulate([v for v, _ in rising]), [mhz for _, mhz in rising]))
