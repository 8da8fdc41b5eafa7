"""What every control driver offers to the engine that puts settings in force, and what an interface contributes."""

import errno
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Protocol, runtime_checkable

from upright_bolt.errors import FileFault
from upright_bolt.kernel.gpu.gpus import Card
from upright_bolt.kernel.ports import SLEEPS, KernelFiles
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.sensors.channels import Channel
from upright_bolt.model.control import ControlState, Value
from upright_bolt.model.graphics import Gpu
from upright_bolt.model.machine import Identity, Topology
from upright_bolt.model.note import Diagnostic, DiagnosticCode, note


def why_read_only(files: KernelFiles, paths: tuple[str, ...]) -> Diagnostic | None:
    """Return why not all of ``paths`` can be written: they are gone, closed, or for root only; None if they can."""
    if all(files.writable(path) for path in paths):
        return None
    if not all(files.exists(path) for path in paths):
        return note(DiagnosticCode.FILE_GONE)
    return note(
        DiagnosticCode.CLOSED_TO_ALL if any(files.closed_to_all(path) for path in paths) else DiagnosticCode.NEEDS_ROOT
    )


@dataclass(frozen=True, slots=True)
class Facts:
    """What a machine makes of a control: range, choices, state, and what a person should know of it.

    ``maximum`` None with a ``minimum`` set means that the machine declares no highest value; the settings engine then
    allows nothing above the stock value. ``spans`` names controls whose stock values lie in the range whatever is
    declared: many chips declare their rated watts, which lie below what their firmware itself allows.
    ``steps`` are the only values that are kept, the lowest first; empty if there are no such.
    """

    state: ControlState
    note: Diagnostic | None = None
    minimum: float | None = None
    maximum: float | None = None
    choices: tuple[str, ...] = ()
    spans: tuple[str, ...] = ()
    steps: tuple[float, ...] = ()


def facts_of(files: KernelFiles, paths: tuple[str, ...], open_facts: Facts) -> Facts:
    """Return ``open_facts``, or the same read-only, with the reason, where ``paths`` cannot be written."""
    why = why_read_only(files, paths)
    if why is None:
        return open_facts
    return Facts(ControlState.READ_ONLY, why, open_facts.minimum, open_facts.maximum, open_facts.choices)


@dataclass(frozen=True, slots=True)
class Write:
    """One write to one kernel file."""

    path: str
    text: str


class ControlDriver(Protocol):
    """One control of one machine, on its kernel files.

    Attributes:
        name: the control's full name.
        files: every file it may write; their texts before a trial are what "put back" restores.
    """

    name: str
    files: tuple[str, ...]

    def facts(self) -> Facts:
        """Return range, choices, state and note as they are now."""
        ...

    def read(self) -> Value | None:
        """Return what is in force, or None if it cannot be read."""
        ...

    def plan(self, value: Value) -> list[Write]:
        """Return the writes for ``value``, in an order that is valid at each step."""
        ...

    def same(self, asked: Value, got: Value) -> bool:
        """Tell whether ``got`` is ``asked`` within the interface's rounding."""
        ...

    def refusal(self, fault: FileFault) -> Diagnostic:
        """Return why a write failed: by whom, and what a person can do."""
        ...

    def asleep(self) -> bool:
        """Tell whether its device sleeps, without waking it."""
        ...


@runtime_checkable
class ExplainsSilence(Protocol):
    """A driver that can find out why a write that raised nothing has changed nothing."""

    def explain_ignored_write(self) -> Diagnostic | None:
        """Return why, or None if that cannot be told."""
        ...


@runtime_checkable
class ExplainsUnreadable(Protocol):
    """A driver that can find out why its value cannot be read."""

    def why_unreadable(self) -> Diagnostic | None:
        """Return why, or None if it can be read after all."""
        ...


def why_unreadable(driver: ControlDriver) -> Diagnostic:
    """Return why a control whose value could not be read cannot be set either."""
    why = driver.why_unreadable() if isinstance(driver, ExplainsUnreadable) else None
    return why if why is not None else note(DiagnosticCode.VALUE_UNREADABLE, driver.name)


@runtime_checkable
class Recalls(ControlDriver, Protocol):
    """A control of which the machine does not tell what is set."""

    def recall(self, value: Value) -> None:
        """Take a value for set, until another is: it was put in force by this program earlier in this boot."""
        ...


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What an interface may need to know of the machine before it looks at its own files."""

    identity: Identity
    topology: Topology
    cards: tuple[Card, ...] = ()


class Capped(Protocol):
    """A file that shows less than what was chosen while something holds it down."""

    def chosen(self, text: str) -> str:
        """Return what has to be written to put back what was chosen, where ``text`` is shown."""
        ...

    def holds(self, wanted: str, held: str) -> bool:
        """Tell whether the file holds ``wanted``, where it shows ``held``."""
        ...


@runtime_checkable
class CanBeCapped(ControlDriver, Protocol):
    """A driver whose files may show less than what was chosen."""

    def capped_files(self) -> Mapping[str, Capped]:
        """Return those files."""
        ...

    def chosen(self) -> Value | None:
        """Return what was chosen, as far as that is known; what it reads where nothing holds it down."""
        ...


@dataclass(slots=True)
class Found:
    """What one interface contributes to a machine.

    Attributes:
        controls: drivers.
        channels: where sensors' numbers come from.
        driver: the scaling driver; empty if this interface does not say.
        base_mhz, highest_mhz, lowest_mhz: base clock, highest turbo clock, lowest clock; None if it does not say.
        kind_highest_mhz: highest clock of each kind of core, in the topology's order.
        ceiling_c: temperature at which the processor throttles; None if this interface does not say.
        chips: graphics chips.
    """

    controls: list[ControlDriver] = field(default_factory=list)
    channels: list[Channel] = field(default_factory=list)
    driver: str = ""
    base_mhz: float | None = None
    highest_mhz: float | None = None
    lowest_mhz: float | None = None
    kind_highest_mhz: tuple[float | None, ...] = ()
    ceiling_c: float | None = None
    chips: list[Gpu] = field(default_factory=list)


class Interface(Protocol):
    """A module in ``kernel/interfaces``.

    Attributes:
        RANK: position among the interfaces. Where two offer the same control, the lower rank has it; sensors are listed
            in this order.
    """

    RANK: int

    def find(self, probe: Probe, machine: Surroundings) -> Found:
        """Look at the interface, note what is missing, and return what is there. Raises nothing."""
        ...


_WRITE_FAULTS = {
    errno.EACCES: DiagnosticCode.WRITE_DENIED,
    errno.EPERM: DiagnosticCode.WRITE_NOT_PERMITTED,
    errno.EBUSY: DiagnosticCode.WRITE_BUSY,
    errno.EINVAL: DiagnosticCode.WRITE_INVALID,
    errno.EROFS: DiagnosticCode.WRITE_READ_ONLY,
    errno.ENOENT: DiagnosticCode.FILE_GONE,
    errno.ENODEV: DiagnosticCode.DEVICE_GONE,
    SLEEPS: DiagnosticCode.WAKE_TO_SET,
}


def write_fault(fault: FileFault, control: str) -> Diagnostic:
    """Return the general note on a failed write, for drivers with nothing better to say."""
    return note(_WRITE_FAULTS.get(fault.errno, DiagnosticCode.WRITE_FAILED), control, what=fault.what, path=fault.path)
