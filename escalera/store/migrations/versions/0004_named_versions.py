"""Named versions of a song: why one was kept, and when."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.add_column("versions", sa.Column("reason", sa.Text, nullable=False, server_default=""))
    op.add_column("versions", sa.Column("created_at", sa.DateTime))
