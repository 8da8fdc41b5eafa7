"""A checksum of every run that has ended, with its slices and errors: a flipped bit is no evidence."""

import sqlalchemy as sa
from alembic import op

from upright_bolt.store.seals import seal_all

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.add_column("runs", sa.Column("seal", sa.String, nullable=False, server_default=""))
    seal_all(op.get_bind())
