"""The database's file: where it lies, how it is opened, whose turn it is to write, and its faults as sentences."""

import os
import sqlite3
import time
from pathlib import Path
from typing import Any
from urllib.parse import quote

from sqlalchemy import Connection, Engine, ExceptionContext, create_engine, inspect, text
from sqlalchemy import event as database_events

from upright_bolt.errors import BoltError
from upright_bolt.privileges import check_own

WORDS = {
    sqlite3.SQLITE_READONLY: "it can only be read here",
    sqlite3.SQLITE_FULL: "its disk is full",
    sqlite3.SQLITE_NOTADB: "it is no database",
    sqlite3.SQLITE_CORRUPT: "it is damaged",
}
PATIENCE_S = 60.0
"""How long a program waits for its turn to write."""


def open_database(path: Path) -> Engine:
    """Return the database; its file is made at first use. Raises BoltError if its folder cannot be used."""
    _prepare_folder(path)
    engine = create_engine(_address(path), connect_args={"timeout": PATIENCE_S})
    database_events.listen(engine, "connect", _prepare)
    # The driver's own BEGIN would take the lock with the first write, where it fails instead of waiting (SQLite,
    # “BEGIN IMMEDIATE”).
    database_events.listen(engine, "begin", _begin)
    database_events.listen(engine, "handle_error", _Sentence(path))
    return engine


def _prepare_folder(path: Path) -> None:
    """Make the database's folder; none is used that somebody else could have written. Raises BoltError."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        check_own(path.parent)
        if path.exists():
            check_own(path)
    except OSError as fault:
        raise BoltError(f"{path.parent} cannot be made: {fault.strerror}.") from fault


def _address(path: Path) -> str:
    """Return the database's address; one on a disk that can only be read is opened as a file that nobody changes."""
    if path.exists() and not os.access(path.parent, os.W_OK):
        return f"sqlite:///file:{quote(str(path))}?mode=ro&immutable=1&uri=true"
    return f"sqlite:///{path}"


def _prepare(connection: Any, _: object) -> None:  # noqa: ANN401 - the driver's own connection
    connection.isolation_level = None  # the driver would commit before each change of the schema
    # FULL: a run that is told as kept survives a power cut. Foreign keys: deleting a run deletes what belongs to it.
    for pragma in ("synchronous=FULL", "foreign_keys=ON"):
        connection.execute(f"PRAGMA {pragma}")
    _to_write_ahead(connection)


def _to_write_ahead(connection: Any) -> None:  # noqa: ANN401 - the driver's own connection
    """Let readers and a writer go on beside each other. SQLite does not wait for its turn here by itself.

    On a disk that can only be read it stays as it is.
    """
    until = time.monotonic() + PATIENCE_S
    while True:
        try:
            connection.execute("PRAGMA journal_mode=WAL")
        except sqlite3.OperationalError as fault:
            if fault.sqlite_errorcode == sqlite3.SQLITE_READONLY:
                return
            if fault.sqlite_errorcode not in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED) or time.monotonic() > until:
                raise
            time.sleep(0.02)
        else:
            return


def _begin(connection: Connection) -> None:
    immediate = connection.get_execution_options().get("immediate", False)
    connection.exec_driver_sql("BEGIN IMMEDIATE" if immediate else "BEGIN")


class _Sentence:
    """Turns the database's errors (disk full, damaged, not writable) into ours."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def __call__(self, context: ExceptionContext) -> None:
        if isinstance(context.original_exception, sqlite3.Error):
            what = WORDS.get(
                getattr(context.original_exception, "sqlite_errorcode", 0), str(context.original_exception)
            )
            raise BoltError(f"The run database {self._path} cannot be used: {what}.") from context.original_exception


NEWEST = "0006"


def is_current(connection: Connection) -> bool:
    """Tell whether the tables are those of this version."""
    return _version(connection) == NEWEST


def upgrade(connection: Connection) -> None:
    """Create or bring up the tables; Alembic is loaded only if there is something to do.

    Raises:
        BoltError: the database was written by another version of this program.
    """
    version = _version(connection)
    if version == NEWEST:
        return
    if version is not None:
        raise BoltError(
            "The run database was written by a newer version of this program, or before its first release; it is left "
            "untouched."
        )
    from alembic import command  # noqa: PLC0415 - loaded only when the database is new or old
    from alembic.config import Config  # noqa: PLC0415 - same

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["connection"] = connection
    command.upgrade(config, "head")


def _version(connection: Connection) -> str | None:
    if not inspect(connection).has_table("alembic_version"):
        return None
    row = connection.execute(text("SELECT version_num FROM alembic_version")).first()
    return None if row is None else str(row[0])
