"""The first release's tables. Databases made shortly before it carry this number already, and open as they are."""

from alembic import op

from upright_bolt.store.tables import metadata

revision = "0006"
down_revision = None


def upgrade() -> None:
    metadata.create_all(op.get_bind())
