"""Repeats share a series; a person can add a note and measures of their own to a run."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    for name, empty in (("series", ""), ("note", ""), ("measures", "{}")):
        op.add_column("runs", sa.Column(name, sa.String, nullable=False, server_default=empty))
