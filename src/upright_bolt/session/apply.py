"""Putting settings in force: check, order, write, read back, report; on a failure everything is put back.

Nothing is written unless every asked control passes its check. After a failure the machine is as before, file by
file; a file that could not be put back is named in the report.
"""

from collections.abc import Callable, Mapping

from upright_bolt.errors import BadInput, FileFault
from upright_bolt.kernel.driver import ControlDriver
from upright_bolt.kernel.ports import KernelFiles
from upright_bolt.model.control import Control, Value, declaration_of, show_value
from upright_bolt.model.settings import Settings
from upright_bolt.model.trial import NOT_WRITTEN, UNDONE, ApplyReport, ApplyRow

RESTORE_ROUNDS = 4
"""Files depend on each other (lowest below highest, preference under a governor): each round may free another."""


def check(settings: Settings, controls: Mapping[str, Control], base_mhz: float | None) -> dict[str, str]:
    """Return a sentence for every control that cannot be set as asked, by name; empty if all can."""
    refused = {}
    for name, value in settings.items():
        control = controls[name]
        if not control.settable:
            refused[name] = f"{control.declaration.title} is {control.state.value}: {control.reason}"
            continue
        try:
            control.check(value)
        except BadInput as fault:
            refused[name] = str(fault)
    after = {name: control.in_force for name, control in controls.items()} | dict(settings)
    for name, why in _contradictions(settings, after, base_mhz).items():
        refused.setdefault(name, why)
    return refused


def _contradictions(settings: Settings, after: Mapping[str, Value | None], base_mhz: float | None) -> dict[str, str]:
    found = {}
    if "epp" in settings and after.get("governor") == "performance" and settings["epp"] != 0:
        found["epp"] = (
            "Energy preference (EPP): under governor performance the kernel keeps it at 0. "
            "Set governor=powersave in the same command."
        )
    low, high = after.get("clock-min"), after.get("clock-max")
    asked = [name for name in ("clock-min", "clock-max") if name in settings]
    if asked and isinstance(low, float) and isinstance(high, float) and low > high:
        found[asked[0]] = (
            f"Lowest clock {show_value('clock-min', low)} would lie above the highest, {show_value('clock-max', high)}."
        )
    deliberate = next((name for name in settings if declaration_of(name).deliberate), None)
    if deliberate is not None and len(settings) > 1:
        found[deliberate] = (
            f"{declaration_of(deliberate).title}: it takes a protection away, so it is set by itself, not among others."
        )
    limits = [name for name in ("sustained", "burst", "window") if name in settings]
    if "platform-mode" in settings and limits:
        found["platform-mode"] = (
            f"Platform mode: the firmware rewrites the limits within a second of a change of mode, so {limits[0]} "
            "would not stay. Set the mode first, then the limits."
        )
    if "clock-max" in settings and after.get("turbo") == "off" and _above(base_mhz, high):
        found["clock-max"] = (
            f"Highest clock {show_value('clock-max', high)} cannot be reached with turbo off: the base clock is "
            f"{show_value('clock-max', base_mhz)}."
        )
    return found


def _above(base_mhz: float | None, high: Value | None) -> bool:
    return base_mhz is not None and isinstance(high, float) and high > base_mhz + 1.0


def write_order(settings: Settings, drivers: Mapping[str, ControlDriver]) -> list[str]:
    """Return the asked controls in an order that is valid at each step.

    ``drivers`` gives the usual order. Of the two clock bounds, the highest goes first when both rise.
    """
    names = [name for name in drivers if name in settings]
    if "clock-min" in names and "clock-max" in names:
        top = drivers["clock-max"].read()
        if isinstance(top, float) and float(settings["clock-min"]) > top:
            first, second = names.index("clock-min"), names.index("clock-max")
            names[first], names[second] = names[second], names[first]
    return names


def snapshot(names: list[str], drivers: Mapping[str, ControlDriver], files: KernelFiles) -> dict[str, str]:
    """Return the present text of every file that setting ``names`` may change.

    Raises:
        FileFault: a file cannot be read, so it could not be put back.
    """
    touched = list(names)
    for name in names:
        touched += [other for other in drivers[name].coupled if other in drivers and other not in touched]
    return {path: _text(files, path) for name in drivers if name in touched for path in drivers[name].files}


def restore(before: Mapping[str, str], files: KernelFiles) -> tuple[str, ...]:
    """Put the files back to their earlier texts and return those that did not take it."""
    left = [path for path in before if not _is(files, path, before[path])]
    for _ in range(RESTORE_ROUNDS):
        if not left:
            break
        for path in left:
            try:
                files.write(path, before[path].encode())
            except FileFault:
                continue  # another round may find it writable
        left = [path for path in before if not _is(files, path, before[path])]
    return tuple(left)


def _text(files: KernelFiles, path: str) -> str:
    return files.read(path).decode("ascii", "replace").strip()


def _is(files: KernelFiles, path: str, text: str) -> bool:
    try:
        return _text(files, path) == text
    except FileFault:
        return False


def refused_report(settings: Settings, controls: Mapping[str, Control], refused: Mapping[str, str]) -> ApplyReport:
    """Return the report of settings of which some failed their check: nothing was written."""
    rows = [
        ApplyRow(name, value, controls[name].in_force, ok=False, why=refused.get(name, NOT_WRITTEN))
        for name, value in settings.items()
    ]
    return ApplyReport(tuple(rows), bad_input=all(controls[name].settable for name in refused))


def put_in_force(
    settings: Settings,
    drivers: Mapping[str, ControlDriver],
    files: KernelFiles,
    before: Mapping[str, str],
    *,
    wrote: Callable[[str], None] | None = None,
) -> ApplyReport:
    """Write settings that passed their check, and read them back.

    Args:
        settings: what is asked.
        drivers: all drivers of the machine, in writing order.
        files: the port.
        before: texts to go back to if anything fails.
        wrote: told every path after it was written.
    """
    faults: dict[str, str] = {}
    for name in write_order(settings, drivers):
        why = _write_one(drivers[name], settings[name], files, wrote)
        if why:
            faults[name] = why
            break
    if not faults:
        faults = _verify(settings, drivers)
    left: tuple[str, ...] = ()
    if faults:
        left = restore(before, files)
    rows = [_row(name, value, drivers[name], faults) for name, value in settings.items()]
    return ApplyReport(tuple(rows), left)


def _write_one(driver: ControlDriver, value: Value, files: KernelFiles, wrote: Callable[[str], None] | None) -> str:
    for write in driver.plan(value):
        if _is(files, write.path, write.text):
            continue
        try:
            files.write(write.path, write.text.encode())
        except FileFault as fault:
            return driver.refusal(fault)
        if wrote is not None:
            wrote(write.path)
    return _stuck(driver, value)


def _stuck(driver: ControlDriver, value: Value) -> str:
    got = driver.read()
    if got is None:
        return f"{driver.name}: it was written, but cannot be read back."
    if not driver.same(value, got):
        return (
            f"{driver.name}: {show_value(driver.name, value)} was written without complaint, but the machine holds "
            f"{show_value(driver.name, got)}: the firmware or another program keeps it."
        )
    return ""


def _verify(settings: Settings, drivers: Mapping[str, ControlDriver]) -> dict[str, str]:
    """Read everything back once more: a later write may have moved an earlier one."""
    return {name: why for name, value in settings.items() if (why := _stuck(drivers[name], value))}


def _row(name: str, asked: Value, driver: ControlDriver, faults: Mapping[str, str]) -> ApplyRow:
    got = driver.read()
    if faults:
        return ApplyRow(name, asked, got, ok=False, why=faults.get(name, UNDONE))
    near = got != asked and not isinstance(asked, str)
    why = f"Kept as {show_value(name, got)}, the nearest step of this machine." if near else ""
    return ApplyRow(name, asked, got, ok=True, why=why)
