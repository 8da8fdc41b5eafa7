"""The machine's sheet in plain text: what it is, what can be set, which limit counts, what is closed and at odds."""

from collections.abc import Iterator, Mapping

from upright_bolt.analysis.limits.effective_limits import EffectiveLimits, effective_limits
from upright_bolt.model.control import Control, ControlState
from upright_bolt.model.declaration import Kind
from upright_bolt.model.machine import About
from upright_bolt.model.note import AT_ODDS, Diagnostic, DiagnosticCode
from upright_bolt.model.quantity import POWER
from upright_bolt.model.trial import Status
from upright_bolt.text import graphics
from upright_bolt.text.notes import about as about_control
from upright_bolt.text.notes import gap, sentence
from upright_bolt.text.trials import drift

LEAST_GAP_W = 0.05
"""Watts by which a limit must lie below another to be the one that counts."""


def effective(limits: EffectiveLimits) -> list[str]:
    """Return in words which limit counts; nothing if no limit is known."""
    said = []
    if limits.average_w is not None:
        said.append(f"On average at most {POWER.show(limits.average_w)}: the {limits.average_by} limit counts.")
    if limits.moment_w is not None:
        said.append(f"At once at most {POWER.show(limits.moment_w)}: the {limits.moment_by} limit counts.")
    return said


def conflicts(about: About, controls: Mapping[str, Control], status: Status) -> list[str]:
    """Return sentences on what is at odds here: settings changed by others, limits that fight, pinned by arguments."""
    said = [drift(entry, status) for entry in status.drift]
    said += [
        about_control(control.name, control.note)
        for control in controls.values()
        if control.settable and control.note is not None and control.note.code in AT_ODDS
    ]
    low, high = (controls[name].current if name in controls else None for name in ("burst", "sustained"))
    if isinstance(low, float) and isinstance(high, float) and low < high - LEAST_GAP_W:
        said.append(
            f"The burst limit ({POWER.show(low)}) lies below the sustained limit ({POWER.show(high)}), "
            "so the sustained limit never comes to bear."
        )
    said += [gap(entry) for entry in about.gaps if entry.code is DiagnosticCode.KERNEL_ARGUMENT]
    return said


MOST_STEPS_NAMED = 8
"""Of more than so many steps, only their number is told."""


def scope(control: Control) -> str:
    """Return what may be set, in words."""
    if control.minimum is not None and control.maximum is not None:
        span = f"{control.show(control.minimum)} to {control.show(control.maximum)}"
        if not control.steps:
            return span
        if len(control.steps) > MOST_STEPS_NAMED:
            return f"{span}, in {len(control.steps)} steps"
        *lower, highest = map(control.show, control.steps)
        return f"{', '.join(lower)} or {highest}"
    if control.declaration.kind is Kind.LIST:
        return f"any of {', '.join(control.choices)}, or none"
    *others, last = control.choices or ("",)
    return f"{', '.join(others)} or {last}" if others else last


def closed_by_reason(controls: Mapping[str, Control]) -> dict[str, list[Control]]:
    """Return the controls that cannot be set, gathered under the sentence they share."""
    gathered: dict[str, list[Control]] = {}
    for control in controls.values():
        if not control.settable and control.note is not None:
            gathered.setdefault(sentence(control.note), []).append(control)
    return gathered


def gaps_besides(about: About, controls: Mapping[str, Control]) -> list[Diagnostic]:
    """Return what is missing, without what is said elsewhere: by absent controls, by arguments."""
    said = {control.note for control in controls.values()}
    return [entry for entry in about.gaps if entry not in said and entry.code is not DiagnosticCode.KERNEL_ARGUMENT]


def opened_as(spec: str) -> str:
    """Return what is to be known of a machine that is none: a twin, or a copy of kernel files. Empty for a real one."""
    kind, _, rest = spec.partition(":")
    if kind == "tree":
        return f"Opened from {rest}: a copy of kernel files as they once were, not a machine at work."
    return f"Opened as {spec}: a simulated machine." if kind == "twin" else ""


def machine_report(about: About, controls: Mapping[str, Control], status: Status, spec: str = "") -> str:
    """Return the whole sheet as text, for a person or a bug report; ``spec`` is the machine's, as it was opened."""
    first = [said] if (said := opened_as(spec)) else []
    return "\n".join((*first, *_lines(about, controls, status))) + "\n"


def _lines(about: About, controls: Mapping[str, Control], status: Status) -> Iterator[str]:
    identity = about.identity
    cores = f"{identity.cores or '?'} cores, {identity.threads or '?'} threads"
    yield f"{identity.name}: {identity.processor or 'processor not named'}, {cores}"
    kinds = ", ".join(f"{name} {_ranges(cpus)}" for name, cpus in about.topology.kinds)
    if kinds:
        yield f"Kinds of cores: {kinds}"
    yield (
        f"{identity.vendor or 'vendor not named'}, kernel {identity.kernel or '?'}, "
        f"scaling driver {identity.driver or 'none'}"
    )
    if about.chips:
        yield ""
        yield "Graphics chips:"
        yield from (f"- {graphics.line(chip, controls)}" for chip in about.chips)
    yield ""
    yield from _table(controls)
    counts = effective(effective_limits(controls))
    if counts:
        yield ""
        yield from counts
    for reason, closed in closed_by_reason(controls).items():
        yield ""
        yield f"{', '.join(control.name for control in closed)}: {reason}"
    at_odds = conflicts(about, controls, status)
    if at_odds:
        yield ""
        yield "At odds:"
        yield from (f"- {sentence}" for sentence in at_odds)
    gaps = gaps_besides(about, controls)
    if gaps:
        yield ""
        yield "Not there:"
        yield from (f"- {gap(entry)}" for entry in gaps)


def _table(controls: Mapping[str, Control]) -> Iterator[str]:
    rows = [("control", "in force", "stock", "range", "state")]
    for control in controls.values():
        if control.state not in (ControlState.ABSENT, ControlState.ASLEEP):
            values = control.show(control.current), control.show(control.stock)
            rows.append((control.name, *values, scope(control), control.state.value))
    widths = [max(len(row[i]) for row in rows) for i in range(5)]
    if len(rows) == 1:
        yield "Nothing can be set on this machine."
        return
    for row in rows:
        yield "  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip()


def _ranges(cpus: tuple[int, ...]) -> str:
    """Return processors as the kernel lists them, e.g. ``0-7,16``."""
    parts: list[list[int]] = []
    for cpu in sorted(cpus):
        if parts and cpu == parts[-1][1] + 1:
            parts[-1][1] = cpu
        else:
            parts.append([cpu, cpu])
    return ",".join(str(a) if a == b else f"{a}-{b}" for a, b in parts)
