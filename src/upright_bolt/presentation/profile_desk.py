"""What a person does with profiles, for window and command line alike.

Saving with what speaks for each setting, editing, copying, and carrying them in and out as files.
"""

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

from upright_bolt.analysis.chip import chip_on_board
from upright_bolt.analysis.validation.measured import measured
from upright_bolt.analysis.validation.proofs import proofs_of
from upright_bolt.disk import read_given, write_atomically
from upright_bolt.errors import BadInput, BoltError, NotFound
from upright_bolt.model.control import Control, Value
from upright_bolt.model.hold import EnforcementStatus
from upright_bolt.model.machine import Identity
from upright_bolt.model.profile import MOST_BYTES, STOCK, Profile, check_name
from upright_bolt.model.run import RunRecord
from upright_bolt.model.search import Search
from upright_bolt.profiles.text import profile_of, text_of
from upright_bolt.settings.access import MachineAccess, ProfileAccess
from upright_bolt.text.enforcement import no_such_profile


@dataclass(frozen=True, slots=True)
class Past:
    """What a person's records say of a machine: its runs and its searches."""

    runs: list[RunRecord]
    searches: list[Search]


class ProfileDesk:
    """Profiles of one machine, as a person works with them.

    Args:
        access: the way to the machine.
        machine: its word.
        past: reads what is kept of it.

    Raises:
        BadInput: this machine has no profiles.
    """

    def __init__(self, access: MachineAccess, machine: str, past: Callable[[], Past]) -> None:
        if access.profiles is None:
            raise BadInput("This machine has no profiles.")
        self.profiles: ProfileAccess = access.profiles
        self._identity: Identity = access.about.identity
        self._graphics = {chip.part: chip.ids for chip in access.about.chips}
        self._machine = machine
        self._read_past = past

    @cached_property
    def _past(self) -> Past:
        """What is kept of the machine: read when it is needed, and once."""
        return self._read_past()

    def status(self) -> EnforcementStatus:
        """Return how everything stands. Raises BoltError."""
        return self.profiles.status()

    def get(self, name: str) -> Profile:
        """Return a profile; stock has no settings. Raises NotFound."""
        if name.strip().casefold() == STOCK:
            return Profile(STOCK, {})
        status = self.status()
        found = next((view.profile for view in status.profiles if view.profile.name == name.strip()), None)
        if found is not None:
            return found
        broken_one = status.broken.get(f"{name.strip()}.toml")
        if broken_one:
            raise NotFound(f"The profile {name.strip()} cannot be used: {broken_one}")
        raise NotFound(no_such_profile(name, (view.profile.name for view in status.profiles)))

    def is_there(self, name: str) -> bool:
        """Tell whether a profile of that name can be used."""
        return any(view.profile.name == name.strip() for view in self.status().profiles)

    def save(self, name: str, settings: Mapping[str, Value], note: str = "", *, replacing: bool = False) -> Profile:
        """Save settings as a profile, with what speaks for each.

        Raises:
            BadInput: the name or a setting cannot be, there is nothing to save, or the profile is there already.
            BoltError: it cannot be written.
        """
        name = check_name(name)
        if not settings:
            raise BadInput(
                "Nothing has been changed on this machine, so what is in force is its own values: the profile stock."
            )
        if not replacing and self.is_there(name):
            raise BadInput(f"There is a profile {name} already. Change it with “profile set”, or add --replace.")
        return self._write(Profile(name, dict(settings), note=note), "")

    def set(self, name: str, settings: Mapping[str, Value], without: Collection[str] = ()) -> Profile:
        """Change settings of a profile, and take others out of it. Raises NotFound, BadInput or BoltError."""
        profile = self.get(name)
        earlier = self.profiles.text(profile.name)
        kept = {key: value for key, value in profile.settings.items() if key not in without}
        missing = [key for key in without if key not in profile.settings]
        if missing:
            raise BadInput(f"The profile {profile.name} does not set {', '.join(missing)}.")
        if not {**kept, **settings}:
            raise BadInput(f"The profile {profile.name} would set nothing any more; delete it instead.")
        return self._write(replace(profile, settings={**kept, **settings}), earlier)

    def copy(self, source: str, target: str, only: Collection[str] = ()) -> Profile:
        """Copy a profile, or some of its settings into another one. Raises NotFound, BadInput or BoltError."""
        profile, target = self.get(source), check_name(target)
        missing = [key for key in only if key not in profile.settings]
        if missing or not profile.settings:
            raise BadInput(f"The profile {profile.name} does not set {', '.join(missing) or 'anything'}.")
        if only:
            return self.set(target, {key: profile.settings[key] for key in only})
        if self.is_there(target):
            raise BadInput(f"There is a profile {target} already; copy some settings into it with --only.")
        return self._write(replace(profile, name=target), self.profiles.text(profile.name))

    def copy_into_every(self, source: str, only: Collection[str]) -> list[str]:
        """Copy some settings of a profile into every other one; return their names.

        Raises BadInput if there is no other, or the profile does not set them.
        """
        others = [view.profile.name for view in self.status().profiles if view.profile.name != source]
        if not only or not others:
            raise BadInput("There is no other profile to copy them into." if only else f"{source} sets none of them.")
        for other in others:
            self.copy(source, other, only)
        return others

    def rename(self, name: str, new: str) -> None:
        """Give a profile another name; one that is in force or named by a rule keeps its own.

        Raises NotFound, BadInput or BoltError.
        """
        profile, new = self.get(name), check_name(new)
        if self.is_there(new):
            raise BadInput(f"There is a profile {new} already.")
        self.profiles.save(new, self.profiles.text(profile.name))
        try:
            self.profiles.delete(profile.name)
        except BoltError:
            self.profiles.delete(new)
            raise

    def save_text(self, name: str, text: str) -> Profile:
        """Make an edited text a profile. Raises BadInput or BoltError."""
        return self._write(profile_of(name, text if text.endswith("\n") else f"{text}\n"), text)

    def newest_runs(self, controls: Mapping[str, Control], runs: list[RunRecord]) -> dict[str, int]:
        """Return the newest run of ``steady`` under each profile, stock first; those without one are left out.

        Args:
            controls: as they stand.
            runs: newest first.
        """
        stock = {name: c.stock for name, c in controls.items() if c.settable and c.stock is not None}
        profiles = [Profile(STOCK, stock), *(view.profile for view in self.status().profiles)]
        found = {}
        for profile in profiles:
            numbers = measured(profile.settings, runs, self._machine)
            if "score" in numbers:
                found[profile.name] = numbers["score"][1]
        return found

    def export(self, name: str, path: Path) -> None:
        """Write a profile's file elsewhere. Raises NotFound or BoltError."""
        write_atomically(path, self.profiles.text(self.get(name).name).encode())

    def bring_in(self, name: str, path: Path, *, replacing: bool = False) -> Profile:
        """Make a file a profile of this machine.

        What it says of proofs counts here only where this chip's own runs say so, whatever the file claims.

        Raises:
            BadInput: it is no profile, or there is one of that name.
            BoltError: it cannot be read or written.
        """
        try:
            text = read_given(path, MOST_BYTES).decode()
        except UnicodeDecodeError as fault:
            raise BadInput(f"{path} is not text in UTF-8 (byte {fault.start}).") from fault
        try:
            profile = profile_of(name or path.stem, text)
        except BadInput as fault:
            raise BadInput(f"{path}: {fault}") from fault
        if not replacing and self.is_there(profile.name):
            raise BadInput(f"There is a profile {profile.name} already; give another name, or add --replace.")
        return self._write(profile, text)

    def prove_anew(self) -> list[Profile]:
        """Write into profiles what speaks for them by now; return those that have changed. Raises BoltError."""
        changed = []
        for view in self.status().profiles:
            fresh = self._proven(view.profile)
            if fresh.proofs != view.profile.proofs:
                changed.append(self._write(fresh, self.profiles.text(fresh.name)))
        return changed

    def _proven(self, profile: Profile) -> Profile:
        """Return a profile with what speaks for its settings on this machine now."""
        chip = chip_on_board(self._identity)
        runs = self._past.runs
        found = proofs_of(profile.settings, runs, self._machine, self._identity, chip, self._graphics)
        return replace(profile, proofs=found)

    def _write(self, profile: Profile, earlier: str) -> Profile:
        profile = self._proven(profile)
        self.profiles.save(profile.name, text_of(profile, earlier))
        return profile
