"""Plans of profiles on one machine: what it lacks, and what speaks against settings there."""

from upright_bolt.analysis.chip import chip_on_board
from upright_bolt.model.catalogue import part_of
from upright_bolt.model.profile import Profile
from upright_bolt.profiles.plan import Doubts, Plan, plan_for
from upright_bolt.profiles.record import Record, Remembered
from upright_bolt.profiles.start import suspicion_words
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.text.failures import LOST
from upright_bolt.text.notes import clause


class Planner:
    """Says what of a profile is put in force.

    Args:
        backend: the machine.
        record: what is remembered of it.
        engine: knows what is kept in this boot, and what has failed here.

    Attributes:
        chip: the machine's chip on its board, as proofs name theirs.
    """

    def __init__(self, backend: Backend, record: Record, engine: SettingsEngine) -> None:
        self._backend = backend
        self._engine = engine
        self._record = record
        self.chip = chip_on_board(backend.about.identity)

    def doubts(self, now: Remembered | None = None) -> Doubts:
        """Return what speaks against settings, with what is remembered ``now`` or would be."""
        suspects, stock_only = suspicion_words(self._record.now if now is None else now)
        if self._engine.failures.log.now.lost:
            suspects = suspects or LOST
        return Doubts(self.chip, self._engine.failures.log.failures, suspects, stock_only)

    def plan(self, profile: Profile, now: Remembered | None = None) -> Plan:
        """Return what of a profile would be put in force and what held back, with what is remembered ``now``."""
        absent = {name: self._absent(name) for name in profile.settings if name not in self._backend.drivers}
        absent |= {name: f"waits until {part_of(name)} wakes" for name in self.waiting(profile)}
        return plan_for(profile, absent, self.doubts(now))

    def waiting(self, profile: Profile) -> list[str]:
        """Return the settings of a profile that wait for their chip to wake: what was set before it slept does not."""
        kept = self._engine.kept
        return [
            name for name, value in profile.settings.items()
            if kept.get(name) != value and self._backend.is_asleep(name)
        ]  # fmt: skip

    def _absent(self, name: str) -> str:
        note = self._backend.absent.get(name)
        return clause(note).rstrip(".") if note is not None else "this machine has no such control"
