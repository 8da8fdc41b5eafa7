"""Who this process is, on whose behalf root runs it, and whether a folder or file can be changed by somebody else."""

import os
import pwd
import stat
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from upright_bolt.errors import BoltError

ROOT = 0
CALLED_BY = ("SUDO_UID", "PKEXEC_UID")
"""Variables in which the programs that make somebody root leave who that was."""


def is_root() -> bool:
    """Tell whether this process has root's rights."""
    return os.geteuid() == ROOT


def user_words(uid: int) -> str:
    """Return who a user is: name, or number."""
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return f"user {uid}"


@dataclass(frozen=True, slots=True)
class Person:
    """A user as the system knows them."""

    uid: int
    gid: int
    name: str
    home: str


def caller(environment: Mapping[str, str] | None = None) -> Person | None:
    """Return on whose behalf root runs this process; None if this is not root, or root itself called.

    Args:
        environment: this process' own by default.

    Raises:
        BoltError: the variable names nobody.
    """
    if not is_root():
        return None
    given = os.environ if environment is None else environment
    for variable in CALLED_BY:
        text = given.get(variable)
        if not text:
            continue
        try:
            found = pwd.getpwuid(int(text))
        except (ValueError, KeyError, OverflowError) as fault:
            raise BoltError(f"{variable} is “{text[:20]}”, which is no user of this computer.") from fault
        return None if found.pw_uid == ROOT else Person(found.pw_uid, found.pw_gid, found.pw_name, found.pw_dir)
    return None


def become(person: Person) -> None:
    """Give up root's rights for good: this process, and what it starts and writes, is ``person``'s from now on.

    Raises:
        BoltError: the system does not allow it.
    """
    try:
        os.setgroups(os.getgrouplist(person.name, person.gid))
        os.setresgid(person.gid, person.gid, person.gid)
        os.setresuid(person.uid, person.uid, person.uid)
    except OSError as fault:
        raise BoltError(f"The rights of root cannot be given up: {fault.strerror}. Nothing was done.") from fault
    for variable in (*CALLED_BY, "SUDO_GID", "SUDO_USER", "SUDO_COMMAND", "XDG_RUNTIME_DIR"):
        os.environ.pop(variable, None)
    os.environ.update(HOME=person.home, USER=person.name, LOGNAME=person.name)


def make_private(folder: Path) -> None:
    """Make a folder that nobody else can open, or check that one is this user's own.

    Raises:
        BoltError: it belongs to somebody else, or somebody else could put another in its place.
        OSError: it cannot be made.
    """
    if not folder.is_dir():
        folder.parent.mkdir(parents=True, exist_ok=True)
        folder.mkdir(mode=0o700, exist_ok=True)
    check_own(folder)
    if folder.stat().st_mode & 0o077:
        with suppress(OSError):  # a disk that can only be read
            folder.chmod(0o700)


def check_own(path: Path) -> None:
    """Check that nobody else could have written a file or folder, or put it in its place.

    Root trusts what is root's alone; a user trusts root and themselves, and their own group.

    Raises:
        BoltError: somebody else could have; the sentence says who.
        OSError: there is no such file.
    """
    me = os.geteuid()
    found = path.stat()
    if found.st_uid != me:
        raise BoltError(
            f"{path} belongs to {user_words(found.st_uid)}, so what it holds is not trusted. "
            "Name another folder with --data, or start the program as that user."
        )
    if writers := _writers(found):
        raise BoltError(f"{path} can be changed by {writers}, so what it holds is not trusted.")
    for above in path.resolve().parents:
        there = above.stat()
        writers = "" if there.st_mode & stat.S_ISVTX else _writers(there)
        if there.st_uid not in (ROOT, me):
            writers = user_words(there.st_uid)
        if writers:
            raise BoltError(
                f"{above} can be changed by {writers}, so what lies below it is not trusted. "
                "Name another folder with --data."
            )


def _writers(found: os.stat_result) -> str:
    """Return who else may write, in a word; empty for nobody."""
    if found.st_mode & stat.S_IWOTH:
        return "everybody"
    if is_root() and found.st_mode & stat.S_IWGRP and found.st_gid != ROOT:
        return "a group of users"
    return ""
