"""First version: runs, telemetry, slices, errors, events."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    op.create_table(
        "runs",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("machine", sa.String, nullable=False),
        sa.Column("workload", sa.String, nullable=False),
        sa.Column("label", sa.String, nullable=False),
        sa.Column("started_at", sa.String, nullable=False),
        sa.Column("asked_s", sa.Float, nullable=False),
        sa.Column("identity", sa.String, nullable=False),
        sa.Column("settings", sa.String, nullable=False),
        sa.Column("tried", sa.String, nullable=False),
        sa.Column("conditions", sa.String, nullable=False),
        sa.Column("columns", sa.String, nullable=False),
        sa.Column("state", sa.String, nullable=False),
        sa.Column("why", sa.String, nullable=False),
        sa.Column("duration_s", sa.Float, nullable=False),
        sa.Column("score", sa.Float),
        sa.Column("numbers", sa.String, nullable=False),
        sqlite_autoincrement=True,
    )
    op.create_index("runs_by_machine", "runs", ["machine", "state"])
    op.create_table(
        "telemetry",
        sa.Column("run_id", sa.Integer, sa.ForeignKey("runs.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("part", sa.Integer, primary_key=True),
        sa.Column("rows", sa.Integer, nullable=False),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )
    op.create_table(
        "slices",
        sa.Column("run_id", sa.Integer, sa.ForeignKey("runs.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("from_s", sa.Float, primary_key=True),
        sa.Column("to_s", sa.Float, nullable=False),
        sa.Column("units", sa.Float, nullable=False),
        sa.Column("score", sa.Float, nullable=False),
    )
    for name, columns in (
        ("errors", (("cpu", sa.Integer), ("block", sa.String), ("what", sa.String))),
        ("events", (("kind", sa.String), ("text", sa.String))),
    ):
        op.create_table(
            name,
            sa.Column("id", sa.Integer, primary_key=True),
            sa.Column("run_id", sa.Integer, sa.ForeignKey("runs.id", ondelete="CASCADE"), nullable=False, index=True),
            sa.Column("time_s", sa.Float, nullable=False),
            *(sa.Column(column, kind, nullable=False) for column, kind in columns),
        )
