"""The vendor's own mode (quiet, balanced, performance …): ``platform_profile``, in either of its two places.

Changing it also moves fans and may rewrite every power limit within a second, so it is not set together with
limits, and putting it back puts the limits back as well.
"""

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import ControlDriver, Facts, Write, explain, why_read_only
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.control import ControlState, Value, declaration_of

GAP = "platform mode"


class PlatformMode:
    """The mode, by the kernel's names."""

    name = "platform-mode"
    coupled: tuple[str, ...] = ("sustained", "burst", "window")

    def __init__(self, probe: Probe, path: str, choices: str) -> None:
        self._probe = probe
        self._choices = choices
        self.files: tuple[str, ...] = (path,)

    def facts(self) -> Facts:
        choices = tuple((self._probe.text(self._choices) or "").split())
        why = why_read_only(self._probe.files, self.files)
        if why:
            return Facts(ControlState.READ_ONLY, why, choices=choices)
        return Facts(ControlState.SETTABLE, choices=choices)

    def read(self) -> Value | None:
        return self._probe.text(self.files[0])

    def plan(self, value: Value) -> list[Write]:
        return [Write(self.files[0], str(value))]

    def same(self, asked: Value, got: Value) -> bool:
        return asked == got

    def refusal(self, fault: FileFault) -> str:
        return explain(fault, declaration_of(self.name).title)


def find(probe: Probe) -> list[ControlDriver]:
    """Return the mode; the older place counts for the whole machine and is taken first."""
    places = [(paths.PLATFORM_PROFILE, f"{paths.PLATFORM_PROFILE}_choices")]
    for folder in probe.files.names(paths.PLATFORM_CLASS):
        base = f"{paths.PLATFORM_CLASS}/{folder}"
        places.append((f"{base}/profile", f"{base}/choices"))
    for path, choices in places:
        if probe.files.exists(path) and probe.text(choices):
            return [PlatformMode(probe, path, choices)]
    probe.note(GAP, "the vendor's driver offers no platform_profile (or there is none for this machine)")
    return []
