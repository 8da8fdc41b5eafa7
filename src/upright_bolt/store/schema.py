"""Bringing a run database to the present version."""

from pathlib import Path

from sqlalchemy import Connection, inspect, text

from upright_bolt.errors import BoltError

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
