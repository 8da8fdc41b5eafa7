"""Sentences of notes: what a machine lacks, why a control is closed, why a write was refused.

Each code has a clause: it begins in lower case and ends without a full stop, so that it can follow a title or stand
alone. ``{name}`` is a particular of the note; ``{title}`` the title of the control that it is about.
"""

from collections.abc import Callable

from upright_bolt.analysis.comparison.no_effect import NoEffect, Why
from upright_bolt.model.catalogue import declaration_of, title_of
from upright_bolt.model.control import show_value
from upright_bolt.model.note import Diagnostic
from upright_bolt.model.note import DiagnosticCode as C
from upright_bolt.model.quantity import CLOCK
from upright_bolt.sanitize import capital, small

NEEDS_ROOT = "changing it needs root rights: run the command with sudo, or have the root service do it (make install)"
LIMITS_LOCKED = (
    "the power limits are locked by the firmware until the next power cycle (lock bit of the package limit register). "
    "Nothing in the operating system can lift it; look in the firmware setup"
)
_PINNED = {
    "intel_pstate=disable": "it keeps the intel_pstate driver away: no energy preference, another turbo switch",
    "intel_pstate=passive": "intel_pstate is passive: the kernel's governors choose clocks, without preference",
    "intel_pstate=no_hwp": "it forbids the processor to choose clocks itself: there is no energy preference",
    "amd_pstate=disable": "it keeps the amd-pstate driver away: fewer clocks, no energy preference",
    "amd_pstate=passive": "amd-pstate is passive: the kernel's governors choose clocks, without preference",
    "cpufreq.off=1": "it switches clock control off altogether",
    "msr.allow_writes=off": "registers cannot be written, so voltage offsets cannot be set",
    "lockdown=integrity": "kernel lockdown forbids writing registers, so voltage offsets cannot be set",
    "lockdown=confidentiality": "kernel lockdown forbids reading and writing registers",
    "idle=poll": "processors never rest: idle watts are as high as they can be",
    "nosmt": "every second thread of a core is switched off",
}
_LIMITING = "it limits what processors may do, whatever is set here"

_CLAUSES: dict[C, str] = {
    C.VIRTUAL_CLOCKS: "this is a virtual machine: its hypervisor keeps the clocks to itself; run on the real machine",
    C.NO_SCALING_DRIVER: "the kernel has no scaling driver for this processor ({folder} holds no policy)",
    C.VIRTUAL_POWER: "this is a virtual machine: power limits belong to the machine it runs on",
    C.NO_PACKAGE_ZONE: "the kernel offers no package zone under {folder} (driver not loaded, or other vendor)",
    C.ENERGY_ONLY: "powercap only counts energy here, and the firmware offers no limits of its own",
    C.NO_ENERGY_COUNTER: "there is no energy counter under powercap",
    C.ENERGY_UNREADABLE: "the energy counter is missing or unreadable (the kernel shows it to root only)",
    C.NO_IDLE_STATES: "the kernel offers none for this processor (no idle driver, or a virtual machine)",
    C.NO_PLATFORM_MODE: "the vendor's driver offers no platform_profile (or there is none for this machine)",
    C.NO_CEILING_DEVICE: "the kernel offers no thermal device of the processor with such a setting",
    C.CEILING_UNREADABLE: "the highest die temperature cannot be read (it needs root rights and the module msr)",
    C.VIRTUAL_VOLTAGES: "this is a virtual machine: voltages belong to the machine it runs on",
    C.NO_OFFSETS_OF_VENDOR: "no interface in the kernel offers voltage offsets on this vendor's processors",
    C.NO_MAILBOX: "this processor has no voltage mailbox",
    C.MAILBOX_SILENT: "the voltage mailbox did not answer",
    C.MAILBOX_COPIED: "this is a copy of kernel files, and offsets are told by a processor alone: none answers here",
    C.OFFSETS_CLOSED: "{what}: the firmware keeps the offsets closed. Look for undervolt protection in the firmware "
    "setup",
    C.VIRTUAL_REGISTERS: "this is a virtual machine: registers belong to the machine it runs on",
    C.NO_REGISTERS_OF_VENDOR: "this vendor's processors keep none of it in registers that this program knows",
    C.VIRTUAL_SENSORS: "this is a virtual machine: sensors belong to the machine it runs on",
    C.NO_PROCESSOR_SENSOR: "no processor sensor under hwmon or thermal zones (driver coretemp or k10temp not loaded)",
    C.NO_FAN: "no fan sensor: a fanless machine, a virtual one, or a board without a driver",
    C.NO_POWER_SUPPLY: "no charger or battery under power_supply: a desktop or a virtual machine",
    C.NO_PROCESSOR_TIMES: "{path} is missing or lists no processor",
    C.NO_CPUINFO: "{path} is missing or empty, so the processor is not named",
    C.PROCESSORS_OFFLINE: "they are offline, so nothing of theirs can be read or set",
    C.LIBRARY_UNUSABLE: "its management library cannot be used ({fault})",
    C.SERVICE_ABSENT: "{why}; install the root service with “sudo make install” in the source folder, or run single "
    "commands with sudo",
    C.SERVICE_REFUSES: "{why}",
    C.REGISTER_EMPTY: "it holds nothing",
    C.LOCKDOWN: "kernel lockdown forbids registers; it is switched on by secure boot in most cases",
    C.REGISTER_WRITES_OFF: "the kernel does not let registers be written (the module msr was loaded with "
    "allow_writes=off)",
    C.NO_REGISTER_MODULE: "the kernel module msr is not loaded (sudo modprobe msr)",
    C.NO_REGISTER_DEVICE: "the kernel offers no register device for this processor (sudo modprobe msr)",
    C.REGISTERS_NEED_ROOT: f"the register device is for root only. {capital(NEEDS_ROOT)}",
    C.NO_SUCH_REGISTER: "this processor has no such register",
    C.REGISTER_SILENT: "the processor did not answer",
    C.REGISTERS_FORBIDDEN: "the kernel forbids it: to programs without the right to use registers (run the command "
    "with sudo), or to all (the module msr with allow_writes=off)",
    C.REGISTER_FAULT: "{what}",
    C.FILE_UNREADABLE: "it cannot be read: {what}",
    C.FILE_TOO_LONG: "it holds {bytes:.0f} bytes where a short value was expected",
    C.FILE_NOT_TEXT: "it holds bytes that are not text",
    C.FILE_EMPTY: "it is empty",
    C.FILE_NOT_NUMBER: "it holds “{text}” where a whole number was expected",
    C.NOT_OFFERED: "this machine does not offer it",
    C.NO_SUCH_FILE: "the scaling driver of this machine has no such file",
    C.NO_TURBO_SWITCH: "the scaling driver of this machine has no turbo switch",
    C.NO_SUCH_CONSTRAINT: "the package zone has no “{constraint}” limit",
    C.WINDOW_HIDDEN: "the firmware of this machine keeps its averaging time to itself",
    C.ALWAYS_LIMITED: "the firmware of this machine always enforces its limits",
    C.NO_PEAK_LIMIT: "no interface of this machine offers a peak limit",
    C.NO_BOARD_ZONE: "this board does not count the watts of everything on it (no psys zone)",
    C.NO_CURRENT_LIMIT: "this processor keeps no current limit in a register",
    C.NO_CLAMP: "this processor keeps no clamping in a register that can be read",
    C.LIMIT_REGISTER_REFUSES: "the processor refuses every write to its package limit register (0x610); the firmware "
    "has closed it",
    C.LIMITER_PARTLY: "only one of the sustained and the burst limit is enforced",
    C.NO_TURBO_TABLE: "this processor keeps no turbo table in a register",
    C.NO_HOT_SIGNAL: "this machine does not offer it",
    C.NEEDS_ROOT: NEEDS_ROOT,
    C.CLOSED_TO_ALL: "the kernel lets it be read only, by root too: driver or firmware has closed it. Look in the "
    "firmware setup",
    C.LIMITS_LOCKED: LIMITS_LOCKED,
    C.CURRENT_LOCKED: "the current limit is locked by the firmware until the next power cycle (lock bit of its "
    "register). Look in the firmware setup",
    C.CLAMP_LOCKED: "clamping is locked by the firmware together with the power limits, until the next power cycle",
    C.TABLE_FIXED: "this processor's turbo table can be read but not changed (bit 28 of its platform information is "
    "clear)",
    C.NO_RANGE: "the driver does not say which values it allows",
    C.WAKE_TO_SET: "the chip is asleep, and reading or setting anything would wake it. Wake it to set it: with "
    "“set --wake”, or by starting a program that uses it",
    C.NO_OVERDRIVE: "the driver was loaded without overdrive (amdgpu.ppfeaturemask is {now}). It takes "
    "amdgpu.ppfeaturemask={wanted} on the kernel's command line, and a restart",
    C.NO_OVERDRIVE_HERE: "overdrive is allowed, but this chip's firmware or driver offers no table for it",
    C.NOT_IN_TABLE: "the overdrive table of this chip has no such entry",
    C.NOT_ON_THIS_MODEL: "the vendor's library says that this model cannot do it",
    C.AS_SET_LAST: "the driver does not tell which clocks are locked; this is what was set last",
    C.LIBRARY_TOO_OLD: "the vendor's driver or its Python package nvidia-ml-py is too old for it",
    C.LEVEL_NOT_MANUAL: "clocks and voltages of this chip hold at level manual alone. Leave the level out, or ask for "
    "manual",
    C.NO_CLOCK_RANGE: "the driver does not say which clocks it allows",
    C.VALUE_UNREADABLE: "its present value cannot be read, so it could not be put back",
    C.OLDER_BIAS: "this processor has the older bias of sixteen steps; the nearest one is taken",
    C.BAD_VALUE: "{text}",
    C.PREFERENCE_FIXED: "under governor performance the kernel keeps it at 0. Set governor=powersave in the same "
    "command",
    C.ONLY_ALONE: "it takes a protection away, so it is set by itself, not among others",
    C.MODE_WITH_LIMITS: "the firmware rewrites the limits within a second of a change of mode, so {limit} would not "
    "stay. Set the mode first, then the limits",
    C.NOT_RESTORABLE: "it cannot be read now, so it could not be put back: {fault}",
    C.PREFERENCE_BUSY: "the kernel keeps it at 0 while the governor is performance. Set governor=powersave first, or "
    "in the same command",
    C.TURBO_OFF_IN_FIRMWARE: "the firmware has it switched off; look in the firmware setup",
    C.LIMIT_REFUSED: f"the write was refused. If you are root: {LIMITS_LOCKED}. Otherwise: {NEEDS_ROOT}",
    C.WRITE_DENIED: f"the kernel refused the write. {capital(NEEDS_ROOT)}. If you are root, the value is locked",
    C.WRITE_NOT_PERMITTED: "the kernel does not permit the write (locked by firmware, or kernel lockdown)",
    C.WRITE_BUSY: "the kernel is busy with it: another setting rules it out at the moment",
    C.WRITE_INVALID: "the kernel calls the value invalid",
    C.WRITE_READ_ONLY: "the file is read-only here",
    C.FILE_GONE: "its file has gone",
    C.DEVICE_GONE: "its device has gone",
    C.WRITE_FAILED: "writing failed with “{what}” at {path}",
    C.NOT_READ_BACK: "it was written, but cannot be read back",
    C.NOT_WRITTEN: "not written, since another setting was refused",
    C.UNDONE: "put back, since another setting failed",
}


def _argument(note: Diagnostic) -> str:
    return _PINNED.get(str(note.particular("argument")), _LIMITING)


def _words(note: Diagnostic, name: str) -> tuple[str, ...]:
    found = note.particular(name)
    return found if isinstance(found, tuple) else (str(found),)


def _idle_states(note: Diagnostic) -> str:
    return f"processors differ in {', '.join(_words(note, 'states'))}"


def _copies(note: Diagnostic) -> str:
    quantity = declaration_of(note.about).quantity
    values = ", ".join(quantity.show(float(value)) for value in _words(note, "values"))
    return f"its copies differ ({values}); the lowest counts, that of {note.particular('zone')}"


def _kinds(note: Diagnostic) -> str:
    parts = []
    words = iter(_words(note, "kinds"))
    for kind, *clocks in zip(words, words, words, words, strict=True):
        low, high, now = (CLOCK.show(float(mhz)) for mhz in clocks)
        parts.append(f"{kind} {low} to {high}, now {now}")
    if not parts:
        return "kinds of cores differ in range; each takes the nearest clock that it allows"
    return "; ".join(parts) + ". Each takes the nearest clock that it allows"


def _crossed(note: Diagnostic) -> str:
    low, high = (show_value("clock-min", note.particular(end)) for end in ("low", "high"))  # type: ignore[arg-type]
    return f"lowest clock {low} would lie above the highest, {high}"


def _above_base(note: Diagnostic) -> str:
    high, base = (show_value("clock-max", note.particular(end)) for end in ("high", "base"))  # type: ignore[arg-type]
    return f"highest clock {high} cannot be reached with turbo off: the base clock is {base}"


def _names_only(note: Diagnostic) -> str:
    return f"this kernel takes only the named values {', '.join(_words(note, 'names'))}"


def _not_taken(note: Diagnostic) -> str:
    asked, got = (show_value(note.about, note.particular(which)) for which in ("asked", "got"))  # type: ignore[arg-type]
    return (
        f"{asked} was written without complaint, but the machine holds {got}: the firmware or another program keeps it"
    )


def _nearest(note: Diagnostic) -> str:
    got = show_value(note.about, note.particular("got"))  # type: ignore[arg-type]
    return f"kept as {got}, the nearest step of this machine"


def _between(note: Diagnostic) -> str:
    got = show_value(note.about, note.particular("got"))  # type: ignore[arg-type]
    steps = [show_value(note.about, float(step)) for step in _words(note, "steps")]
    return f"kept as {got}: this processor has steps of {', '.join(steps[:-1])} and {steps[-1]}, and none between them"


def _capped_by(note: Diagnostic, whose: str) -> str:
    cap = show_value(note.about, note.particular("mhz"))  # type: ignore[arg-type]
    return f"{whose} allows no more than {cap} at the moment; what is set counts again once it allows more"


def _processors(note: Diagnostic) -> str:
    words = iter(_words(note, "held"))
    held = [f"{processor} {_as_shown(note.about, text)}" for processor, text in zip(words, words, strict=True)]
    return f"processors hold different values ({', '.join(held)})"


def _as_shown(name: str, text: str) -> str:
    """Return a kernel file's text as a person reads it: clocks stand there in kHz."""
    if declaration_of(name).quantity is CLOCK and text.isdecimal():
        return CLOCK.show(int(text) / 1000.0)
    return text or "nothing"


def _closed(note: Diagnostic) -> str:
    return f"it is {note.particular('state')}"


_MADE: dict[C, Callable[[Diagnostic], str]] = {
    C.KERNEL_ARGUMENT: _argument,
    C.IDLE_STATES_DIFFER: _idle_states,
    C.COPIES_DIFFER: _copies,
    C.KINDS_DIFFER: _kinds,
    C.CLOCKS_CROSSED: _crossed,
    C.ABOVE_BASE_CLOCK: _above_base,
    C.PREFERENCE_NAMES_ONLY: _names_only,
    C.NOT_TAKEN: _not_taken,
    C.NEAREST_STEP: _nearest,
    C.BETWEEN_STEPS: _between,
    C.CAPPED_BY_FIRMWARE: lambda note: _capped_by(note, "the firmware"),
    C.CAPPED_BY_HEAT: lambda note: _capped_by(note, "the kernel's heat control"),
    C.PROCESSORS_DIFFER: _processors,
    C.CONTROL_CLOSED: _closed,
}
WHOLE = frozenset({C.BAD_VALUE, C.CLOCKS_CROSSED, C.ABOVE_BASE_CLOCK, C.NOT_WRITTEN, C.UNDONE, C.NEAREST_STEP,
                   C.BETWEEN_STEPS, C.NOT_RESTORABLE})  # fmt: skip
"""Notes whose clause says by itself what it is about."""


def clause(note: Diagnostic) -> str:
    """Return what a note says, to go on in a sentence: lower case, without full stop."""
    made = _MADE.get(note.code)
    if made is not None:
        return made(note)
    return _CLAUSES[note.code].format(**dict(note.particulars))


def sentence(note: Diagnostic | None) -> str:
    """Return what a note says as a sentence of its own; empty for none."""
    return "" if note is None else _ended(capital(clause(note)))


def _ended(words: str) -> str:
    return words if words.endswith((".", "?")) else f"{words}."


def about(name: str, note: Diagnostic) -> str:
    """Return what a note says of control ``name``, the control's title in front where the clause does not say it."""
    if note.code in WHOLE:
        return sentence(note)
    return _ended(f"{title_of(name)}: {clause(note)}")


def gap(note: Diagnostic) -> str:
    """Return a gap as a line: what is missing, and why."""
    return _ended(f"{note.about}: {clause(note)}")


_WORDS = {
    Why.ABOVE_BURST: "{what} lies above the burst limit, {by_value}, which holds at every moment: it has no effect",
    Why.NO_BURST: "{what} has no effect, since a burst limit of {by_value} leaves no burst to last",
    Why.BEYOND_PEAK: "{what} lies beyond the peak limit, {by_value}, which is never exceeded: it has no effect",
    Why.NOT_ENFORCED: "{what} has no effect while limits are not enforced (limiter off)",
    Why.ABOVE_CLOCK: "{what} has no effect: the highest clock is {by_value}",
    Why.TURBO_OFF: "{what} has no effect while turbo is off",
    Why.ALONE_ON_RAIL: "{what} is deeper than the {by} ({by_value}). Where core and cache share a voltage rail, as on "
    "most chips, the weaker of the two counts and the rest has no effect; set both alike",
}


def no_effect(found: NoEffect) -> str:
    """Return that a setting has no effect, and why."""
    what = f"{title_of(found.name)}: {show_value(found.name, found.value)}"
    by_value = "" if found.by_value is None or not found.by else show_value(found.by, found.by_value)
    by = small(title_of(found.by)) if found.by else ""
    return _WORDS[found.why].format(what=what, by=by, by_value=by_value) + "."
