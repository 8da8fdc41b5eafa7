"""The vendor's own mode (quiet, balanced, performance …): ``platform_profile``, in either of its two candidates.

Changing it also moves fans and may rewrite every power limit within a second, so it is not set together with
limits, and putting it back puts the limits back as well.

The kernel's own page: Documentation/userspace-api/sysfs-platform_profile.
"""

from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import Facts, Found, Surroundings
from upright_bolt.kernel.file_control import FileControl, Word
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.control import ControlState
from upright_bolt.model.note import DiagnosticCode, Subject

RANK = 100


def _mode(probe: Probe, path: str, choices: str) -> FileControl:
    """Return the mode, by the kernel's names."""

    def allowed() -> Facts:
        return Facts(ControlState.SETTABLE, choices=tuple((probe.text(choices) or "").split()))

    return FileControl(probe, "platform-mode", (path,), Word(), allowed)


def find(probe: Probe, machine: Surroundings) -> Found:  # noqa: ARG001 - the form of every interface
    """Return the mode; the older of its two files counts for the whole machine and is taken first."""
    candidates = [(paths.PLATFORM_PROFILE, f"{paths.PLATFORM_PROFILE}_choices")]
    for folder in probe.files.names(paths.PLATFORM_CLASS):
        base = f"{paths.PLATFORM_CLASS}/{folder}"
        candidates.append((f"{base}/profile", f"{base}/choices"))
    for path, choices in candidates:
        if probe.files.exists(path) and probe.text(choices):
            return Found([_mode(probe, path, choices)])
    probe.note(Subject.PLATFORM_MODE, DiagnosticCode.NO_PLATFORM_MODE)
    return Found()
