"""The machine's sheet in plain text: what it is, what can be set, which limit counts, what is closed and at odds."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from upright_bolt.model.control import Control, ControlState, Kind, show_value
from upright_bolt.model.machine import About, Missing
from upright_bolt.model.quantity import POWER
from upright_bolt.model.trial import Status

PINNED = "kernel argument "
"""How gaps begin that a kernel argument makes."""
LIFTED = 0.05
"""Watts by which a limit must lie below another to be the one that counts."""


@dataclass(frozen=True, slots=True)
class Counting:
    """Which limit counts where several are in force: the lowest.

    Attributes:
        lasting_w, lasting_by: on average, and the control that says so; None and empty if no limit is known.
        at_once_w, at_once_by: for moments.
    """

    lasting_w: float | None
    lasting_by: str
    at_once_w: float | None
    at_once_by: str

    def sentences(self) -> list[str]:
        """Return it in words; nothing if no limit is known."""
        told = []
        if self.lasting_w is not None:
            told.append(f"On average at most {POWER.show(self.lasting_w)}: the {self.lasting_by} limit counts.")
        if self.at_once_w is not None:
            told.append(f"At once at most {POWER.show(self.at_once_w)}: the {self.at_once_by} limit counts.")
        return told


def counting(controls: Mapping[str, Control]) -> Counting:
    """Return which of the limits in force counts, on average and for moments.

    A burst or peak limit below the sustained one holds on average, too. Limits that are switched off count for nothing.
    The board's limit spans more than the processor: it is left to its own row.
    """
    limiter = controls.get("limiter")
    if limiter is not None and limiter.in_force == "off":
        return Counting(None, "", None, "")
    watts = {
        name: float(control.in_force)
        for name in ("sustained", "burst", "peak")
        if (control := controls.get(name)) is not None and isinstance(control.in_force, float)
    }
    lasting = min(watts, key=lambda name: watts[name], default="")
    moments = {name: w for name, w in watts.items() if name != "sustained"}
    at_once = min(moments, key=lambda name: moments[name], default="")
    return Counting(watts.get(lasting), lasting, moments.get(at_once), at_once)


def conflicts(about: About, controls: Mapping[str, Control], status: Status) -> list[str]:
    """Return sentences on what is at odds here: settings changed by others, limits that fight, pinned by arguments."""
    told = []
    for entry in status.drift:
        wanted, got = show_value(entry.name, entry.expected), show_value(entry.name, entry.got)
        told.append(
            f"{entry.name}: {wanted} was set, but {got} is in force. Firmware or another program has changed it; "
            "look for a power service that sets the same files, and let only one of the two do so."
        )
    for control in controls.values():
        if control.settable and control.reason.startswith(("Its copies differ", "Processors ")):
            told.append(f"{control.declaration.title}: {control.reason}")
    low, high = (controls[name].in_force if name in controls else None for name in ("burst", "sustained"))
    if isinstance(low, float) and isinstance(high, float) and low < high - LIFTED:
        told.append(
            f"The burst limit ({POWER.show(low)}) lies below the sustained limit ({POWER.show(high)}), "
            "so the sustained limit never comes to bear."
        )
    told += [f"{gap.what}: {gap.why}." for gap in about.missing if gap.what.startswith(PINNED)]
    return told


def scope(control: Control) -> str:
    """Return what may be set, in words."""
    if control.minimum is not None and control.maximum is not None:
        return f"{control.show(control.minimum)} to {control.show(control.maximum)}"
    if control.declaration.kind is Kind.LIST:
        return f"any of {', '.join(control.choices)}, or none"
    *others, last = control.choices or ("",)
    return f"{', '.join(others)} or {last}" if others else last


def closed_by_reason(controls: Mapping[str, Control]) -> dict[str, list[Control]]:
    """Return the controls that cannot be set, gathered under the reason they share."""
    gathered: dict[str, list[Control]] = {}
    for control in controls.values():
        if not control.settable and control.reason:
            gathered.setdefault(control.reason, []).append(control)
    return gathered


def gaps_besides(about: About, controls: Mapping[str, Control]) -> list[Missing]:
    """Return what is missing, without what is said elsewhere: by absent controls, by arguments."""
    said = {control.reason.lower() for control in controls.values()}
    return [
        entry for entry in about.missing if f"{entry.why}.".lower() not in said and not entry.what.startswith(PINNED)
    ]


def sheet(about: About, controls: Mapping[str, Control], status: Status) -> str:
    """Return the whole sheet as text, for a person or a bug report."""
    return "\n".join(_lines(about, controls, status)) + "\n"


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
    yield ""
    yield from _table(controls)
    counts = counting(controls).sentences()
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
        yield from (f"- {entry.what}: {entry.why}." for entry in gaps)


def _table(controls: Mapping[str, Control]) -> Iterator[str]:
    rows = [("control", "in force", "stock", "range", "state")]
    for control in controls.values():
        if control.state is not ControlState.ABSENT:
            values = control.show(control.in_force), control.show(control.stock)
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
