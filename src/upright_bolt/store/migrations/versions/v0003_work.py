"""What was asked of a workload, a key that goes with a copied run, and what a core was at when it erred."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    for name, empty in (("options", "{}"), ("key", "")):
        op.add_column("runs", sa.Column(name, sa.String, nullable=False, server_default=empty))
    for name in ("temp_c", "clock_mhz", "voltage_v"):
        op.add_column("errors", sa.Column(name, sa.Float))
