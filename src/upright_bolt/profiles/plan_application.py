"""Putting a plan in force through the settings engine: what a profile does not name goes to the machine's own values.

What is in force afterwards depends on the plan alone, not on what was in force before.
"""

from collections.abc import Collection, Mapping
from contextlib import suppress

from upright_bolt.errors import BadInput
from upright_bolt.model.control import Value
from upright_bolt.model.note import DiagnosticCode
from upright_bolt.model.profile import HeldBack, is_voltage
from upright_bolt.model.trial import ApplyReport
from upright_bolt.profiles.plan import Plan
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.text.notes import clause

FOLLOWED = (DiagnosticCode.UNDONE, DiagnosticCode.NOT_WRITTEN)
"""Why a setting was refused that another one's refusal took along."""
OWNER = "profile"
MODE = "platform-mode"


def apply_plan(engine: SettingsEngine, backend: Backend, plan: Plan, by: str, *, woken: bool) -> Plan:
    """Put a plan in force.

    Args:
        engine: decides and writes down.
        backend: its machine.
        plan: what is wanted.
        by: who asks, for the record.
        woken: the machine has slept: voltages go to its own values first.

    Returns:
        What is in force now, and what is not: what the plan held back, and what the machine refused.

    Raises:
        InUse: another program holds the machine.
        Refused: it cannot be written down, or files did not take their earlier values.
    """
    leaving = [name for name in engine.kept if name not in plan.settings or (woken and is_voltage(name))]
    if leaving:
        with suppress(BadInput):  # nothing of it is known to be changed in this boot
            engine.reset_to_stock(leaving, by)
    refused: list[HeldBack] = []
    for wanted in _in_turn(_unless_there(plan.settings, engine, backend)):
        refused += _put(engine, wanted, by)
    gone = {one.name for one in refused}
    settings = {name: value for name, value in plan.settings.items() if name not in gone}
    return Plan(settings, (*plan.held_back, *refused))


def _in_turn(settings: Mapping[str, Value]) -> list[dict[str, Value]]:
    """Return what is put in force one after another: the platform mode first, since firmware follows with limits."""
    first = {name: value for name, value in settings.items() if name == MODE}
    return [part for part in (first, {n: v for n, v in settings.items() if n != MODE}) if part]


def _put(engine: SettingsEngine, wanted: dict[str, Value], by: str) -> list[HeldBack]:
    """Put settings in force and keep them; return what the machine refused. Raises InUse or Refused."""
    refused: list[HeldBack] = []
    while wanted:
        report = engine.try_settings(wanted, standing=True, by=by, owner=OWNER)
        if report.ok:
            engine.keep(just_applied=True)
            break
        culprits = _culprits(report)
        refused += culprits
        names = {one.name for one in culprits}
        wanted = {name: value for name, value in wanted.items() if name not in names}
    return refused


def _unless_there(settings: Mapping[str, Value], engine: SettingsEngine, backend: Backend) -> dict[str, Value]:
    """Return those settings that are not kept already, or no longer hold."""
    kept, now = engine.kept, backend.values(settings)
    return {
        name: value for name, value in settings.items()
        if kept.get(name) != value
        or not (backend.is_asleep(name) or (name in now and backend.drivers[name].same(value, now[name])))
    }  # fmt: skip


def _culprits(report: ApplyReport) -> list[HeldBack]:
    """Return what the machine refused by itself; everything, if it does not say what."""
    told = [row for row in report.rows if row.why is not None and row.why.code not in FOLLOWED] or report.rows
    return [
        HeldBack(row.name, row.asked, clause(row.why).rstrip(".") if row.why is not None else "the machine refused it")
        for row in told
    ]


def revert_one(engine: SettingsEngine, names: Collection[str], by: str) -> bool:
    """Put settings that were kept in force again; tell whether they hold. Raises InUse or Refused."""
    kept = engine.kept
    report = engine.try_settings({name: kept[name] for name in names}, standing=True, by=by, owner=OWNER)
    if report.ok:
        engine.keep(just_applied=True)
    return report.ok
