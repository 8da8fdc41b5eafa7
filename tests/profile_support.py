"""A twin with profiles, opened and opened again as programs come and go, and what must hold of it at any moment."""

from pathlib import Path

from upright_bolt.app import open_local, parse_machine
from upright_bolt.model.profile import Profile, Proof
from upright_bolt.profiles.engine import ProfileEngine
from upright_bolt.profiles.text import text_of
from upright_bolt.service.callers import Caller
from upright_bolt.service.enforcement_loop import ORPHAN_S
from upright_bolt.service.shared_machine import SharedMachine
from upright_bolt.service.verbs import BY_NAME
from upright_bolt.simulator.outside import Outside

PREFERENCE = "/sys/devices/system/cpu/cpufreq/policy0/energy_performance_preference"
RULES = "When on battery, use night watch.\nWhen platform mode is quiet, use at sea.\nOtherwise, use quay.\n"
PROVEN_MV = -80.0


def proof(chip: str, value: float = PROVEN_MV, all_loads_s: float = 3600.0) -> Proof:
    return Proof(value, chip, 5400.0, all_loads_s, (1, 2), "2026-11-26")


def sample_profiles(chip: str) -> dict[str, Profile]:
    proofs = {"core-offset": proof(chip), "cache-offset": proof(chip)}
    return {
        "quay": Profile(
            "quay", {"sustained": 28.0, "burst": 45.0, "core-offset": -80.0, "cache-offset": -80.0}, proofs
        ),
        "at sea": Profile(
            "at sea", {"sustained": 20.0, "epp": 192.0, "core-offset": -60.0, "cache-offset": -60.0}, proofs
        ),
        "night watch": Profile("night watch", {"sustained": 10.0, "turbo": "off", "core-offset": -95.0}, proofs),
    }


class AskedMachine(SharedMachine):
    """A shared machine that is asked by the verbs' own words."""

    def ask(self, caller: Caller, name: str, **arguments: object):
        return self.perform(BY_NAME[name], caller, arguments)

    def apply(self, caller: Caller, settings, *, standing: bool):
        return self.ask(caller, "Apply", settings=settings, standing=standing)

    def keep(self, caller: Caller):
        return self.ask(caller, "Keep")

    def revert(self, caller: Caller):
        return self.ask(caller, "PutBack")

    def reset_to_stock(self, caller: Caller, names):
        return self.ask(caller, "ToStock", names=names)

    def change_profiles(self, caller: Caller, name: str):
        self.ask(caller, name)

    def profile_act(self, name: str):
        return self.ask(Caller(":1.1"), name)


class Desk:
    """A twin that is opened, left, cut off from power and opened again.

    Attributes:
        deepest_mv: the lowest voltage offset that was ever in force, even for a moment.
    """

    def __init__(self, folder: Path, machine: str = "twin:tern", *, rules: str = RULES) -> None:
        folder.mkdir(exist_ok=True)
        folder.chmod(0o700)
        self.folder, self.word = folder, parse_machine(machine)
        self.deepest_mv = 0.0
        self.open()
        self.chip = self.profiles.planner.chip
        for name, profile in sample_profiles(self.chip).items():
            self.profiles.save(name, text_of(profile))
        if rules:
            self.profiles.save_rules(rules)

    def open(self) -> None:
        self.ports, self.engine, self.twin = open_local(self.word, self.folder, "a test", exclusive=True)
        assert isinstance(self.ports.changes, Outside)
        self.outside = self.ports.changes
        self.shared = AskedMachine(lambda: self.engine, self.ports.clock.now_s)
        changed = self.twin.physics.settings_changed

        def watched() -> None:
            self.deepest_mv = min(self.deepest_mv, *self.twin.state.offsets_mv)
            changed()

        self.twin.physics.settings_changed = watched

    @property
    def profiles(self) -> ProfileEngine:
        assert isinstance(self.engine.profiles, ProfileEngine)
        return self.engine.profiles

    def close(self) -> None:
        """End in order."""
        self.engine.close()

    def kill(self) -> None:
        """End without a word: what the kernel would let go of is let go, and nothing else is done."""
        self.engine._lock.release()
        self.twin.save()

    def cut_power(self) -> None:
        self.outside.restart()
        self.kill()

    def restart(self) -> None:
        """Shut down in order, and start again."""
        self.shared.note_shutdown()
        self.close()
        self.twin.physics.restart()
        self.twin.save()
        self.open()

    def wait(self, seconds: float) -> None:
        """Let time pass as a service would: woken when something is due, and at once when told of a change."""
        until = self.ports.clock.now_s() + seconds
        while (now := self.ports.clock.now_s()) < until - 1e-6:
            _, due_s = self.shared.reconcile_all()
            due_s = min(due_s, ORPHAN_S) if self.shared.orphaned else due_s
            self.ports.clock.wait_until(min(until, now + max(0.05, due_s)))
        self.shared.reconcile_all()

    def values(self) -> dict[str, float | str]:
        return self.engine.current_values()

    @property
    def status(self):
        return self.profiles.status()
