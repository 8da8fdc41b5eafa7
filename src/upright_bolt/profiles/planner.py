"""Plans of profiles on one machine: what it lacks, and what speaks against settings there."""

from upright_bolt.analysis.chip import chip_on_board
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

    Attributes:
        chip: the machine's chip on its board, as proofs name theirs.
    """

    def __init__(self, backend: Backend, record: Record) -> None:
        self._backend = backend
        self._record = record
        self.chip = chip_on_board(backend.about.identity)

    def doubts(self) -> Doubts:
        """Return what speaks against settings now."""
        suspects, stock_only = suspicion_words(self._record.now)
        return Doubts(self.chip, self._record.failed_on(self.chip), suspects, stock_only)

    def plan(self, profile: Profile) -> Plan:
        """Return what of a profile would be put in force now, and what would be held back."""
        absent = {name: self._absent(name) for name in profile.settings if name not in self._backend.drivers}
        return plan_for(profile, absent, self.doubts())

    def _absent(self, name: str) -> str:
        note = self._backend.absent.get(name)
        return clause(note).rstrip(".") if note is not None else "this machine has no such control"
