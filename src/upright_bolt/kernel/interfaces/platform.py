"""The vendor's own mode (quiet, balanced, performance …): ``platform_profile``, in either of its two candidates.

Changing it also moves fans and may rewrite every power limit within a second, so it is not set together with
limits, and putting it back puts the limits back as well.

The kernel's own page: Documentation/userspace-api/sysfs-platform_profile.
"""

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import Facts, Found, Surroundings, Write, facts_of, write_fault
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.control import ControlState, Value
from upright_bolt.model.note import Diagnostic, DiagnosticCode, Subject

RANK = 100


class PlatformMode:
    """The mode, by the kernel's names."""

    name = "platform-mode"

    def __init__(self, probe: Probe, path: str, choices: str) -> None:
        self._probe = probe
        self._choices = choices
        self.files: tuple[str, ...] = (path,)

    def facts(self) -> Facts:
        choices = tuple((self._probe.text(self._choices) or "").split())
        return facts_of(self._probe.files, self.files, Facts(ControlState.SETTABLE, choices=choices))

    def read(self) -> Value | None:
        return self._probe.text(self.files[0])

    def plan(self, value: Value) -> list[Write]:
        return [Write(self.files[0], str(value))]

    def same(self, asked: Value, got: Value) -> bool:
        return asked == got

    def refusal(self, fault: FileFault) -> Diagnostic:
        return write_fault(fault, self.name)


def find(probe: Probe, machine: Surroundings) -> Found:  # noqa: ARG001 - the form of every interface
    """Return the mode; the older of its two files counts for the whole machine and is taken first."""
    candidates = [(paths.PLATFORM_PROFILE, f"{paths.PLATFORM_PROFILE}_choices")]
    for folder in probe.files.names(paths.PLATFORM_CLASS):
        base = f"{paths.PLATFORM_CLASS}/{folder}"
        candidates.append((f"{base}/profile", f"{base}/choices"))
    for path, choices in candidates:
        if probe.files.exists(path) and probe.text(choices):
            return Found([PlatformMode(probe, path, choices)])
    probe.note(Subject.PLATFORM_MODE, DiagnosticCode.NO_PLATFORM_MODE)
    return Found()
