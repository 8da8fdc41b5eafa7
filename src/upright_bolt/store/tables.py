"""The tables of the run database. Changing them takes a new file under ``migrations/versions``."""

from sqlalchemy import Column, Float, ForeignKey, Index, Integer, LargeBinary, MetaData, String, Table

metadata = MetaData()

runs = Table(
    "runs",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("machine", String, nullable=False),
    Column("workload", String, nullable=False),
    Column("label", String, nullable=False),
    Column("started_at", String, nullable=False),
    Column("asked_s", Float, nullable=False),
    Column("identity", String, nullable=False),  # JSON, as are the four below
    Column("settings", String, nullable=False),
    Column("tried", String, nullable=False),
    Column("conditions", String, nullable=False),
    Column("columns", String, nullable=False),
    Column("state", String, nullable=False),
    Column("why", String, nullable=False),
    Column("duration_s", Float, nullable=False),
    Column("score", Float),
    Column("numbers", String, nullable=False),  # JSON
    Column("series", String, nullable=False, server_default=""),
    Column("note", String, nullable=False, server_default=""),
    Column("measures", String, nullable=False, server_default="{}"),  # JSON
    Column("options", String, nullable=False, server_default="{}"),  # JSON
    Column("key", String, nullable=False, server_default=""),
    Column("boot_id", String, nullable=False, server_default=""),
    Column("role", String, nullable=False, server_default=""),
    Column("seal", String, nullable=False, server_default=""),  # checksum of the row with its slices and errors
    Index("runs_by_machine", "machine", "state"),
    sqlite_autoincrement=True,  # a deleted run's number is never given to another
)

telemetry = Table(
    "telemetry",
    metadata,
    Column("run_id", Integer, ForeignKey("runs.id", ondelete="CASCADE"), primary_key=True),
    Column("part", Integer, primary_key=True),
    Column("rows", Integer, nullable=False),
    Column("data", LargeBinary, nullable=False),  # zlib of little-endian float64, row after row: time, columns
)

slices = Table(
    "slices",
    metadata,
    Column("run_id", Integer, ForeignKey("runs.id", ondelete="CASCADE"), primary_key=True),
    Column("from_s", Float, primary_key=True),
    Column("to_s", Float, nullable=False),
    Column("units", Float, nullable=False),
    Column("score", Float, nullable=False),
)

errors = Table(
    "errors",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("run_id", Integer, ForeignKey("runs.id", ondelete="CASCADE"), nullable=False, index=True),
    Column("time_s", Float, nullable=False),
    Column("cpu", Integer, nullable=False),
    Column("block", String, nullable=False),
    Column("what", String, nullable=False),
    Column("temp_c", Float),
    Column("clock_mhz", Float),
    Column("voltage_v", Float),
)

events = Table(
    "events",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("run_id", Integer, ForeignKey("runs.id", ondelete="CASCADE"), nullable=False, index=True),
    Column("time_s", Float, nullable=False),
    Column("kind", String, nullable=False),
    Column("text", String, nullable=False, server_default=""),  # unused: sentences are made from ``data``
    Column("data", String, nullable=False, server_default=""),  # JSON of a ``model.event.Event``
)
