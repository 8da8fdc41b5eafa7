"""Controls that are bits of a package register: current limit, clamping, turbo table, external hot signal.

Layouts from the vendor's manuals: 0x601 current limit in 1/8 A in 12:0, lock 31; 0x610 clamping of the sustained limit
in bit 16, lock 63; 0x1AD highest ratio by active cores, 8 bits each, writable where 0xCE bit 28 says so; 0x1FC bit 0
obeys an external hot signal. Written with all other bits kept as they are, and read back like any file.
"""

from collections.abc import Callable
from dataclasses import replace

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths, registers
from upright_bolt.kernel.driver import ControlDriver, Facts, Found, Surroundings, Write
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.control import ControlState, Value, parts_of
from upright_bolt.model.note import Diagnostic, DiagnosticCode, note

AMPERE_STEPS = 8.0
MHZ_PER_RATIO = 100.0
LOWEST_A = 5.0
LOWEST_MHZ = 400.0
RANK = 60


class _Bits:
    def __init__(self, probe: Probe, name: str, path: str) -> None:
        self.name = name
        self._probe = probe
        self.files: tuple[str, ...] = (path,)

    def _number(self) -> int | None:
        return self._probe.number(self.files[0])

    def refusal(self, fault: FileFault) -> Diagnostic:
        return registers.why_closed(self._probe, fault, self.name)

    def _settable(self, facts: Facts) -> Facts:
        """Return ``facts``, or the same read-only where the kernel lets no register be written."""
        why = registers.why_unwritable(self._probe, self.name)
        return facts if why is None else replace(facts, state=ControlState.READ_ONLY, note=why)


class CurrentLimit(_Bits):
    """The current limit in A."""

    def __init__(self, probe: Probe) -> None:
        super().__init__(probe, "current", paths.CURRENT_LIMIT)

    def facts(self) -> Facts:
        # Bit 31 of 0x601 is the firmware's lock: writes are ignored until the next reset.
        locked = (self._probe.register(0, registers.CURRENT_LIMIT) or 0) >> 31 & 1
        if locked:
            return Facts(ControlState.LOCKED, note(DiagnosticCode.CURRENT_LOCKED), LOWEST_A)
        return self._settable(Facts(ControlState.SETTABLE, minimum=LOWEST_A))

    def read(self) -> Value | None:
        number = self._number()
        return None if number is None else number / AMPERE_STEPS

    def plan(self, value: Value) -> list[Write]:
        return [Write(self.files[0], str(round(float(value) * AMPERE_STEPS)))]

    def same(self, asked: Value, got: Value) -> bool:
        return abs(float(asked) - float(got)) <= 0.5 / AMPERE_STEPS


class BitSwitch(_Bits):
    """One bit as a switch.

    Args:
        locked: returns a note if a lock is closed now, else None.
    """

    def __init__(self, probe: Probe, name: str, path: str, locked: Callable[[], Diagnostic | None]) -> None:
        super().__init__(probe, name, path)
        self._locked = locked

    def facts(self) -> Facts:
        why = self._locked()
        state = ControlState.SETTABLE if why is None else ControlState.LOCKED
        return self._settable(Facts(state, why, choices=("on", "off")))

    def read(self) -> Value | None:
        number = self._number()
        return None if number is None else ("on" if number else "off")

    def plan(self, value: Value) -> list[Write]:
        return [Write(self.files[0], "1" if value == "on" else "0")]

    def same(self, asked: Value, got: Value) -> bool:
        return asked == got


class TurboTable(_Bits):
    """The highest clock in MHz by number of active cores, one core first, separated by commas."""

    def __init__(self, probe: Probe, rows: int) -> None:
        super().__init__(probe, "turbo-table", paths.TURBO_TABLE)
        self._rows = rows

    def _ratios(self, number: int) -> list[int]:
        return [number >> (8 * i) & 0xFF for i in range(self._rows)]

    def facts(self) -> Facts:
        # Bit 28 of MSR_PLATFORM_INFO: the ratio limits for turbo can be programmed.
        if not (self._probe.register(0, registers.PLATFORM_INFO) or 0) >> 28 & 1:
            return Facts(ControlState.READ_ONLY, note(DiagnosticCode.TABLE_FIXED), LOWEST_MHZ)
        return self._settable(Facts(ControlState.SETTABLE, minimum=LOWEST_MHZ))

    def read(self) -> Value | None:
        number = self._number()
        return None if not number else ",".join(f"{ratio * MHZ_PER_RATIO:g}" for ratio in self._ratios(number))

    def plan(self, value: Value) -> list[Write]:
        number = self._number() or 0
        for i, part in enumerate(parts_of(str(value))[: self._rows]):
            # Rows of cores that this processor does not have keep what they hold.
            number = number & ~(0xFF << (8 * i)) | round(float(part) / MHZ_PER_RATIO) << (8 * i)
        return [Write(self.files[0], str(number))]

    def same(self, asked: Value, got: Value) -> bool:
        wanted, held = ([round(float(p) / MHZ_PER_RATIO) for p in parts_of(str(v))] for v in (asked, got))
        shown = min(len(wanted), len(held))  # while a core is offline, its row is not shown
        return wanted[:shown] == held[:shown]


def find(probe: Probe, machine: Surroundings) -> Found:
    """Return the controls whose registers can be read here."""
    found: list[ControlDriver] = []
    if _readable(probe, paths.CURRENT_LIMIT) and (probe.register(0, registers.CURRENT_LIMIT) or 0) & 0x1FFF:
        found.append(CurrentLimit(probe))
    if _readable(probe, paths.CLAMP) and probe.register(0, registers.PACKAGE_LIMIT):
        found.append(BitSwitch(probe, "clamp", paths.CLAMP, lambda: _clamp_lock(probe)))
    rows = len(registers.turbo_table_mhz(probe, machine.topology.cores))
    if rows:
        found.append(TurboTable(probe, rows))
    if _readable(probe, paths.HOT_SIGNAL):
        found.append(BitSwitch(probe, "hot-signal", paths.HOT_SIGNAL, lambda: None))
    return Found(found)


def _clamp_lock(probe: Probe) -> Diagnostic | None:
    return note(DiagnosticCode.CLAMP_LOCKED) if registers.limits_locked(probe) else None


def _readable(probe: Probe, path: str) -> bool:
    return probe.register_fault(0, paths.REGISTER_BITS[path][0]) is None
