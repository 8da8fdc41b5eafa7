"""What crosses the bus as JSON, and how it becomes the model's own data again (checked by pydantic)."""

from dataclasses import dataclass, replace
from typing import Any

from pydantic import TypeAdapter, ValidationError

from upright_bolt.errors import Refused
from upright_bolt.model import quantity as quantities
from upright_bolt.model.control import Control, ControlState, Value, declaration_of
from upright_bolt.model.machine import About, Identity, Missing, Topology
from upright_bolt.model.sensor import Sensor
from upright_bolt.model.trial import ApplyReport, Status, Trial
from upright_bolt.service.names import VERSION


@dataclass(frozen=True, slots=True)
class SensorRow:
    """A sensor, its quantity by name and unit."""

    name: str
    quantity: str
    unit: str
    title: str


@dataclass(frozen=True, slots=True)
class ControlRow:
    """A control as it stands; what is true of it everywhere is declared on both sides."""

    name: str
    minimum: float | None
    maximum: float | None
    step: float
    choices: tuple[str, ...]
    stock: Value | None
    in_force: Value | None
    state: ControlState
    reason: str


@dataclass(frozen=True, slots=True)
class Description:
    """What does not change about the machine behind the service."""

    version: int
    identity: Identity
    topology: Topology
    missing: tuple[Missing, ...]
    sensors: tuple[SensorRow, ...]
    ceiling_c: float | None
    base_mhz: float | None
    highest_mhz: float | None
    turbo_table_mhz: tuple[float, ...]
    recovered: str


_DESCRIPTION = TypeAdapter(Description)
_CONTROLS = TypeAdapter(tuple[ControlRow, ...])
_REPORT = TypeAdapter(ApplyReport)
_STATUS = TypeAdapter(Status)
_TRIAL = TypeAdapter(Trial)


def describe(about: About, recovered: str) -> str:
    """Return a description as JSON."""
    sensors = tuple(SensorRow(s.name, s.quantity.name, s.quantity.unit, s.title) for s in about.sensors)
    return _text(
        _DESCRIPTION,
        Description(
            VERSION, about.identity, about.topology, about.missing, sensors, about.ceiling_c, about.base_mhz,
            about.highest_mhz, about.turbo_table_mhz, recovered,
        ),
    )  # fmt: skip


def read_description(text: str) -> tuple[About, str]:
    """Return what was described, and what was recovered. Raises Refused."""
    told: Description = _read(_DESCRIPTION, text)
    sensors = tuple(Sensor(row.name, quantities.find(row.quantity, row.unit), row.title) for row in told.sensors)
    about = About(
        told.identity, told.topology, told.missing, sensors, told.ceiling_c, told.base_mhz, told.highest_mhz,
        told.turbo_table_mhz,
    )  # fmt: skip
    return about, told.recovered


def controls(found: dict[str, Control]) -> str:
    """Return controls as JSON."""
    rows = tuple(
        ControlRow(c.name, c.minimum, c.maximum, c.step, c.choices, c.stock, c.in_force, c.state, c.reason)
        for c in found.values()
    )
    return _text(_CONTROLS, rows)


def read_controls(text: str) -> dict[str, Control]:
    """Return the controls of a reply. Raises Refused."""
    rows: tuple[ControlRow, ...] = _read(_CONTROLS, text)
    return {
        r.name: Control(
            declaration_of(r.name), r.minimum, r.maximum, r.step, r.choices, r.stock, r.in_force, r.state, r.reason
        )
        for r in rows
    }


def report(done: ApplyReport) -> str:
    """Return a report as JSON."""
    return _text(_REPORT, done)


def read_report(text: str) -> ApplyReport:
    """Return the report of a reply. Raises Refused."""
    told: ApplyReport = _read(_REPORT, text)
    return told


def trial(begun: Trial) -> str:
    """Return a trial as JSON, without the file texts that only putting back needs."""
    return _text(_TRIAL, replace(begun, before={}))


def read_trial(text: str) -> Trial:
    """Return the trial of a reply. Raises Refused."""
    told: Trial = _read(_TRIAL, text)
    return told


def status(now: Status) -> str:
    """Return a status as JSON, its trial without file texts."""
    shown = replace(now.trial, before={}) if now.trial is not None else None
    return _text(_STATUS, replace(now, trial=shown))


def read_status(text: str) -> Status:
    """Return the status of a reply. Raises Refused."""
    told: Status = _read(_STATUS, text)
    return told


def _text(adapter: TypeAdapter[Any], value: object) -> str:
    return adapter.dump_json(value).decode()


def _read(adapter: TypeAdapter[Any], text: str) -> Any:  # noqa: ANN401 - what the adapter makes
    try:
        return adapter.validate_json(text)
    except ValidationError as fault:
        raise Refused(
            "The root service answers in a form that this program does not know: the two are of different "
            "versions. Install the same version of both (sudo make install)."
        ) from fault
