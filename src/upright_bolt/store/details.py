"""What a run's telemetry tells beyond its numbers: phases, whether it had settled, what its cooling carries."""

from dataclasses import asdict, dataclass
from typing import Any

from upright_bolt.analysis import phases, thermal
from upright_bolt.analysis.holding import bounds_of
from upright_bolt.model.quantity import clock_text
from upright_bolt.model.run import RunRecord
from upright_bolt.model.work import workload
from upright_bolt.store.runs import RunStore

FAN = "fan.1"


@dataclass(frozen=True, slots=True)
class Details:
    """What was found; ``cooling`` is None if the run does not show it."""

    phases: tuple[phases.Phase, ...]
    cooling: thermal.Cooling | None
    below_c: float | None

    @property
    def carried(self) -> thermal.Interval | None:
        """The watts that the cooling carries below the temperature asked for; None if not asked or not known."""
        return None if self.cooling is None or self.below_c is None else self.cooling.carries(self.below_c)

    def sentences(self) -> list[str]:
        """Return it in words."""
        told = [words] if (words := phases.sentence(self.phases)) else []
        told += self._evidence()
        if self.cooling is not None and self.cooling.still_needs_s >= 1.0:
            ends = self.cooling.settled_c
            told.append(
                f"It had not settled: about {self.cooling.still_needs_s:.0f} s more would lead to {ends.value:.0f} °C "
                f"({ends.low:.0f} to {ends.high:.0f})."
            )
        carried = self.carried
        if carried is not None:
            told.append(
                f"This cooling carries {carried.value:.1f} W ({carried.low:.1f} to {carried.high:.1f}) "
                f"for half an hour below {self.below_c:.0f} °C."
            )
        elif self.below_c is not None:
            told.append(
                "What this cooling carries cannot be told from this run: it needs a minute and a rise in temperature."
            )
        return told

    def _evidence(self) -> list[str]:
        """Return what speaks for the constraints of the last phase, e.g. "Sustained limit: 18.0 W of 18 W, …"."""
        last = self.phases[-1] if self.phases else None
        return [
            f"  {(f'{held.kind.capitalize()}, ' if held.kind else '')}{held.constraint}: {held.evidence}, "
            f"since {clock_text(held.since_s)}, {held.share:.0%} of that time"
            for held in (last.held if last is not None else ())
            if held.evidence
        ]


def details_of(store: RunStore, record: RunRecord, below_c: float | None = None) -> Details:
    """Return the details of a kept run; ``below_c`` asks what its cooling carries below that temperature."""
    time_s, columns = store.telemetry(record.id)
    even = workload(record.head.workload).even
    look = phases.find if even else phases.whole
    found = look(time_s, columns, record.end.duration_s, bounds=bounds_of(record.head.settings))
    under_load = time_s <= record.end.duration_s + 1e-6
    power, temp = columns.get("power.package"), columns.get("temperature.package")
    cooling = None
    if even and power is not None and temp is not None:
        fan = columns.get(FAN)
        cooling = thermal.fit(
            time_s[under_load], power[under_load], temp[under_load], None if fan is None else fan[under_load]
        )
    return Details(found, cooling, below_c)


def details_data(details: Details) -> dict[str, Any]:
    """Return the details as plain data; None where the run does not tell."""
    cooling = details.cooling
    carried = details.carried
    needs = cooling.still_needs_s if cooling is not None else None
    return {
        "phases": [asdict(phase) for phase in details.phases],
        "settled": None if needs is None else (True if needs < 1.0 else needs),
        "thermal": None
        if cooling is None
        else {
            "resistance_c_per_w": asdict(cooling.resistance_c_per_w),
            "taus_s": [asdict(tau) for tau in cooling.taus_s],
            "ambient_c": asdict(cooling.ambient_c),
            "settled_c": asdict(cooling.settled_c),
        },
        "carries": None
        if carried is None
        else {
            "below_c": details.below_c,
            "sustained_w": carried.value,
            "low_w": carried.low,
            "high_w": carried.high,
        },
    }
