"""Plans of profiles on one machine: what it lacks, and what speaks against settings there."""

from collections.abc import Callable, Mapping

from upright_bolt.analysis.chip import chip_on_board
from upright_bolt.model.catalogue import part_of
from upright_bolt.model.control import Value
from upright_bolt.model.profile import Profile
from upright_bolt.profiles.plan import Doubts, Plan, plan_for
from upright_bolt.profiles.record import Record
from upright_bolt.profiles.start import suspicion_words
from upright_bolt.settings.backend import Backend
from upright_bolt.wording.notes import clause


class Planner:
    """Says what of a profile is put in force.

    Args:
        backend: the machine.
        record: what is remembered of it.
        kept: returns what is kept in force in this boot.

    Attributes:
        chip: the machine's chip on its board, as proofs name theirs.
    """

    def __init__(self, backend: Backend, record: Record, kept: Callable[[], Mapping[str, Value]]) -> None:
        self._backend = backend
        self._kept = kept
        self._record = record
        self.chip = chip_on_board(backend.about.identity)

    def doubts(self) -> Doubts:
        """Return what speaks against settings now."""
        suspects, stock_only = suspicion_words(self._record.now)
        return Doubts(self.chip, self._record.failed_on(self.chip), suspects, stock_only)

    def plan(self, profile: Profile) -> Plan:
        """Return what of a profile would be put in force now, and what would be held back."""
        absent = {name: self._absent(name) for name in profile.settings if name not in self._backend.drivers}
        absent |= {name: f"waits until {part_of(name)} wakes" for name in self.waiting(profile)}
        return plan_for(profile, absent, self.doubts())

    def waiting(self, profile: Profile) -> list[str]:
        """Return the settings of a profile that wait for their chip to wake: what was set before it slept does not."""
        kept = self._kept()
        return [
            name for name, value in profile.settings.items()
            if kept.get(name) != value and self._backend.is_asleep(name)
        ]  # fmt: skip

    def _absent(self, name: str) -> str:
        note = self._backend.absent.get(name)
        return clause(note).rstrip(".") if note is not None else "this machine has no such control"
