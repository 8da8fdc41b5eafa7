"""What of a profile is put in force by itself, and what is held back, with the reason of each."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from upright_bolt.analysis.chip import chip_on_board
from upright_bolt.model.catalogue import declaration_of, part_of, unsafe_direction_of
from upright_bolt.model.control import Value, show_value
from upright_bolt.model.failure import Failure, FailureKind, comes_near
from upright_bolt.model.profile import HeldBack, Profile, Proof, needs_proof
from upright_bolt.model.settings import show_settings
from upright_bolt.profiles.record import Record, Remembered
from upright_bolt.profiles.start import suspicion_words
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.text.failures import LOST
from upright_bolt.text.notes import clause
from upright_bolt.text.times import span

PROVEN_S = 600.0
"""Seconds of every kind of load that a voltage must have passed before it is put in force by itself."""


@dataclass(frozen=True, slots=True)
class Plan:
    """What is to be done for a profile.

    Attributes:
        settings: what is put in force.
        held_back: what is not, and why.
    """

    settings: Mapping[str, Value]
    held_back: tuple[HeldBack, ...]


@dataclass(frozen=True, slots=True)
class Doubts:
    """What speaks against settings on this machine.

    Attributes:
        chip: this chip, as proofs name theirs.
        failed: values that have failed together on this chip.
        suspects: why no risky setting is put in force at the moment; empty if nothing speaks against it.
        stock_only: why nothing at all is; empty if nothing speaks against it.
    """

    chip: str
    failed: Sequence[Failure] = ()
    suspects: str = ""
    stock_only: str = ""


def plan_for(profile: Profile, absent: Mapping[str, str], doubts: Doubts) -> Plan:
    """Return what of a profile is put in force on a machine.

    Args:
        profile: the profile.
        absent: why the machine lacks controls that it sets, by name.
        doubts: what speaks against them.
    """
    settings: dict[str, Value] = {}
    held: list[HeldBack] = []
    for name, value in profile.settings.items():
        why = doubts.stock_only or absent.get(name) or _doubtful(profile, name, value, doubts)
        if why:
            held.append(HeldBack(name, value, why))
        else:
            settings[name] = value
    return Plan(settings, tuple(held))


def _doubtful(profile: Profile, name: str, value: Value, doubts: Doubts) -> str:
    declared = declaration_of(name)
    if declared.risky and doubts.suspects:
        return doubts.suspects
    broken = _broken(name, profile.settings, doubts.failed)
    if isinstance(value, str) or not needs_proof(name, value):
        return broken
    return unproven(name, value, profile.proofs.get(name), doubts.chip) or broken


def unproven(name: str, value: float, proof: Proof | None, chip: str) -> str:
    """Return why a value that needs proof does not count as proven; empty if it does.

    Args:
        name: the control.
        value: in its unit.
        proof: what speaks for it; None if nothing does.
        chip: the present chip on its board.
    """
    if proof is None:
        return "not proven"
    unsafe_direction = unsafe_direction_of(name)
    if unsafe_direction * (value - proof.value) > 0.0:
        return f"proven {'up' if unsafe_direction > 0.0 else 'down'} to {show_value(name, proof.value)} only"
    if proof.chip != chip:
        return f"proven on another chip or firmware: {_differs(proof.chip, chip)}"
    if proof.all_loads_s < PROVEN_S:
        return f"{span(proof.all_loads_s)} of every kind of load have passed; {span(PROVEN_S)} are needed"
    return ""


def _differs(there: str, here: str) -> str:
    """Return what differs between two chips, part by part."""
    ours = set(here.split(", "))
    return ", ".join(part for part in there.split(", ") if part not in ours) or there


def _broken(name: str, settings: Mapping[str, Value], failed: Sequence[Failure]) -> str:
    """Return why failures speak against a setting: all that failed together is asked for, or comes close to it."""
    one = next((one for one in failed if name in one.values and comes_near(settings, one)), None)
    if one is None:
        return ""
    how = "the machine went down" if one.how is FailureKind.FROZE else "a run has gone wrong"
    return f"{how} at {show_settings(one.values)}"


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
