"""Typed data in files and out of them again: one form for all, and one way to write a file.

Every file says what it is and in which version. What it holds is checked against its type when it is read, so that a
damaged file, or one of a stranger, is an error with a sentence and never a surprise later on.
"""

import json
import os
import tempfile
from collections.abc import Callable, Collection, Iterator
from contextlib import contextmanager, suppress
from dataclasses import fields, is_dataclass
from functools import cached_property
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any, Generic, TypeVar

from upright_bolt.errors import BoltError, Damaged
from upright_bolt.plain_text import printable

if TYPE_CHECKING:
    from pydantic import TypeAdapter

T = TypeVar("T")
Upgrade = Callable[[int, Any], Any]
"""Turns plain data of an earlier version into that of the present one. Version 0 is a file from before versions."""


class Typed(Generic[T]):
    """Values of one type as JSON. The type's checks are built at first use.

    Args:
        form: the type: a dataclass, or a tuple, list or dict of such.
    """

    def __init__(self, form: Any) -> None:  # noqa: ANN401 - any type that pydantic can check
        self._form = form

    @cached_property
    def _adapter(self) -> "TypeAdapter[T]":
        from pydantic import TypeAdapter  # noqa: PLC0415 - a fifth of the time that a short command takes

        return TypeAdapter(self._form)

    def plain(self, value: T) -> Any:  # noqa: ANN401 - what JSON can hold
        """Return a value as plain data."""
        return self._adapter.dump_python(value, mode="json", warnings=False)

    def text(self, value: T) -> str:
        """Return a value as JSON."""
        return self._adapter.dump_json(value, warnings=False).decode()  # an int where a float is meant is right

    def from_plain(self, data: Any) -> T:  # noqa: ANN401 - what JSON can hold
        """Return the value of plain data. Raises Damaged; the sentence says at which part."""
        with _as_damaged():
            return self._adapter.validate_python(data)

    def from_text(self, text: str | bytes) -> T:
        """Return the value of JSON. Raises Damaged; the sentence says at which part."""
        with _as_damaged():
            return self._adapter.validate_json(text)


@contextmanager
def _as_damaged() -> Iterator[None]:
    from pydantic import ValidationError  # noqa: PLC0415 - needed here only, and already imported

    try:
        yield
    except ValidationError as fault:
        first = fault.errors()[0]
        at = ".".join(str(part) for part in first["loc"])
        raise Damaged((f"at {at}: " if at else "") + first["msg"]) from fault


MOST_BYTES = 16 << 20
"""Of a document; what is longer was not written by this program."""
LONGEST_TEXT = 4096
MOST_PARTS = 500_000
DEEPEST = 16
LARGEST = 1e18


def csv_cell(value: object) -> object:
    """Return a cell that no spreadsheet takes for a formula: text that begins as one does gets an apostrophe.

    Numbers, as numbers or as text, stay what they are.
    """
    if value is None:
        return ""
    if not isinstance(value, str) or not value.startswith(("=", "+", "-", "@", "\t", "\r", "\n")):
        return value
    try:
        float(value)
    except ValueError:
        return f"'{value}"
    return value


def bounded(value: object) -> None:
    """Check that data from a file is of a sane size all through, whatever its type.

    Args:
        value: a dataclass, or what JSON can hold.

    Raises:
        Damaged: a number is not finite or larger than 1e18, a text is too long or holds control characters, it is
            nested too deeply, or it has too many parts.
    """
    room = MOST_PARTS
    level: list[object] = [value]
    for _ in range(DEEPEST):
        room -= len(level)
        if room < 0:
            raise Damaged("it has too many parts")
        below: list[object] = []
        for part in level:
            below += _parts(part)
        if not below:
            return
        level = below
    raise Damaged("it is nested too deeply")


def _parts(value: object) -> Collection[object]:
    if isinstance(value, str):
        if len(value) > LONGEST_TEXT:
            raise Damaged(f"a text of {len(value)} characters, where {LONGEST_TEXT} are the most")
        if printable(value) != value:
            raise Damaged("a text with control characters")
        return ()
    if isinstance(value, float | int):
        if not -LARGEST <= value <= LARGEST:  # not a number is in no order, so it is caught as well
            raise Damaged(f"the number {str(value)[:24]}")
        return ()
    if isinstance(value, dict):
        return (*value, *value.values())
    if isinstance(value, list | tuple):
        return value
    if is_dataclass(value):
        return [getattr(value, part.name) for part in fields(value)]
    return ()


class Document(Generic[T]):
    """One value in a file of its own: ``{"format": …, "version": …, "data": …}``.

    Args:
        path: the file.
        name: what it holds, as its ``format`` says.
        version: of what this program writes; it reads this one and earlier ones.
        form: the value's type.
        upgrade: turns data of earlier versions into the present form; None if there were none.
        durable: whether a save waits until the disk has it.
    """

    def __init__(
        self,
        path: Path,
        name: str,
        version: int,
        form: Typed[T],
        *,
        upgrade: Upgrade | None = None,
        durable: bool = True,
    ) -> None:
        self.path = path
        self._name = name
        self._version = version
        self._form = form
        self._upgrade = upgrade
        self._durable = durable

    def load(self) -> T | None:
        """Return the value; None if there is no file.

        Raises:
            Damaged: the file holds something else, is damaged, or is of a newer version.
        """
        try:
            with self.path.open("rb") as file:
                text = file.read(MOST_BYTES + 1)
            data: Any = json.loads(text) if len(text) <= MOST_BYTES else None
        except FileNotFoundError:
            return None
        except (OSError, ValueError, RecursionError) as fault:
            raise Damaged(f"{self.path} cannot be read: {fault}.") from fault
        version = self._version_of(data)
        content = data["data"] if version else data
        if version < self._version and self._upgrade is not None:
            content = self._upgrade(version, content)
        try:
            return self._form.from_plain(content)
        except Damaged as fault:
            raise Damaged(f"{self.path} is damaged ({fault}).") from fault

    def _version_of(self, data: Any) -> int:  # noqa: ANN401 - whatever the file holds
        """Return the version of a file's content; 0 for one from before versions. Raises Damaged."""
        if not isinstance(data, dict):
            raise Damaged(f"{self.path} is damaged: it holds no object.")
        if not {"format", "version", "data"} <= data.keys():
            return 0
        if data["format"] != self._name or not isinstance(data["version"], int):
            raise Damaged(f"{self.path} holds “{str(data['format'])[:40]}” where {self._name} was expected.")
        if data["version"] > self._version:
            raise Damaged(f"{self.path} was written by a newer version of this program.")
        return data["version"]

    def save(self, value: T) -> None:
        """Write the value, so that a crash leaves either the old or the new one. Raises BoltError."""
        data = {"format": self._name, "version": self._version, "data": self._form.plain(value)}
        write_atomically(self.path, json.dumps(data, ensure_ascii=False).encode(), durable=self._durable, mode=0o600)


def write_atomically(path: Path, data: bytes, *, durable: bool = True, mode: int = 0o644) -> None:
    """Write a file so that a crash leaves either the old or the new one; folders are made.

    Args:
        path: the file.
        data: its content.
        durable: whether to wait until the disk has it.
        mode: its permissions, whatever the umask.

    Raises:
        BoltError: it cannot be written.
    """
    part = ""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, part = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fchmod(file.fileno(), mode)
            if durable:
                os.fsync(file.fileno())
        os.replace(part, path)  # noqa: PTH105 - atomic by definition
        if durable:
            sync_folder(path.parent)
    except OSError as fault:
        if part:
            with suppress(OSError):
                Path(part).unlink()
        raise BoltError(f"{path} cannot be written: {fault.strerror}.") from fault


def sync_folder(folder: Path) -> None:
    """Wait until the disk has a folder's entries. Raises OSError."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


@contextmanager
def writing(path: Path) -> Iterator[IO[str]]:
    """Open a file that a person asked for, to be written as text. Raises BoltError if it cannot be."""
    try:
        with path.open("w", newline="", encoding="utf-8") as file:
            yield file
    except OSError as fault:
        raise BoltError(f"{path} cannot be written: {fault.strerror}.") from fault
