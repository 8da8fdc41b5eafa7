"""What a run is for in its series."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.add_column("runs", sa.Column("role", sa.String, nullable=False, server_default=""))
