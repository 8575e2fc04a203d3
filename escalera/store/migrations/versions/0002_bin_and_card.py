"""The bin, and the small picture of a song that the shelf shows."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.add_column("songs", sa.Column("deleted_at", sa.DateTime))
    op.add_column("songs", sa.Column("card", sa.Text, nullable=False, server_default="{}"))
