"""Runs that were made as repeats of each other share a series."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.add_column("runs", sa.Column("series", sa.String, nullable=False, server_default=""))
