"""Notes: what a person should know about a machine, as a code and its particulars. ``text.notes`` makes the words.

Programs decide by the code. The same form serves for what a machine lacks, for why a control is closed, for what is
worth knowing of one that is open, and for why a write was refused.
"""

from dataclasses import dataclass
from enum import StrEnum

Particular = str | float | tuple[str, ...]


class Subject(StrEnum):
    """What a missing interface would have offered; the value is the word for it."""

    CLOCKS = "clocks, governor, preference and turbo"
    POWER_LIMITS = "power limits and package power"
    PACKAGE_POWER = "package power"
    CHIP_REGISTERS = "core voltage and live limit bits"
    IDLE_STATES = "idle states"
    PLATFORM_MODE = "platform mode"
    HEAT_CEILING = "heat ceiling"
    VOLTAGE_OFFSETS = "voltage offsets"
    PROCESSOR_TEMPERATURE = "processor temperature"
    FAN_SPEED = "fan speed"
    POWER_SOURCE = "power source"
    BUSY_SHARE = "busy share"
    PROCESSOR_NAME = "processor name"
    GRAPHICS_CHIP = "graphics chip"
    GRAPHICS_LIBRARY = "graphics chip of the vendor's driver"
    ROOT_SERVICE = "root service"


class DiagnosticCode(StrEnum):
    """What a note says."""

    # an interface that is missing
    VIRTUAL_CLOCKS = "virtual-clocks"
    NO_SCALING_DRIVER = "no-scaling-driver"
    VIRTUAL_POWER = "virtual-power"
    NO_PACKAGE_ZONE = "no-package-zone"
    ENERGY_ONLY = "energy-only"
    NO_ENERGY_COUNTER = "no-energy-counter"
    ENERGY_UNREADABLE = "energy-unreadable"
    NO_IDLE_STATES = "no-idle-states"
    NO_PLATFORM_MODE = "no-platform-mode"
    NO_CEILING_DEVICE = "no-ceiling-device"
    CEILING_UNREADABLE = "ceiling-unreadable"
    VIRTUAL_VOLTAGES = "virtual-voltages"
    NO_OFFSETS_OF_VENDOR = "no-offsets-of-vendor"
    NO_MAILBOX = "no-mailbox"
    MAILBOX_SILENT = "mailbox-silent"
    MAILBOX_COPIED = "mailbox-copied"
    OFFSETS_CLOSED = "offsets-closed"
    VIRTUAL_REGISTERS = "virtual-registers"
    NO_REGISTERS_OF_VENDOR = "no-registers-of-vendor"
    VIRTUAL_SENSORS = "virtual-sensors"
    NO_PROCESSOR_SENSOR = "no-processor-sensor"
    NO_FAN = "no-fan"
    NO_POWER_SUPPLY = "no-power-supply"
    NO_PROCESSOR_TIMES = "no-processor-times"
    NO_CPUINFO = "no-cpuinfo"
    PROCESSORS_OFFLINE = "processors-offline"
    KERNEL_ARGUMENT = "kernel-argument"
    LIBRARY_UNUSABLE = "library-unusable"
    SERVICE_ABSENT = "service-absent"
    SERVICE_REFUSES = "service-refuses"
    # a register that is closed
    REGISTER_EMPTY = "register-empty"
    LOCKDOWN = "lockdown"
    REGISTER_WRITES_OFF = "register-writes-off"
    NO_REGISTER_MODULE = "no-register-module"
    NO_REGISTER_DEVICE = "no-register-device"
    REGISTERS_NEED_ROOT = "registers-need-root"
    NO_SUCH_REGISTER = "no-such-register"
    REGISTER_SILENT = "register-silent"
    REGISTERS_FORBIDDEN = "registers-forbidden"
    REGISTER_FAULT = "register-fault"
    # a file that could not be understood
    FILE_UNREADABLE = "file-unreadable"
    FILE_TOO_LONG = "file-too-long"
    FILE_NOT_TEXT = "file-not-text"
    FILE_EMPTY = "file-empty"
    FILE_NOT_NUMBER = "file-not-number"
    # a control that is closed, or absent although its interface is there
    NOT_OFFERED = "not-offered"
    NO_SUCH_FILE = "no-such-file"
    NO_TURBO_SWITCH = "no-turbo-switch"
    NO_SUCH_CONSTRAINT = "no-such-constraint"
    WINDOW_HIDDEN = "window-hidden"
    ALWAYS_LIMITED = "always-limited"
    NO_PEAK_LIMIT = "no-peak-limit"
    NO_BOARD_ZONE = "no-board-zone"
    NO_CURRENT_LIMIT = "no-current-limit"
    NO_CLAMP = "no-clamp"
    NO_TURBO_TABLE = "no-turbo-table"
    NO_HOT_SIGNAL = "no-hot-signal"
    NEEDS_ROOT = "needs-root"
    CLOSED_TO_ALL = "closed-to-all"
    LIMITS_LOCKED = "limits-locked"
    CURRENT_LOCKED = "current-locked"
    CLAMP_LOCKED = "clamp-locked"
    TABLE_FIXED = "table-fixed"
    NO_CLOCK_RANGE = "no-clock-range"
    NO_RANGE = "no-range"
    WAKE_TO_SET = "wake-to-set"
    NO_OVERDRIVE = "no-overdrive"
    NO_OVERDRIVE_HERE = "no-overdrive-here"
    NOT_IN_TABLE = "not-in-table"
    NOT_ON_THIS_MODEL = "not-on-this-model"
    LIBRARY_TOO_OLD = "library-too-old"
    AS_SET_LAST = "as-set-last"
    VALUE_UNREADABLE = "value-unreadable"
    # worth knowing of a control that is open
    PROCESSORS_DIFFER = "processors-differ"
    IDLE_STATES_DIFFER = "idle-states-differ"
    COPIES_DIFFER = "copies-differ"
    OLDER_BIAS = "older-bias"
    KINDS_DIFFER = "kinds-differ"
    # why a setting was refused
    CONTROL_CLOSED = "control-closed"
    BAD_VALUE = "bad-value"
    PREFERENCE_FIXED = "preference-fixed"
    CLOCKS_CROSSED = "clocks-crossed"
    ONLY_ALONE = "only-alone"
    MODE_WITH_LIMITS = "mode-with-limits"
    LEVEL_NOT_MANUAL = "level-not-manual"
    ABOVE_BASE_CLOCK = "above-base-clock"
    NOT_RESTORABLE = "not-restorable"
    PREFERENCE_BUSY = "preference-busy"
    PREFERENCE_NAMES_ONLY = "preference-names-only"
    TURBO_OFF_IN_FIRMWARE = "turbo-off-in-firmware"
    LIMIT_REFUSED = "limit-refused"
    WRITE_DENIED = "write-denied"
    WRITE_NOT_PERMITTED = "write-not-permitted"
    WRITE_BUSY = "write-busy"
    WRITE_INVALID = "write-invalid"
    WRITE_READ_ONLY = "write-read-only"
    FILE_GONE = "file-gone"
    DEVICE_GONE = "device-gone"
    WRITE_FAILED = "write-failed"
    NOT_READ_BACK = "not-read-back"
    NOT_TAKEN = "not-taken"
    NEAREST_STEP = "nearest-step"
    LIMIT_REGISTER_REFUSES = "limit-register-refuses"
    LIMITER_PARTLY = "limiter-partly"
    BETWEEN_STEPS = "between-steps"
    CAPPED_BY_FIRMWARE = "capped-by-firmware"
    CAPPED_BY_HEAT = "capped-by-heat"
    NOT_WRITTEN = "not-written"
    UNDONE = "undone"


CONSEQUENCES = frozenset({DiagnosticCode.NOT_WRITTEN, DiagnosticCode.UNDONE})
"""Why a setting was not put in force that only follows from another's refusal."""
CAPPED = frozenset({DiagnosticCode.CAPPED_BY_FIRMWARE, DiagnosticCode.CAPPED_BY_HEAT})
"""Notes that something holds a value down for a while."""
AT_ODDS = frozenset({DiagnosticCode.PROCESSORS_DIFFER, DiagnosticCode.IDLE_STATES_DIFFER, DiagnosticCode.COPIES_DIFFER})
"""Notes on open controls whose parts hold different values."""


@dataclass(frozen=True, slots=True)
class Diagnostic:
    """One note.

    Attributes:
        code: what it says.
        about: what it concerns: a control's name, a ``Subject``, a file; empty where the context tells.
        particulars: names and values that its sentence needs; numbers in the control's own unit.
    """

    code: DiagnosticCode
    about: str = ""
    particulars: tuple[tuple[str, Particular], ...] = ()

    def particular(self, name: str) -> Particular:
        """Return one particular. Raises KeyError if the note has none of that name."""
        return dict(self.particulars)[name]


def note(code: DiagnosticCode, about: str = "", /, **particulars: Particular) -> Diagnostic:
    """Return a note with particulars given by name."""
    return Diagnostic(code, about, tuple(particulars.items()))
