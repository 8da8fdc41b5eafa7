"""JsonCodec data in files and out of them again: one form for all, and one way to write a file.

Every file says what it is and in which version. What it holds is checked against its type when it is read, so that a
damaged file, or one of a stranger, is an error with a sentence and never a surprise later on.
"""

import io
import json
import os
import stat
import tempfile
from collections.abc import Collection, Iterator
from contextlib import contextmanager, suppress
from dataclasses import fields, is_dataclass
from hashlib import blake2b
from pathlib import Path
from types import UnionType
from typing import IO, Any, Generic, TypeVar, get_args, get_type_hints

import msgspec

from upright_bolt.errors import BadInput, BoltError, CorruptData
from upright_bolt.sanitize import printable, small

T = TypeVar("T")


class JsonCodec(Generic[T]):
    """Values of one type as JSON.

    Args:
        form: the type: a dataclass, a tuple, list or dict of such, or several dataclasses told apart by the one word
            that their field ``kind`` can hold.
    """

    def __init__(self, form: Any) -> None:  # noqa: ANN401 - any type that msgspec can check
        self._form = form
        kinds = [member for member in get_args(form) if is_dataclass(member)] if isinstance(form, UnionType) else []
        self._by_kind = {word: member for member in kinds for word in get_args(get_type_hints(member)["kind"])}

    def plain(self, value: T) -> Any:  # noqa: ANN401 - what JSON can hold
        """Return a value as plain data."""
        return msgspec.to_builtins(value)

    def text(self, value: T) -> str:
        """Return a value as JSON."""
        return msgspec.json.encode(value).decode()

    def from_plain(self, data: Any) -> T:  # noqa: ANN401 - what JSON can hold
        """Return the value of plain data. Raises CorruptData; the sentence says at which part."""
        form = self._form
        if self._by_kind:
            kind = data.get("kind") if isinstance(data, dict) else None
            form = self._by_kind.get(kind) if isinstance(kind, str) else None
            if form is None:
                raise CorruptData("at kind: none that is known here")
        with _as_damaged():
            made: T = msgspec.convert(data, form)
            return made

    def from_text(self, text: str | bytes) -> T:
        """Return the value of JSON. Raises CorruptData; the sentence says at which part."""
        with _as_damaged():
            if not self._by_kind:
                return msgspec.json.decode(text, type=self._form)  # type: ignore[no-any-return]
            data = msgspec.json.decode(text)
        return self.from_plain(data)


@contextmanager
def _as_damaged() -> Iterator[None]:
    try:
        yield
    except msgspec.DecodeError as fault:
        what, _, place = str(fault).replace("`", "").partition(" - at ")
        at = place.removeprefix("$").removeprefix(".")
        raise CorruptData((f"at {at}: " if at else "") + small(what)) from fault
    except RecursionError as fault:
        raise CorruptData("it is nested too deeply") from fault


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
        CorruptData: a number is not finite or larger than 1e18, a text is too long or holds control characters, it is
            nested too deeply, or it has too many parts.
    """
    room = MOST_PARTS
    level: list[object] = [value]
    for _ in range(DEEPEST):
        room -= len(level)
        if room < 0:
            raise CorruptData("it has too many parts")
        below: list[object] = []
        for part in level:
            below += _parts(part)
        if not below:
            return
        level = below
    raise CorruptData("it is nested too deeply")


def _parts(value: object) -> Collection[object]:
    if isinstance(value, str):
        if len(value) > LONGEST_TEXT:
            raise CorruptData(f"a text of {len(value)} characters, where {LONGEST_TEXT} are the most")
        if printable(value) != value:
            raise CorruptData("a text with control characters")
        return ()
    if isinstance(value, float | int):
        if not -LARGEST <= value <= LARGEST:  # not a number is in no order, so it is caught as well
            raise CorruptData(f"the number {str(value)[:24]}")
        return ()
    if isinstance(value, dict):
        return (*value, *value.values())
    if isinstance(value, list | tuple):
        return value
    if is_dataclass(value):
        return [getattr(value, part.name) for part in fields(value)]
    return ()


class Document(Generic[T]):
    """One value in a file of its own: ``{"format": …, "version": …, "check": …, "data": …}``.

    The checksum covers format, version and data, so that a flipped bit is damage and never another value.

    Args:
        path: the file.
        name: what it holds, as its ``format`` says.
        version: of what this program writes; it reads this one and earlier ones.
        form: the value's type.
        durable: whether a save waits until the disk has it.
    """

    def __init__(self, path: Path, name: str, version: int, form: JsonCodec[T], *, durable: bool = True) -> None:
        self.path = path
        self._name = name
        self._version = version
        self._form = form
        self._durable = durable

    def load(self) -> T | None:
        """Return the value; None if there is no file.

        Raises:
            CorruptData: the file holds something else, is damaged, or is of a newer version.
        """
        try:
            data: Any = json.loads(read_bounded(self.path, MOST_BYTES))
        except FileNotFoundError:
            return None
        except (OSError, ValueError, RecursionError, BoltError) as fault:
            raise CorruptData(f"{self.path} cannot be read: {fault}.") from fault
        content = self._content(data)
        try:
            value = self._form.from_plain(content)
            _check_no_more(content, self._form.plain(value))
        except CorruptData as fault:
            raise CorruptData(f"{self.path} is damaged ({fault}).") from fault
        return value

    def _content(self, data: Any) -> Any:  # noqa: ANN401 - whatever the file holds
        """Return what a file holds, without its envelope. Raises CorruptData."""
        if not isinstance(data, dict):
            raise CorruptData(f"{self.path} is damaged: it holds no object.")
        if not {"format", "version", "data"} <= data.keys():
            raise CorruptData(f"{self.path} is damaged: it does not say what it holds.")
        if data["format"] != self._name or not isinstance(data["version"], int):
            raise CorruptData(f"{self.path} holds “{str(data['format'])[:40]}” where {self._name} was expected.")
        if data["version"] > self._version:
            raise CorruptData(f"{self.path} was written by a newer version of this program.")
        if data.keys() != {"format", "version", "check", "data"} or data["check"] != self._check(
            data["version"], data["data"]
        ):
            raise CorruptData(f"{self.path} is damaged: its checksum is not that of its content.")
        return data["data"]

    def _check(self, version: int, data: Any) -> str:  # noqa: ANN401 - what JSON can hold
        text = json.dumps([self._name, version, data], ensure_ascii=False)
        return blake2b(text.encode(errors="surrogatepass"), digest_size=8).hexdigest()

    def save(self, value: T) -> None:
        """Write the value, so that a crash leaves either the old or the new one. Raises BoltError."""
        plain = json.loads(json.dumps(self._form.plain(value)))  # keys as text, as they are when it is read again
        data = {"format": self._name, "version": self._version, "check": self._check(self._version, plain),
                "data": plain}  # fmt: skip
        write_atomically(self.path, json.dumps(data, ensure_ascii=False).encode(), durable=self._durable, mode=0o600)


def _check_no_more(data: Any, known: Any) -> None:  # noqa: ANN401 - what JSON can hold
    """Raise CorruptData if data has a key that its type does not: what it would mean is not known here."""
    if isinstance(data, dict) and isinstance(known, dict):
        extra = data.keys() - known.keys()
        if extra:
            raise CorruptData(f"the unknown key “{printable(str(min(extra)))[:40]}”")
        for key, value in data.items():
            _check_no_more(value, known[key])
    elif isinstance(data, list) and isinstance(known, list | tuple):
        for value, inner in zip(data, known, strict=False):
            _check_no_more(value, inner)


def read_given(path: Path, most: int) -> bytes:
    """Return the content of a file that a person named. Raises BadInput if it cannot be read, as ``read_bounded``."""
    try:
        return read_bounded(path, most)
    except OSError as fault:
        raise BadInput(f"{path} cannot be read: {fault.strerror}.") from fault


def read_bounded(path: Path, most: int) -> bytes:
    """Return the content of a regular file; a pipe, a device or a folder is refused at once, without waiting for it.

    Args:
        path: the file.
        most: bytes it may have.

    Raises:
        BadInput: it is no regular file, or longer.
        OSError: it cannot be opened or read.
    """
    handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC)
    try:
        found = os.fstat(handle)
        if not stat.S_ISREG(found.st_mode):
            raise BadInput(f"{path} is not a regular file.")
        if found.st_size > most:
            raise BadInput(f"{path} is {found.st_size:,} bytes long; at most {most:,} are accepted.")
        with os.fdopen(os.dup(handle), "rb") as file:
            data = file.read(most + 1)
    finally:
        os.close(handle)
    if len(data) > most:
        raise BadInput(f"{path} is longer than {most:,} bytes.")
    return data


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
    """Open a file that a person named, to be written as text. Raises BoltError if it cannot be."""
    with writing_bytes(path) as raw, io.TextIOWrapper(raw, newline="", encoding="utf-8") as file:
        yield file


@contextmanager
def writing_bytes(path: Path) -> Iterator[IO[bytes]]:
    """Open a file that a person named, to be written.

    A pipe that nobody reads is an error at once, instead of a wait without end.

    Raises:
        BoltError: it cannot be written.
    """
    try:
        handle = os.open(
            path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC, 0o666
        )
        os.set_blocking(handle, True)
        with os.fdopen(handle, "wb") as file:
            yield file
    except OSError as fault:
        raise BoltError(f"{path} cannot be written: {fault.strerror}.") from fault
