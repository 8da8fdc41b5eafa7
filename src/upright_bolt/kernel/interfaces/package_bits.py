"""Controls that are bits of a package register: current limit, clamping, turbo table, external hot signal.

Layouts from the vendor's manuals: 0x601 current limit in 1/8 A in 12:0, lock 31; 0x610 clamping of the sustained limit
in bit 16, lock 63; 0x1AD highest ratio by active cores, 8 bits each, writable where 0xCE bit 28 says so; 0x1FC bit 0
obeys an external hot signal. Written with all other bits kept as they are, and read back like any file.
"""

from collections.abc import Callable

from upright_bolt.kernel import paths, registers
from upright_bolt.kernel.driver import ControlDriver, Facts, Found, Surroundings
from upright_bolt.kernel.file_control import FileControl, Form, Number, Switch, never, within
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.control import ControlState, Value, parts_of
from upright_bolt.model.note import DiagnosticCode, note

AMPERE_STEPS = 8.0
MHZ_PER_RATIO = 100.0
LOWEST_A = 5.0
LOWEST_MHZ = 400.0
RANK = 60


def _in_register(probe: Probe, name: str, path: str, form: Form, allowed: Callable[[], Facts]) -> FileControl:
    """Return a control in bits of a register, closed where the kernel lets no register be written."""
    return FileControl(
        probe,
        name,
        (path,),
        form,
        allowed,
        closed=lambda: registers.why_unwritable(probe, name),
        refused=lambda fault, name: registers.why_closed(probe, fault, name),
    )


def _current_limit(probe: Probe) -> FileControl:
    """Return the current limit in A."""

    def allowed() -> Facts:
        # Bit 31 of 0x601 is the firmware's lock: writes are ignored until the next reset.
        locked = (probe.register(0, registers.CURRENT_LIMIT) or 0) >> 31 & 1
        if locked:
            return Facts(ControlState.LOCKED, note(DiagnosticCode.CURRENT_LOCKED), LOWEST_A)
        return Facts(ControlState.SETTABLE, minimum=LOWEST_A)

    eighths = Number(within(0.5 / AMPERE_STEPS), per_unit=AMPERE_STEPS)
    return _in_register(probe, "current", paths.CURRENT_LIMIT, eighths, allowed)


def _switch(probe: Probe, name: str, path: str, locked: Callable[[], bool]) -> FileControl:
    """Return one bit as a switch; ``locked`` tells whether a lock is closed now."""

    def allowed() -> Facts:
        if locked():
            return Facts(ControlState.LOCKED, note(DiagnosticCode.CLAMP_LOCKED), choices=("on", "off"))
        return Facts(ControlState.SETTABLE, choices=("on", "off"))

    return _in_register(probe, name, path, Switch(), allowed)


class _Ratios:
    """The highest clock in MHz by number of active cores, one core first, separated by commas."""

    def __init__(self, probe: Probe, rows: int) -> None:
        self._probe = probe
        self._rows = rows

    def read(self, probe: Probe, path: str) -> str | None:
        number = probe.number(path)
        ratios = [(number or 0) >> (8 * i) & 0xFF for i in range(self._rows)]
        return None if not number else ",".join(f"{ratio * MHZ_PER_RATIO:g}" for ratio in ratios)

    def text(self, value: Value) -> str:
        number = self._probe.number(paths.TURBO_TABLE) or 0
        for i, part in enumerate(parts_of(str(value))[: self._rows]):
            # Rows of cores that this processor does not have keep what they hold.
            number = number & ~(0xFF << (8 * i)) | round(float(part) / MHZ_PER_RATIO) << (8 * i)
        return str(number)

    def same(self, asked: Value, held: Value) -> bool:
        wanted, shown = ([round(float(p) / MHZ_PER_RATIO) for p in parts_of(str(v))] for v in (asked, held))
        both = min(len(wanted), len(shown))  # while a core is offline, its row is not shown
        return wanted[:both] == shown[:both]


def turbo_table(probe: Probe, rows: int) -> FileControl:
    """Return the turbo table of a processor with so many cores."""

    def allowed() -> Facts:
        # Bit 28 of MSR_PLATFORM_INFO: the ratio limits for turbo can be programmed.
        if not (probe.register(0, registers.PLATFORM_INFO) or 0) >> 28 & 1:
            return Facts(ControlState.READ_ONLY, note(DiagnosticCode.TABLE_FIXED), LOWEST_MHZ)
        return Facts(ControlState.SETTABLE, minimum=LOWEST_MHZ)

    return _in_register(probe, "turbo-table", paths.TURBO_TABLE, _Ratios(probe, rows), allowed)


def find(probe: Probe, machine: Surroundings) -> Found:
    """Return the controls whose registers can be read here."""
    found: list[ControlDriver] = []
    if _readable(probe, paths.CURRENT_LIMIT) and (probe.register(0, registers.CURRENT_LIMIT) or 0) & 0x1FFF:
        found.append(_current_limit(probe))
    if _readable(probe, paths.CLAMP) and probe.register(0, registers.PACKAGE_LIMIT):
        found.append(_switch(probe, "clamp", paths.CLAMP, lambda: registers.limits_locked(probe)))
    rows = len(registers.turbo_table_mhz(probe, machine.topology.cores))
    if rows:
        found.append(turbo_table(probe, rows))
    if _readable(probe, paths.HOT_SIGNAL):
        found.append(_switch(probe, "hot-signal", paths.HOT_SIGNAL, never))
    return Found(found)


def _readable(probe: Probe, path: str) -> bool:
    return probe.register_fault(0, paths.REGISTER_BITS[path][0]) is None
