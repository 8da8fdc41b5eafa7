"""The folder of profiles and the file of rules beside it. A file edited by hand is noticed; a broken one is named."""

import os
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from upright_bolt.disk import read_bounded, sync_folder, write_atomically
from upright_bolt.errors import BadInput, BoltError, NotFound
from upright_bolt.model.profile import MOST_BYTES, STOCK, Profile, check_name
from upright_bolt.model.rule import Rules
from upright_bolt.privileges import check_own
from upright_bolt.sanitize import printable
from upright_bolt.text.enforcement import no_such_profile
from upright_bolt.text.rules import MOST_BYTES as MOST_RULE_BYTES
from upright_bolt.text.rules import parse_rules

MOST_PROFILES = 64
END = ".toml"
RULES = "rules.txt"
_Marks = tuple[tuple[str, int, int, int, int], ...]
"""Name, times, size and number of every file and folder, and who may write above them: when these are the same, so is
what counts."""


@dataclass(frozen=True, slots=True)
class Found:
    """What lies in the folder.

    Attributes:
        profiles: those that can be used, by name.
        broken: why others cannot, by name of the file.
        rules: the rules; none while their file is broken.
        rules_text: the text of their file.
        rules_broken: why it cannot be used; empty if it can.
    """

    profiles: Mapping[str, Profile] = field(default_factory=dict)
    broken: Mapping[str, str] = field(default_factory=dict)
    rules: Rules = field(default_factory=Rules)
    rules_text: str = ""
    rules_broken: str = ""


class ProfileFolder:
    """Profiles and rules of one machine.

    Args:
        path: the folder in which profiles and rules lie; made when something is saved.

    Attributes:
        known: what ``found`` returned last.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._marks: _Marks | None = None
        self.known = Found()

    @property
    def profiles_path(self) -> Path:
        """The folder of the profiles' files."""
        return self.path / "profiles"

    def found(self) -> Found:
        """Return what lies there; read anew only if something has changed."""
        marks = self._look()
        if marks != self._marks:
            self.known, self._marks = self._read(), marks
        return self.known

    def _look(self) -> _Marks:
        marks = []
        for path in (*self._files(), self.path / RULES, self.profiles_path, self.path):
            try:
                # Of a link itself: what it leads to is never read.
                seen = path.lstat()
            except OSError:
                continue
            marks.append((path.name, seen.st_mtime_ns, seen.st_ctime_ns, seen.st_size, seen.st_ino))
        # Whoever may write a folder above could put another folder in this one's place.
        for above in self.path.parents:
            with suppress(OSError):
                seen = above.stat()
                marks.append((str(above), seen.st_mode, seen.st_uid, seen.st_gid, seen.st_ino))
        return tuple(marks)

    def _files(self) -> list[Path]:
        try:
            names = sorted(entry.name for entry in os.scandir(self.profiles_path) if entry.name.endswith(END))
        except OSError:
            return []
        return [self.profiles_path / name for name in names if not name.startswith(".")]

    def _read(self) -> Found:
        profiles: dict[str, Profile] = {}
        broken: dict[str, str] = {}
        for path in self._files():
            name = printable(path.name)
            try:
                # Bounded, as every look plans each of them.
                if len(profiles) >= MOST_PROFILES:
                    raise BadInput(f"{MOST_PROFILES} profiles are the most; this one is one too many.")
                profile = _profile(path.name.removesuffix(END), _text(path, MOST_BYTES))
                profiles[profile.name] = profile
            except BoltError as fault:
                broken[name] = str(fault)
        try:
            text = _text(self.path / RULES, MOST_RULE_BYTES)
            return Found(profiles, broken, parse_rules(text), text)
        except NotFound:
            return Found(profiles, broken)
        except BoltError as fault:
            return Found(profiles, broken, rules_broken=str(fault))

    def text(self, name: str) -> str:
        """Return the text of a profile's file, whether or not it is sound. Raises NotFound or BadInput."""
        return _text(self._path_of(name), MOST_BYTES)

    def _path_of(self, name: str) -> Path:
        path = self.profiles_path / f"{check_name(name)}{END}"
        if not path.is_file():
            raise NotFound(self.no_such(name))
        return path

    def no_such(self, name: str) -> str:
        """Return the sentence for a name that no profile has."""
        return no_such_profile(name, self.found().profiles)

    def save(self, name: str, text: str) -> Profile:
        """Check a profile's text and make it the file of ``name``.

        Raises:
            BadInput: the text is no profile, or there are too many.
            BoltError: it cannot be written.
        """
        profile = _profile(name, text)
        there = self.found().profiles
        if profile.name not in there and len(there) >= MOST_PROFILES:
            raise BadInput(f"There are {MOST_PROFILES} profiles, which is the most; delete one first.")
        write_atomically(self.profiles_path / f"{profile.name}{END}", text.encode())
        return profile

    def delete(self, name: str) -> None:
        """Delete a profile's file. Raises NotFound or BadInput; BadInput too while a rule names it."""
        path = self._path_of(name)
        # A rule without its profile would leave the machine as it is, and tell so in the log alone.
        if check_name(name) in self.found().rules.profiles():
            raise BadInput(f"A rule uses the profile {name}; change the rules first.")
        try:
            path.unlink()
            sync_folder(path.parent)
        except OSError as fault:
            raise BoltError(f"{path} cannot be written: {fault.strerror}.") from fault

    def save_rules(self, text: str) -> Rules:
        """Check rules and make them those that count. Raises BadInput, also for a profile that is not there."""
        rules = parse_rules(text)
        there = self.found().profiles
        unknown = [name for name in rules.profiles() if name not in there and name != STOCK]
        if unknown:
            raise BadInput(self.no_such(unknown[0]))
        write_atomically(self.path / RULES, text.encode())
        return rules


def _profile(name: str, text: str) -> Profile:
    from upright_bolt.profiles.text import profile_of

    return profile_of(name, text)


def _text(path: Path, most: int) -> str:
    """Return the text of a file that nobody else could have put there. Raises NotFound, BadInput or BoltError."""
    try:
        # Checked before the owner, who of a link would be that of its target.
        if path.is_symlink():
            raise BadInput("It is a link, so what it holds is not trusted.")
        check_own(path)
        data = read_bounded(path, most)
    except FileNotFoundError as fault:
        raise NotFound(f"There is no file {path}.") from fault
    except OSError as fault:
        raise BoltError(f"It cannot be read: {fault.strerror}.") from fault
    try:
        return data.decode()
    except UnicodeDecodeError as fault:
        raise BadInput(f"It is not text in UTF-8 (byte {fault.start}).") from fault
