"""Events are kept as typed data; a run remembers the boot it ran in."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.add_column("runs", sa.Column("boot_id", sa.String, nullable=False, server_default=""))
    op.add_column("events", sa.Column("data", sa.String, nullable=False, server_default=""))
