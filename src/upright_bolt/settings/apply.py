"""Putting settings in force: check, order, write, read back, report; on a failure everything is put back.

Nothing is written unless every asked control passes its check. After a failure the machine is as before, file by
file; a file that could not be put back is named in the report.
"""

from collections.abc import Mapping

from upright_bolt.errors import BadInput, FileFault
from upright_bolt.kernel.driver import ControlDriver, ExplainsSilence, Write
from upright_bolt.model.catalogue import beside, declaration_of, unsafe_direction_of
from upright_bolt.model.control import Control, Value, show_value
from upright_bolt.model.note import CAPPED, Diagnostic, DiagnosticCode, note
from upright_bolt.model.settings import Settings
from upright_bolt.model.trial import ApplyReport, ApplyRow
from upright_bolt.settings.backend import Backend


def check(settings: Settings, controls: Mapping[str, Control], base_mhz: float | None) -> dict[str, Diagnostic]:
    """Return a note for every control that cannot be set as asked, by name; empty if all can.

    Args:
        settings: what is asked.
        controls: at least the asked controls and those they are checked with, as they stand.
        base_mhz: the base clock, if known.
    """
    refused = {}
    for name, value in settings.items():
        control = controls[name]
        if not control.settable:
            why = control.note
            refused[name] = note(DiagnosticCode.CONTROL_CLOSED, name, state=control.state.value) if why is None else why
            continue
        try:
            control.check(value)
        except BadInput as fault:
            refused[name] = note(DiagnosticCode.BAD_VALUE, text=str(fault))
    # What contradicts a setting may have been there before: the highest clock below a new lowest one.
    after = {name: control.current for name, control in controls.items()} | dict(settings)
    for name, contradiction in _contradictions(settings, after, base_mhz).items():
        refused.setdefault(name, contradiction)
    return refused


def _contradictions(
    settings: Settings, after: Mapping[str, Value | None], base_mhz: float | None
) -> dict[str, Diagnostic]:
    found = {}
    if "epp" in settings and after.get("governor") == "performance" and settings["epp"] != 0:
        found["epp"] = note(DiagnosticCode.PREFERENCE_FIXED, "epp")
    for lowest, highest in _clock_bounds(settings):
        low, high = after.get(lowest), after.get(highest)
        if isinstance(low, float) and isinstance(high, float) and low > high:
            found[lowest if lowest in settings else highest] = note(DiagnosticCode.CLOCKS_CROSSED, low=low, high=high)
    for name in settings:
        level = beside(name, "level")
        if level in settings and "level" in declaration_of(name).changes and settings[level] != "manual":
            found[level] = note(DiagnosticCode.LEVEL_NOT_MANUAL)
    guarded = next((name for name in settings if declaration_of(name).guarded), None)
    # A person has confirmed this one. Nothing else may come along unseen.
    if guarded is not None and len(settings) > 1:
        found[guarded] = note(DiagnosticCode.ONLY_ALONE, guarded)
    # Firmware writes its own limits within a second of a change of mode, over those that were just set.
    limits = [name for name in declaration_of("platform-mode").changes if name in settings]
    if "platform-mode" in settings and limits:
        found["platform-mode"] = note(DiagnosticCode.MODE_WITH_LIMITS, "platform-mode", limit=limits[0])
    high = after.get("clock-max")
    if "clock-max" in settings and after.get("turbo") == "off" and _above(base_mhz, high):
        found["clock-max"] = note(DiagnosticCode.ABOVE_BASE_CLOCK, high=high or 0.0, base=base_mhz or 0.0)
    return found


BOUNDS = (("clock-min", "clock-max"), ("lowest-clock", "highest-clock"))


def _clock_bounds(settings: Settings) -> list[tuple[str, str]]:
    """Return lowest and highest clock of whatever has one of them set: the processor, a graphics chip."""
    pairs = {(beside(name, low), beside(name, high)) for name in settings for low, high in BOUNDS}
    return sorted(pair for pair in pairs if pair[0] in settings or pair[1] in settings)


def _above(base_mhz: float | None, high: Value | None) -> bool:
    return base_mhz is not None and isinstance(high, float) and high > base_mhz + 1.0


def refused_report(
    settings: Settings, controls: Mapping[str, Control], refused: Mapping[str, Diagnostic]
) -> ApplyReport:
    """Return the report of settings of which some failed their check: nothing was written."""
    not_written = note(DiagnosticCode.NOT_WRITTEN)
    rows = [
        ApplyRow(name, value, controls[name].current, ok=False, why=refused.get(name, not_written))
        for name, value in settings.items()
    ]
    return ApplyReport(tuple(rows), bad_input=all(controls[name].settable for name in refused))


def write_order(settings: Settings, drivers: Mapping[str, ControlDriver]) -> list[str]:
    """Return the asked controls in an order that is valid at each step.

    ``drivers`` gives the usual order. Of two clock bounds, the highest goes first when both rise. Of several controls
    that can fail, those that come nearer to stock go first: together they are never deeper than before or after.
    """
    names = [name for name in drivers if name in settings]
    for low, high in _clock_bounds(settings):
        # The kernel refuses a lowest clock above the highest, even for the moment between two writes.
        if low in names and high in names:
            top = drivers[high].read()
            if isinstance(top, float) and float(settings[low]) > top:
                first, second = names.index(low), names.index(high)
                names[first], names[second] = names[second], names[first]
    risky = [name for name in names if unsafe_direction_of(name)]
    if len(risky) > 1:
        in_turn = iter(sorted(risky, key=lambda name: _goes_deeper(drivers[name], settings[name])))
        names = [next(in_turn) if unsafe_direction_of(name) else name for name in names]
    return names


def _goes_deeper(driver: ControlDriver, value: Value) -> bool:
    held = driver.read()
    if isinstance(held, str) or isinstance(value, str) or held is None:
        return False
    return unsafe_direction_of(driver.name) * (value - held) > 0.0


def apply_settings(settings: Settings, backend: Backend, before: Mapping[str, str]) -> ApplyReport:
    """Write settings that passed their check, and read them back.

    Args:
        settings: what is asked.
        backend: the machine.
        before: texts to go back to if anything fails.
    """
    faults: dict[str, Diagnostic] = {}
    # One after another and read back each time: a fault is known by its control, and nothing more is written after it.
    for name in write_order(settings, backend.drivers):
        why = _write_one(backend, name, settings[name])
        if why is not None:
            faults[name] = why
            break
    if not faults:  # once more for all: a later write may have moved an earlier one
        for name, value in settings.items():
            if (why := _read_back_fault(backend, name, value)) is not None:
                faults[name] = why
    left = backend.restore(before) if faults else ()
    rows = [_row(name, value, backend.drivers[name], faults) for name, value in settings.items()]
    return ApplyReport(tuple(rows), left)


def _write_one(backend: Backend, name: str, value: Value) -> Diagnostic | None:
    driver = backend.drivers[name]
    shown: list[Write] = []
    needed: list[Write] = []
    for write in driver.plan(value):
        (shown if backend.shows(write.path, write.text) else needed).append(write)
    why: Diagnostic | None = None
    for writes in (needed, shown):  # one that shows what is asked may stand for more than it shows
        if not writes and why is not None:
            break
        for write in writes:
            try:
                backend.write(write.path, write.text)
            except FileFault as fault:
                return driver.refusal(fault)
        why = _read_back_fault(backend, name, value)
        if why is None:
            return None
    return why


def _read_back_fault(backend: Backend, name: str, value: Value) -> Diagnostic | None:
    """Return why a value that was written is not in force; None once it is.

    The machine is given its time: a value that shows only a moment later was not refused.
    """
    got = backend.read_back(name, value)
    if got is None:
        return note(DiagnosticCode.NOT_READ_BACK, name)
    driver = backend.drivers[name]
    if driver.same(value, got):
        return None
    why = driver.explain_ignored_write() if isinstance(driver, ExplainsSilence) else None
    return why if why is not None else note(DiagnosticCode.NOT_TAKEN, name, asked=value, got=got)


def _row(name: str, asked: Value, driver: ControlDriver, faults: Mapping[str, Diagnostic]) -> ApplyRow:
    got = driver.read()
    if faults:
        return ApplyRow(name, asked, got, ok=False, why=faults.get(name, note(DiagnosticCode.UNDONE)))
    near = got is not None and not isinstance(asked, str) and show_value(name, got) != show_value(name, asked)
    return ApplyRow(name, asked, got, ok=True, why=_why_near(name, got or 0.0, driver) if near else None)


def _why_near(name: str, got: Value, driver: ControlDriver) -> Diagnostic:
    """Return why a value is in force that was not asked for, though nothing was refused."""
    facts = driver.facts()
    if facts.note is not None and facts.note.code in CAPPED:
        return facts.note
    if facts.steps:
        return note(DiagnosticCode.BETWEEN_STEPS, name, got=got, steps=tuple(f"{step:g}" for step in facts.steps))
    return note(DiagnosticCode.NEAREST_STEP, name, got=got)
