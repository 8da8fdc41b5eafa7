"""What every control driver offers to the engine that puts settings in force."""

import errno
from dataclasses import dataclass, field
from typing import Protocol

from upright_bolt.errors import FileFault
from upright_bolt.kernel.channels import Channel
from upright_bolt.kernel.ports import KernelFiles
from upright_bolt.model.control import ControlState, Value

NEEDS_ROOT = "Changing it needs root rights: run the command with sudo, or install the root service (make install)."
CLOSED_TO_ALL = (
    "The kernel lets it be read only, by root too: driver or firmware has closed it. Look in the firmware setup."
)


def why_read_only(files: KernelFiles, paths: tuple[str, ...]) -> str:
    """Return why not all of ``paths`` can be written: for want of rights, or because nobody can; else nothing."""
    if all(files.writable(path) for path in paths):
        return ""
    return CLOSED_TO_ALL if any(files.closed_to_all(path) for path in paths) else NEEDS_ROOT


@dataclass(frozen=True, slots=True)
class Facts:
    """What a machine makes of a control: range, choices, state and reason.

    ``maximum`` None with a ``minimum`` set means that the machine declares no highest value; the session then
    allows nothing above the stock value, or with ``spans_limits`` above the highest of the package's stock limits.
    """

    state: ControlState
    reason: str = ""
    minimum: float | None = None
    maximum: float | None = None
    choices: tuple[str, ...] = ()
    spans_limits: bool = False


@dataclass(frozen=True, slots=True)
class Write:
    """One write to one kernel file."""

    path: str
    text: str


class ControlDriver(Protocol):
    """One control of one machine, on its kernel files.

    Attributes:
        name: the control's word in the catalogue.
        files: every file it may write; their texts before a trial are what "put back" restores.
        coupled: names of controls that the kernel changes along with this one.
    """

    name: str
    files: tuple[str, ...]
    coupled: tuple[str, ...]

    def facts(self) -> Facts:
        """Return range, choices, state and reason as they are now."""
        ...

    def read(self) -> Value | None:
        """Return what is in force, or None if it cannot be read."""
        ...

    def plan(self, value: Value) -> list[Write]:
        """Return the writes for ``value``, in an order that is valid at each step."""
        ...

    def same(self, asked: Value, got: Value) -> bool:
        """Tell whether ``got`` is ``asked`` within the surface's rounding."""
        ...

    def refusal(self, fault: FileFault) -> str:
        """Return the sentence for a write that failed: by whom, and what a person can do."""
        ...


@dataclass(slots=True)
class Found:
    """What one interface contributes to a machine."""

    controls: list[ControlDriver] = field(default_factory=list)
    channels: list[Channel] = field(default_factory=list)


def explain(fault: FileFault, title: str) -> str:
    """Return the general sentence for a failed write, for drivers with nothing better to say."""
    reasons = {
        errno.EACCES: f"{title}: the kernel refused the write. {NEEDS_ROOT} If you are root, the value is locked.",
        errno.EPERM: f"{title}: the kernel does not permit the write (locked by firmware, or kernel lockdown).",
        errno.EBUSY: f"{title}: the kernel is busy with it: another setting rules it out at the moment.",
        errno.EINVAL: f"{title}: the kernel calls the value invalid.",
        errno.EROFS: f"{title}: the file is read-only here.",
        errno.ENOENT: f"{title}: its file has gone.",
        errno.ENODEV: f"{title}: its device has gone.",
    }
    return reasons.get(fault.errno, f"{title}: writing failed with “{fault.what}” at {fault.path}.")
