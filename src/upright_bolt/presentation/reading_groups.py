"""What a machine measures, in groups for a person: of the whole machine by kind, of cores and processors as tables."""

import re
from collections.abc import Sequence
from dataclasses import dataclass

from upright_bolt.model.sensor import Sensor, SensorKind

TITLES = {
    SensorKind.CLOCK: "Clock",
    SensorKind.BUSY: "Active",
    SensorKind.POWER: "Power",
    SensorKind.TEMPERATURE: "Temperature",
    SensorKind.LIMIT: "Limits in force",
    SensorKind.VOLTAGE: "Voltage",
    SensorKind.FAN: "Fans",
    SensorKind.THROTTLE: "Throttle events",
    SensorKind.IDLE: "At rest",
    SensorKind.SUPPLY: "Battery, charger and lid",
    SensorKind.GRAPHICS: "Graphics",
    SensorKind.LIMIT_BITS: "Limit registers",
}
_OF_ONE = re.compile(r"\w+\.(core|cpu)(\d+)(?:\.(.+))?")
_WHOLE = {"cpu": "Processor", "core": "Core"}


@dataclass(frozen=True, slots=True)
class ReadingGroup:
    """Readings of one kind of the whole machine: a title, and indices of sensors."""

    title: str
    sensors: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class ReadingTable:
    """Readings of every core or processor.

    Attributes:
        heads: what the rows are, then the columns' titles.
        rows: the row's number, and the index of its sensor in each column; None where there is none.
    """

    heads: tuple[str, ...]
    rows: tuple[tuple[str, tuple[int | None, ...]], ...]


def groups_of(sensors: Sequence[Sensor]) -> list[ReadingGroup]:
    """Return the readings of the whole machine by their kind, in a fixed order of kinds."""
    found: dict[SensorKind, list[int]] = {}
    by_processor = {sensor.kind for sensor in sensors if sensor.processor is not None}
    for index, sensor in enumerate(sensors):
        of_nothing = sensor.name.endswith(".mean") and sensor.kind not in by_processor
        if _OF_ONE.fullmatch(sensor.name) is None and not of_nothing:
            found.setdefault(sensor.kind, []).append(index)
    return [ReadingGroup(title, tuple(found[kind])) for kind, title in TITLES.items() if kind in found]


def tables_of(sensors: Sequence[Sensor]) -> list[ReadingTable]:
    """Return the readings of single cores, then those of single processors."""
    cells: dict[str, dict[int, dict[str, int]]] = {"core": {}, "cpu": {}}
    columns: dict[str, dict[str, None]] = {"core": {}, "cpu": {}}
    kinds = list(TITLES)
    for index, sensor in sorted(enumerate(sensors), key=lambda entry: kinds.index(entry[1].kind)):
        match = _OF_ONE.fullmatch(sensor.name)
        if match is None:
            continue
        of, number, detail = match.groups()
        title = TITLES[sensor.kind] if detail is None else f"In {detail}"
        cells[of].setdefault(int(number), {})[title] = index
        columns[of][title] = None
    return [
        ReadingTable(
            (_WHOLE[of], *columns[of]),
            tuple((str(n), tuple(row.get(title) for title in columns[of])) for n, row in sorted(cells[of].items())),
        )
        for of in ("core", "cpu")
        if cells[of]
    ]
