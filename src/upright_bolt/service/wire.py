"""What crosses the bus as JSON, and how it becomes the model's own data again, checked against its type."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from math import isnan, nan
from typing import TypeVar

from upright_bolt.disk import JsonCodec, bounded
from upright_bolt.errors import CorruptData, Refused
from upright_bolt.model import quantity as quantities
from upright_bolt.model.catalogue import declaration_of
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.control import Control, ControlState, Value
from upright_bolt.model.graphics import Gpu
from upright_bolt.model.hold import EnforcementStatus, LogEntry
from upright_bolt.model.machine import About, Identity, Topology
from upright_bolt.model.note import Diagnostic
from upright_bolt.model.sample import Sample
from upright_bolt.model.sensor import Sensor, SensorKind
from upright_bolt.model.trial import ApplyReport, Recovery, Status, Trial
from upright_bolt.service.names import VERSION

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class SensorRow:
    """A sensor, its quantity by name and unit."""

    name: str
    quantity: str
    unit: str
    title: str
    kind: SensorKind
    processor: int | None


@dataclass(frozen=True, slots=True)
class ControlRow:
    """A control as it stands; what is true of it everywhere is declared on both sides."""

    name: str
    minimum: float | None
    maximum: float | None
    step: float
    choices: tuple[str, ...]
    stock: Value | None
    current: Value | None
    state: ControlState
    note: Diagnostic | None
    steps: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class Description:
    """What does not change about the machine behind the service."""

    version: int
    identity: Identity
    topology: Topology
    gaps: tuple[Diagnostic, ...]
    sensors: tuple[SensorRow, ...]
    ceiling_c: float | None
    base_mhz: float | None
    highest_mhz: float | None
    turbo_table_mhz: tuple[float, ...]
    recovered: Recovery | None
    chips: tuple[Gpu, ...] = ()
    survey: int = 0


@dataclass(frozen=True, slots=True)
class StatusRow:
    """How the machine stands, and the survey that it is described by."""

    status: Status
    survey: int


_DESCRIPTION: JsonCodec[Description] = JsonCodec(Description)
_CONTROLS: JsonCodec[tuple[ControlRow, ...]] = JsonCodec(tuple[ControlRow, ...])
_REPORT: JsonCodec[ApplyReport] = JsonCodec(ApplyReport)
_STATUS: JsonCodec[StatusRow] = JsonCodec(StatusRow)
_TRIAL: JsonCodec[Trial] = JsonCodec(Trial)
_HOLD_STATUS: JsonCodec[EnforcementStatus] = JsonCodec(EnforcementStatus)
_LOG: JsonCodec[tuple[LogEntry, ...]] = JsonCodec(tuple[LogEntry, ...])


def describe(about: About, recovered: Recovery | None) -> str:
    """Return a description as JSON."""
    sensors = tuple(
        SensorRow(s.name, s.quantity.name, s.quantity.unit, s.title, s.kind, s.processor) for s in about.sensors
    )
    return _DESCRIPTION.text(
        Description(
            VERSION, about.identity, about.topology, about.gaps, sensors, about.ceiling_c, about.base_mhz,
            about.highest_mhz, about.turbo_table_mhz, recovered, about.chips, about.survey,
        )
    )  # fmt: skip


def read_description(text: str) -> tuple[About, Recovery | None]:
    """Return what was described, and what was recovered. Raises Refused."""
    found = _read(_DESCRIPTION, text)
    sensors = tuple(
        Sensor(row.name, quantities.find(row.quantity, row.unit), row.title, row.kind, row.processor)
        for row in found.sensors
    )
    about = About(
        found.identity, found.topology, found.gaps, sensors, found.ceiling_c, found.base_mhz, found.highest_mhz,
        found.turbo_table_mhz, found.chips, found.survey,
    )  # fmt: skip
    return about, found.recovered


def controls(found: dict[str, Control]) -> str:
    """Return controls as JSON."""
    return _CONTROLS.text(
        tuple(
            ControlRow(c.name, c.minimum, c.maximum, c.step, c.choices, c.stock, c.current, c.state, c.note, c.steps)
            for c in found.values()
        )
    )


def read_controls(text: str) -> dict[str, Control]:
    """Return the controls of a reply. Raises Refused; NotFound for a control that this version does not know."""
    return {
        r.name: Control(
            r.name,
            declaration_of(r.name),
            r.minimum,
            r.maximum,
            r.step,
            r.choices,
            r.stock,
            r.current,
            r.state,
            r.note,
            r.steps,
        )
        for r in _read(_CONTROLS, text)
    }


def sample(taken: Sample) -> tuple[float, list[float], str, list[str]]:
    """Return a sample as numbers and words, NaN for what was not measured."""
    numbers = [nan if value is None else value for value in taken.values]
    return taken.time_s, numbers, taken.constraint.value, [held.value for held in taken.kinds]


def read_sample(time_s: float, values: Sequence[float | None], held_by: str, kinds: Sequence[str]) -> Sample:
    """Return the sample of a reply; a value that is no number was not measured."""
    numbers = [None if value is None or isnan(value) else value for value in values]
    return Sample(time_s, numbers, Constraint(held_by), tuple(map(Constraint, kinds)))


def report(done: ApplyReport) -> str:
    """Return a report as JSON."""
    return _REPORT.text(done)


def read_report(text: str) -> ApplyReport:
    """Return the report of a reply. Raises Refused."""
    return _read(_REPORT, text)


def trial(begun: Trial) -> str:
    """Return a trial as JSON, without the file texts that only putting back needs."""
    return _TRIAL.text(replace(begun, before={}))


def read_trial(text: str) -> Trial:
    """Return the trial of a reply. Raises Refused."""
    return _read(_TRIAL, text)


def status(now: Status, survey: int) -> str:
    """Return a status as JSON, its trial without file texts, and the survey that the machine was described by."""
    shown = replace(now.trial, before={}) if now.trial is not None else None
    return _STATUS.text(StatusRow(replace(now, trial=shown), survey))


def read_status(text: str) -> tuple[Status, int]:
    """Return the status of a reply, and the survey that the machine is described by now. Raises Refused."""
    found = _read(_STATUS, text)
    return found.status, found.survey


def enforcement_status(now: EnforcementStatus) -> str:
    """Return how profiles, rules, hold and boot stand as JSON."""
    return _HOLD_STATUS.text(now)


def read_enforcement_status(text: str) -> EnforcementStatus:
    """Return how profiles stand, from a reply. Raises Refused."""
    return _read(_HOLD_STATUS, text, whole=True)


def log(entries: tuple[LogEntry, ...]) -> str:
    """Return entries of the hold's log as JSON."""
    return _LOG.text(entries)


def read_log(text: str) -> tuple[LogEntry, ...]:
    """Return the entries of a reply. Raises Refused."""
    return _read(_LOG, text, whole=True)


def _read(form: JsonCodec[T], text: str, *, whole: bool = False) -> T:
    """Return the value of a reply; ``whole``: nothing in it may be of an insane size. Raises Refused."""
    try:
        value = form.from_text(text)
        if whole:
            bounded(value)
    except CorruptData as fault:
        raise Refused(
            "The root service answers in a form that this program does not know: the two are of different "
            "versions. Install the same version of both (sudo make install)."
        ) from fault
    return value
